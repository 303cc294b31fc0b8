// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/ledger/lanes.h"

#include <algorithm>
#include <cmath>

namespace calm::app {

double separationFraction(double metres) {
  return metres <= 1e-9 ? 0 : (std::log10(metres) + 9) / 5;
}

namespace {

// Nothing fails by being fast or at a stop: the ramp ends short of its red end.
double belowFailing(double fraction) {
  return std::clamp(fraction, 0.0, 0.999);
}

// Nearest to its stops of all axes: 0 in the middle of the range, at the end of the ramp on a stop.
double nearness(const rig::Joint& joint, const run::JointSample& s) {
  double most = 0;
  for (std::size_t k = 0; k < static_cast<std::size_t>(axesOf(joint.type).all()); ++k) {
    const AxisDef& axis = joint.axes[k];
    if (!axis.hasStops() || axis.isLocked()) continue;
    if (s.activity[k] & (kAtLowStop | kAtHighStop)) return 0.999;
    if (std::isfinite(axis.low) && std::isfinite(axis.high))
      most = std::max(most, std::abs(2 * s.position[k] - axis.low - axis.high) / (axis.high - axis.low));
  }
  return belowFailing(most);
}

// What motors and servos push with, of what they can; at their strength they fail to do more.
double driveShare(const rig::Joint& joint, const run::JointSample& s) {
  double most = 0;
  for (std::size_t k = 0; k < static_cast<std::size_t>(axesOf(joint.type).all()); ++k) {
    const AxisDef& axis = joint.axes[k];
    if (s.activity[k] & (kMotorAtCap | kSpringAtCap)) return 1;
    const double cap = axis.cap > 0 ? axis.cap : axis.springCap;
    if ((axis.cap > 0 || axis.hasSpring()) && std::isfinite(cap)) most = std::max(most, std::abs(s.effort[k]) / cap);
  }
  return belowFailing(most);
}

// The larger value of the joint's two moving parts.
template <class Measure>
double ofItsParts(const rig::Rig& rig, std::size_t joint, const run::Frame& frame, const Measure& measure) {
  double most = 0;
  for (const rig::Id id : {rig.joints[joint].a.part, rig.joints[joint].b.part}) {
    const rig::Part* part = rig.part(id);
    if (!part || part->role != Role::dynamic) continue;
    most = std::max(most, measure(*part, frame.parts[static_cast<std::size_t>(part - rig.parts.data())]));
  }
  return most;
}

}  // namespace

double laneValue(const run::Recording& recording, const Largest& largest, Quantity quantity, std::size_t j,
                 std::size_t f) {
  const run::Frame& frame = recording.frame(f);
  const run::JointSample& sample = frame.joints[j];
  const rig::Rig& rig = recording.rig();
  const rig::Joint& joint = rig.joints[j];
  const auto share = [](double value, double of) { return of > 0 ? belowFailing(value / of) : 0; };
  switch (quantity) {
    case Quantity::load:
      return loadFraction(joint, sample, largest);
    case Quantity::separation:
      return separationFraction(sample.separation);
    case Quantity::stops:
      return nearness(joint, sample);
    case Quantity::drive:
      return driveShare(joint, sample);
    case Quantity::speed:
      return share(
          ofItsParts(rig, j, frame, [](const rig::Part&, const run::PartSample& s) { return s.velocity.norm(); }),
          largest.speed);
    case Quantity::energy:
      return share(ofItsParts(rig, j, frame, run::kineticEnergyOf), largest.energy);
  }
  return 0;
}

void Lanes::reset(std::size_t rows) {
  lanes_.assign(rows, {});
  frames_ = 0;
}

void Lanes::update(const run::Recording* recording, const Largest& scale, Quantity quantity,
                   const std::vector<LedgerRow>& rows) {
  // Loads without a strength are shown against the largest of the run; when that grows, all lanes pale.
  if (recording != seen_ || quantity != quantity_ || scale != scale_) reset(rows.size());
  seen_ = recording;
  quantity_ = quantity;
  scale_ = scale;
  if (!recording) return;
  const std::size_t end = recording->size();
  for (std::size_t r = 0; r < rows.size(); ++r) {
    Lane& lane = lanes_[r];
    lane.values.reserve(recording->capacity());
    for (std::size_t f = frames_; f < end; ++f) {
      float worst = 0;
      std::size_t culprit = rows[r].joints.empty() ? 0 : rows[r].joints.front();
      for (std::size_t j : rows[r].joints) {
        const double value = laneValue(*recording, scale, quantity_, j, f);
        if (value > worst) worst = static_cast<float>(value), culprit = j;
      }
      lane.values.push_back(worst);
      lane.worst.push_back(static_cast<std::uint32_t>(culprit));
      if (worst > lane.peak) lane.peak = worst, lane.peakFrame = f;
    }
  }
  frames_ = end;
}

}  // namespace calm::app
