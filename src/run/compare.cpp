// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/compare.h"

#include <algorithm>
#include <cmath>

#include "run/expect.h"

namespace calm::run {

namespace {

using What = rig::Reading::What;

double peakOf(const Recording& recording, const rig::Reading& reading) {
  const std::vector<double> series = seriesOf(recording, reading);
  return series.empty() ? 0 : *std::max_element(series.begin(), series.end());
}

double partedCount(const Recording& recording) {
  double count = 0;
  for (std::size_t j = 0; j < recording.rig().joints.size(); ++j) count += recording.partedAt(j).has_value();
  return count;
}

double change(const Change& c) {
  return std::abs(c.after - c.before) / std::max({std::abs(c.after), std::abs(c.before), 1e-12});
}

}  // namespace

std::optional<double> restsSince(const Recording& recording, double speed) {
  std::optional<double> since;
  for (std::size_t i = recording.size(); i-- > 0;) {
    if (valueOf(recording, {What::fastest, rig::kNone, 0}, i) > speed) break;
    since = recording.frame(i).time;
  }
  return since;
}

std::vector<Change> compare(const Recording& before, const Recording& after, std::size_t joints) {
  constexpr double kRest = 0.05;  // m/s
  const auto both = [&](const std::string& what, rig::Dimension dimension, const auto& measure) {
    return Change{what, dimension, measure(before), measure(after)};
  };
  std::vector<Change> changes{both("joints parted", rig::Dimension::number, partedCount),
                              both("largest separation", rig::Dimension::length,
                                   [](const Recording& r) {
                                     return peakOf(r, {What::farthest, rig::kNone, 0});
                                   }),
                              both("at rest (below 5 cm/s) since", rig::Dimension::time,
                                   [](const Recording& r) { return restsSince(r, kRest).value_or(std::nan("")); }),
                              both("energy at the end", rig::Dimension::energy,
                                   [](const Recording& r) { return r.frame(r.size() - 1).energy; })};
  std::vector<Change> loads;
  for (const rig::Joint& j : before.rig().joints) {
    if (!after.rig().joint(j.id)) continue;
    const rig::Reading force{What::force, j.id, 0};
    loads.push_back(
        both("peak force of " + j.name, rig::Dimension::force, [&](const Recording& r) { return peakOf(r, force); }));
  }
  std::stable_sort(loads.begin(), loads.end(), [](const Change& a, const Change& b) { return change(a) > change(b); });
  loads.resize(std::min(loads.size(), joints));
  changes.insert(changes.end(), loads.begin(), loads.end());
  return changes;
}

double StrengthInterval::middle() const {
  return std::sqrt(low * high);
}
double StrengthInterval::margin() const {
  return low > 0 ? std::sqrt(high / low) : 0;
}

StrengthInterval strengthBetween(const Recording& holds, const Recording& parts, rig::Id joint) {
  const rig::Reading force{What::force, joint, 0};
  return {peakOf(holds, force), peakOf(parts, force)};
}

}  // namespace calm::run
