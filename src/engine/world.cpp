// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/world.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <utility>

#include "engine/math/groups.h"
#include "engine/math/rotation.h"

namespace calm {

void World::buildAssemblies() {
  Groups groups(bodies_.size());
  const auto active = [&](const JointState& j) { return j.holds(); };
  for (const JointState& j : joints_) {
    if (!active(j)) continue;
    const std::vector<BodyId> held = j.bodies();
    for (const BodyId one : held)
      for (const BodyId other : held)
        if (bodies_[one].dynamic() && bodies_[other].dynamic()) groups.join(one, other);
  }
  std::map<int, std::vector<Assembly::Member>> members;
  for (JointId id = 0; id < jointCount(); ++id) {
    const JointDef& d = joints_[id].def;
    const std::vector<BodyId> held = joints_[id].bodies();
    const auto first = std::find_if(held.begin(), held.end(), [&](BodyId body) { return bodies_[body].dynamic(); });
    if (!active(joints_[id]) || first == held.end()) continue;
    const int group = groups.root(*first);
    members[group].push_back({id, d.type, d.a, d.b, joints_[id].geometry, d.axes, joints_[id].windings, d.compliance,
                              d.pinRadius, joints_[id].fade,
                              d.breakForce < kUnbreakable || d.breakTorque < kUnbreakable});
  }
  assemblies_.clear();
  for (Body& b : bodies_) {
    b.untouchedAxis.setZero();
    b.jointed = false;
    b.assembly = -1;
  }
  for (const auto& [group, list] : members) {
    assemblies_.emplace_back(list, bodies_, settings_.frame / settings_.substeps);
    assemblies_.back().markUntouchedAxes(bodies_);
    for (BodyId id : assemblies_.back().dynamicBodies()) {
      bodies_[id].jointed = true;
      bodies_[id].assembly = static_cast<int>(assemblies_.size()) - 1;
    }
  }
  jointsChanged_ = false;
}

void World::makeIslands() {
  Groups groups(bodies_.size());
  const auto joinAll = [&](const std::vector<BodyId>& ids) {
    for (BodyId id : ids) groups.join(ids.front(), id);
  };
  for (const Assembly& a : assemblies_) joinAll(a.dynamicBodies());
  // Kinematic bodies belong to one island each, so that their motion is followed once.
  const auto joinMoving = [&](BodyId a, BodyId b) {
    if (bodies_[a].moves() && bodies_[b].moves()) groups.join(a, b);
  };
  for (const JointState& j : joints_) {
    if (!j.holds()) continue;
    joinMoving(j.def.a, j.def.b);
    if (j.geometry.riders.empty()) continue;
    const std::vector<BodyId> held = j.bodies();
    for (const BodyId one : held)
      for (const BodyId other : held)
        if (one < other) joinMoving(one, other);
  }
  for (std::size_t i = 0; i < pairs_.size(); ++i) joinMoving(pairs_[i].bodyA, pairs_[i].bodyB);
  std::size_t count = 0;
  std::vector<int> islandOf(bodies_.size(), -1);  // by the group's root
  const auto island = [&](BodyId id) -> Island& {
    int& number = islandOf[groups.root(id)];
    if (number < 0) {
      number = static_cast<int>(count++);
      if (islands_.list.size() < count) islands_.list.emplace_back();
      islands_.list[number].clear();
    }
    return islands_.list[number];
  };
  for (BodyId id = 0; id < bodyCount(); ++id)
    if (bodies_[id].moves()) island(id).bodies.push_back(id);
  for (Assembly& a : assemblies_) island(a.dynamicBodies().front()).assemblies.push_back(&a);
  for (std::size_t i = 0; i < pairs_.size(); ++i) {
    ContactPair& pair = pairs_[i];
    island(bodies_[pair.bodyA].dynamic() ? pair.bodyA : pair.bodyB).pairs.push_back(&pair);
  }
  islands_.list.resize(count);
}

Residual World::step() {
  if (settings_.separationBudget == 0) return advanceFrame();
  constexpr int kEasy = 30;  // frames in a row before less effort is tried
  if (easyFrames_ >= kEasy && settings_.substeps > wanted_) settings_.substeps /= 2, easyFrames_ = 0;
  for (;;) {
    World before = *this;
    Residual residual = advanceFrame();
    residual.overBudget = !(residual.linear <= settings_.separationBudget);
    if (!residual.overBudget || settings_.substeps >= kMostEffort * wanted_) {
      ++easyFrames_;
      return residual;
    }
    before.settings_.substeps *= 2;
    before.easyFrames_ = 0;
    *this = std::move(before);
  }
}

Residual World::advanceFrame() {
  const auto started = Stopwatch::Clock::now();
  if (jointsChanged_) buildAssemblies();
  wakeForPushes();
  const auto assembled = Stopwatch::Clock::now();
  refreshPairs();
  makeIslands();
  std::vector<Island>& islands = islands_.list;
  WorkTime outside;
  outside.joints = std::chrono::duration<double>(assembled - started).count();
  outside.finding = Stopwatch::since(assembled);
  const Scene scene{settings_, bodies_, shapes_, colliders_, joints_, fields_, pushes_, time()};
  Residual residual;
  for (JointState& j : joints_)
    if (j.reading.parted) {
      const double at = j.reading.partedAt;
      j.reading = {};
      j.reading.parted = true;
      j.reading.partedAt = at;
    }
  // Each island writes only to what is its own, so that threads change nothing in the results.
  const bool fresh = std::exchange(fresh_, false);
  std::vector<Residual> residuals(islands.size());
  tbb::parallel_for(std::size_t{0}, islands.size(), [&](std::size_t i) {
    const auto asleep = [&](BodyId id) { return bodies_[id].asleep; };
    std::vector<BodyId>& ids = islands[i].bodies;
    if (std::all_of(ids.begin(), ids.end(), asleep)) return;
    for (const BodyId id : ids) bodies_[id].asleep = false;
    residuals[i] = islands[i].advance(scene, fresh);
  });
  for (const Residual& r : residuals) residual.include(r);
  const auto solved = Stopwatch::Clock::now();
  residual.substeps = settings_.substeps;
  if (settings_.sleepAfter > 0) settle(islands);
  for (const Assembly& a : assemblies_)
    for (int n = 0; n < a.nodes(); ++n) jointsChanged_ |= a.released(n);
  ++frames_;
  for (JointState& j : joints_) readAxes(j);
  outside.rest = Stopwatch::since(solved);
  residual.time.include(outside);
  return residual;
}

void World::wakeForPushes() {
  const double now = time(), then = now + settings_.frame;
  const auto comes = [&](double instant) { return instant >= now && instant < then; };
  for (const Push& push : pushes_)
    if (comes(push.from) || comes(push.until)) wake(push.body);
}

// An island in which everything has rested long enough falls asleep: it neither moves nor creeps, as what is slow or
// only begins to move does.
void World::settle(const std::vector<Island>& islands) {
  constexpr double kStill = 1e-3, kCreep = 1e-4;  // m/s and rad/s: now, and in the mean
  for (const Island& island : islands) {
    double rest = 1e300;
    for (const BodyId id : island.bodies) {
      Body& b = bodies_[id];
      const bool still =
          b.velocity.norm() < kStill && b.spin.norm() < kStill && !(b.role == Role::kinematic && b.motion);
      const double gone =
          std::max((b.position - b.restPose.position).norm(), chordBetween(b.orientation, b.restPose.rotation));
      if (still && gone < kCreep * settings_.sleepAfter)
        b.restTime += settings_.frame;
      else
        b.restTime = 0, b.restPose = b.pose();
      rest = std::min(rest, b.restTime);
    }
    if (rest < settings_.sleepAfter) continue;
    for (const BodyId id : island.bodies) {
      bodies_[id].asleep = true;
      bodies_[id].velocity = bodies_[id].spin = Vec3::Zero();
    }
  }
}

void World::wake(BodyId body) {
  bodies_[body].asleep = false;
  bodies_[body].restTime = 0;
}

}  // namespace calm
