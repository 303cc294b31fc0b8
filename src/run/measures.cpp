// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/measures.h"

#include <cmath>
#include <numbers>

#include "run/compile.h"

namespace calm::run {

std::optional<double> inertiaAlong(const rig::Rig& rig, rig::Id id, int k) {
  const rig::Joint* joint = rig.joint(id);
  if (!joint || k >= axesOf(joint->type).all()) return std::nullopt;
  rig::Rig pair;
  for (const rig::Id part : {joint->a.part, joint->b.part})
    if (const rig::Part* p = rig.part(part)) {
      pair.parts.push_back(*p);
      pair.parts.back().group = rig::kNone;
    }
  pair.joints.push_back(*joint);
  pair.joints.back().group = rig::kNone;
  try {
    const CompiledRig run = compile(pair);
    return run.world.inertiaAlong(run.joints[0], k);
  } catch (const std::exception&) {
    return std::nullopt;
  }
}

double SpringResponse::at(double time) const {
  const double omega = 2 * std::numbers::pi * frequency, z = dampingRatio;
  if (std::abs(z - 1) < 1e-6) return (1 + omega * time) * std::exp(-omega * time);
  if (z < 1) {
    const double wd = omega * std::sqrt(1 - z * z);
    return std::exp(-z * omega * time) * (std::cos(wd * time) + z * omega / wd * std::sin(wd * time));
  }
  const double root = omega * std::sqrt(z * z - 1), slow = -z * omega + root, fast = -z * omega - root;
  return (slow * std::exp(fast * time) - fast * std::exp(slow * time)) / (slow - fast);
}

std::optional<double> SpringResponse::settling() const {
  constexpr double kBand = 0.02;
  if (!(dampingRatio > 0) || !(frequency > 0)) return std::nullopt;
  const double omega = 2 * std::numbers::pi * frequency, z = dampingRatio;
  // Beyond this the envelope is inside the band; the last time outside is sought backwards from there.
  const double rate = z < 1 ? z * omega : omega / (2 * z);
  const double end = (std::log(1 / kBand) + 3) / rate;
  constexpr int kSteps = 4000;
  for (int i = kSteps; i > 0; --i)
    if (std::abs(at(end * i / kSteps)) > kBand) return end * i / kSteps;
  return 0;
}

std::optional<SpringResponse> springResponse(const rig::Rig& rig, rig::Id id, int k) {
  const rig::Joint* joint = rig.joint(id);
  if (!joint || k >= axesOf(joint->type).all()) return std::nullopt;
  const AxisDef& axis = joint->axes[k];
  if (axis.frequency > 0) return SpringResponse{axis.frequency, axis.dampingRatio};
  if (!(axis.stiffness > 0)) return std::nullopt;
  const auto mass = inertiaAlong(rig, id, k);
  if (!mass) return std::nullopt;
  const double omega = std::sqrt(axis.stiffness / *mass);
  return SpringResponse{omega / (2 * std::numbers::pi), axis.damping / (2 * *mass * omega)};
}

}  // namespace calm::run
