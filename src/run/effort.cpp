// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/effort.h"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "rig/copies.h"

namespace calm::run {

Effort effortOf(const Recording& recording) {
  Effort e;
  // The start took no computing.
  for (std::size_t i = 1; i < recording.size(); ++i) {
    const Residual& r = recording.frame(i).residual;
    e.time.include(r.time);
    e.worst.include(r);
    e.overBudget += r.overBudget;
    e.fallbacks += r.fallbacks;
    e.leastSubsteps = i == 1 ? r.substeps : std::min(e.leastSubsteps, r.substeps);
    e.mostSubsteps = std::max(e.mostSubsteps, r.substeps);
    if (r.time.total() > e.slowest) e.slowest = r.time.total(), e.slowestAt = recording.frame(i).time;
  }
  if (recording.size() > 1) e.perFrame = e.time.total() / static_cast<double>(recording.size() - 1);
  return e;
}

namespace {

rig::Rig withCopies(const rig::Rig& rig, int copies) {
  rig::Rig out = rig;
  Aabb box;
  std::set<rig::Id> all;
  for (const rig::Part& p : rig.parts) {
    box.include(boundsOf(p.shape, p.pose));
    all.insert(p.id);
  }
  const double aside = all.empty() ? 1 : 1.2 * (box.high.x() - box.low.x()) + 1;
  for (int c = 1; c < copies; ++c) rig::copyMoved(out, all, {Vec3(c * aside, 0, 0), Quat::Identity()});
  return out;
}

}  // namespace

std::vector<Growth> growthOf(const rig::Rig& rig, const std::atomic<bool>* stop,
                             const std::function<void(const Growth&)>& told) {
  std::vector<Growth> list;
  for (const int copies : {1, 2, 4}) {
    const rig::Rig many = withCopies(rig, copies);
    CompiledRig run = compile(many);
    const int frames = std::max(2, static_cast<int>(std::lround(many.stage.frameRate / 2)));
    // The first frames settle the forces and warm the caches.
    for (int i = 0; i < 3 && !(stop && stop->load()); ++i) run.step();
    const auto start = std::chrono::steady_clock::now();
    for (int i = 0; i < frames; ++i) {
      if (stop && stop->load()) return list;
      run.step();
    }
    const double spent = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    list.push_back({copies, many.parts.size(), many.joints.size(), spent / frames});
    if (told) told(list.back());
  }
  return list;
}

double exponentOf(const std::vector<Growth>& growth) {
  double n = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (const Growth& g : growth) {
    const double a = std::log(static_cast<double>(g.copies)), b = std::log(g.perFrame);
    n += 1, x += a, y += b, xx += a * a, xy += a * b;
  }
  const double spread = n * xx - x * x;
  return spread > 0 ? (n * xy - x * y) / spread : 1;
}

}  // namespace calm::run
