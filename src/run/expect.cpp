// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/expect.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace calm::run {

namespace {

using What = rig::Reading::What;

template <class Items>
std::size_t indexOf(const Items& items, rig::Id id) {
  const auto it = std::find_if(items.begin(), items.end(), [&](const auto& item) { return item.id == id; });
  return static_cast<std::size_t>(it - items.begin());
}

double ofJoint(const Recording& recording, const rig::Reading& r, std::size_t i, std::size_t j) {
  // Loads are means of a frame; none has gone by at the start, whose load is that of the first one.
  const bool isLoad = r.what == What::force || r.what == What::torque || r.what == What::effort;
  const JointSample& s = recording.frame(isLoad && i == 0 && recording.size() > 1 ? 1 : i).joints[j];
  switch (r.what) {
    case What::force:
      return s.force;
    case What::torque:
      return s.torque;
    case What::separation:
      return s.separation;
    case What::misalignment:
      return s.misalignment;
    case What::position:
      return s.position[static_cast<std::size_t>(r.axis)];
    case What::effort:
      return s.effort[static_cast<std::size_t>(r.axis)];
    default:
      break;
  }
  // A rate: the difference around the frame, or at the ends to the one neighbour.
  const std::size_t before = i > 0 ? i - 1 : i, after = i + 1 < recording.size() ? i + 1 : i;
  if (before == after) return 0;
  const auto at = [&](std::size_t f) {
    return recording.frame(f).joints[j].position[static_cast<std::size_t>(r.axis)];
  };
  return (at(after) - at(before)) / (recording.frame(after).time - recording.frame(before).time);
}

double ofAll(const Recording& recording, What what, std::size_t i) {
  const Frame& frame = recording.frame(i);
  if (what == What::energy) return frame.energy;
  double most = 0;
  if (what == What::farthest)
    for (const JointSample& s : frame.joints) most = std::max(most, double(s.separation));
  else
    for (std::size_t p = 0; p < frame.parts.size(); ++p)
      if (recording.rig().parts[p].role == Role::dynamic) most = std::max(most, frame.parts[p].velocity.norm());
  return most;
}

struct Span {
  std::size_t first, last;  // frames, both included
};

Span framesFor(const Recording& recording, const rig::Expectation& e) {
  std::size_t first = 0, last = recording.size() - 1;
  while (first < last && recording.frame(first).time < e.from - 1e-9) ++first;
  while (last > first && recording.frame(last).time > e.until + 1e-9) --last;
  return {first, last};
}

std::string seconds(double t) {
  return fmt::format("{:.2f} s", t);
}

Verdict judgeHolds(const Recording& recording, const rig::Expectation& e) {
  const auto& joints = recording.rig().joints;
  for (std::size_t j = 0; j < joints.size(); ++j) {
    if (e.of != rig::kNone && joints[j].id != e.of) continue;
    const auto at = recording.partedAt(j);
    if (at && *at >= e.from && *at <= e.until)
      return {false, *at, fmt::format("{} parted at {}", joints[j].name, seconds(*at))};
  }
  return {true, recording.endTime(), "nothing parted"};
}

Verdict judgeParts(const Recording& recording, const rig::Expectation& e) {
  const std::size_t j = indexOf(recording.rig().joints, e.of);
  const auto at = recording.partedAt(j);
  if (at && *at >= e.from && *at <= e.until) return {true, *at, "it parted at " + seconds(*at)};
  if (at) return {false, *at, "it parted at " + seconds(*at)};
  double peak = 0;
  for (std::size_t i = 0; i < recording.size(); ++i) peak = std::max(peak, double(recording.frame(i).joints[j].force));
  return {false, recording.endTime(),
          "it held; its load was at most " + rig::formatQuantity(peak, rig::Dimension::force)};
}

Verdict judgeSettles(const Recording& recording, const rig::Expectation& e) {
  const rig::Reading reading =
      e.of == rig::kNone ? rig::Reading{What::fastest, rig::kNone, 0} : rig::Reading{What::speed, e.of, 0};
  const auto [first, last] = framesFor(recording, e);
  double restSince = recording.frame(last).time;
  double most = 0, mostAt = 0;
  for (std::size_t i = last + 1; i-- > 0;) {
    const double v = valueOf(recording, reading, i), t = recording.frame(i).time;
    if (i >= first && v > most) most = v, mostAt = t;
    if (v > e.high) break;
    restSince = t;
  }
  const std::string speed = rig::formatQuantity(most, rig::Dimension::speed);
  if (most > e.high) return {false, mostAt, fmt::format("still {} at {}", speed, seconds(mostAt))};
  return {true, restSince, "at rest since " + seconds(restSince)};
}

Verdict judgeStays(const Recording& recording, const rig::Expectation& e) {
  const auto dimension = rig::dimensionOf(e.reading, recording.rig());
  const auto [first, last] = framesFor(recording, e);
  double low = 1e300, high = -1e300, lowAt = 0, highAt = 0;
  for (std::size_t i = first; i <= last; ++i) {
    const double v = valueOf(recording, e.reading, i), t = recording.frame(i).time;
    if (v < low) low = v, lowAt = t;
    if (v > high) high = v, highAt = t;
  }
  const auto words = [&](double v) { return rig::formatQuantity(v, dimension, 4); };
  if (high > e.high) return {false, highAt, fmt::format("{} at {}", words(high), seconds(highAt))};
  if (low < e.low) return {false, lowAt, fmt::format("{} at {}", words(low), seconds(lowAt))};
  return {true, highAt, fmt::format("between {} and {}", words(low), words(high))};
}

Verdict judgeReaches(const Recording& recording, const rig::Expectation& e) {
  const auto dimension = rig::dimensionOf(e.reading, recording.rig());
  const auto [first, last] = framesFor(recording, e);
  const double start = valueOf(recording, e.reading, first);
  double nearest = start, nearestAt = recording.frame(first).time;
  for (std::size_t i = first; i <= last; ++i) {
    const double v = valueOf(recording, e.reading, i), t = recording.frame(i).time;
    if ((start <= e.low && v >= e.low) || (start >= e.low && v <= e.low)) return {true, t, "at " + seconds(t)};
    if (std::abs(v - e.low) < std::abs(nearest - e.low)) nearest = v, nearestAt = t;
  }
  return {false, nearestAt,
          fmt::format("came as near as {} at {}", rig::formatQuantity(nearest, dimension, 4), seconds(nearestAt))};
}

// Against the largest swing of the energy's kinetic part, which the height of the zero does not change.
Verdict judgeEnergy(const Recording& recording, const rig::Expectation& e) {
  const auto [first, last] = framesFor(recording, e);
  const double start = recording.frame(first).energy;
  double scale = 0, worst = 0, worstAt = 0;
  for (std::size_t i = first; i <= last; ++i) {
    scale = std::max(scale, recording.frame(i).kineticEnergy);
    const double change = std::abs(recording.frame(i).energy - start);
    if (change > worst) worst = change, worstAt = recording.frame(i).time;
  }
  const double share = scale > 0 ? worst / scale : 0;
  return {share <= e.high, worstAt,
          fmt::format("changed by {:.3g} % of the motion's energy, at {}", 100 * share, seconds(worstAt))};
}

}  // namespace

double valueOf(const PartSample& s, What what) {
  switch (what) {
    case What::touch:
      return s.touch;
    case What::speed:
      return s.velocity.norm();
    case What::turnRate:
      return s.angularVelocity.norm();
    case What::x:
      return s.pose.position.x();
    case What::y:
      return s.pose.position.y();
    default:
      return s.pose.position.z();
  }
}

double valueOf(const Recording& recording, const rig::Reading& r, std::size_t i) {
  const rig::Rig& rig = recording.rig();
  if (r.of == rig::kNone) return ofAll(recording, r.what, i);
  if (const std::size_t j = indexOf(rig.joints, r.of); j < rig.joints.size()) return ofJoint(recording, r, i, j);
  const auto& parts = recording.frame(i).parts;
  const PartSample& part = parts[indexOf(rig.parts, r.of)];
  if (r.what == What::distance) return (part.pose.position - parts[indexOf(rig.parts, r.other)].pose.position).norm();
  return valueOf(part, r.what);
}

std::vector<double> seriesOf(const Recording& recording, const rig::Reading& reading) {
  std::vector<double> series(recording.size());
  for (std::size_t i = 0; i < series.size(); ++i) series[i] = valueOf(recording, reading, i);
  return series;
}

Verdict judge(const Recording& recording, const rig::Expectation& e) {
  using Kind = rig::Expectation::Kind;
  switch (e.kind) {
    case Kind::holds:
      return judgeHolds(recording, e);
    case Kind::parts:
      return judgeParts(recording, e);
    case Kind::settles:
      return judgeSettles(recording, e);
    case Kind::stays:
      return judgeStays(recording, e);
    case Kind::reaches:
      return judgeReaches(recording, e);
    case Kind::energy:
      break;
  }
  return judgeEnergy(recording, e);
}

std::vector<Verdict> judgeAll(const Recording& recording) {
  std::vector<Verdict> verdicts;
  for (const rig::Expectation& e : recording.rig().expectations) verdicts.push_back(judge(recording, e));
  return verdicts;
}

}  // namespace calm::run
