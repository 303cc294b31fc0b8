// SPDX-License-Identifier: GPL-3.0-or-later
// Readings of a run at its present instant.
#include <algorithm>

#include "run/expect.h"

namespace calm::run {

namespace {

using What = rig::Reading::What;

double ofJoint(const JointReading& r, What what, std::size_t axis) {
  switch (what) {
    case What::force:
      return r.forceSize;
    case What::torque:
      return r.torqueSize;
    case What::separation:
      return r.separationPeak;
    case What::misalignment:
      return r.misalignmentPeak;
    case What::position:
      return r.position[axis];
    case What::rate:
      return r.rate[axis];
    default:
      return r.effort[axis];
  }
}

double ofBody(const World& world, BodyId body, BodyId other, What what) {
  const BodyState s = world.state(body);
  if (what == What::distance) return (s.pose.position - world.state(other).pose.position).norm();
  PartSample sample{s.pose, s.velocity, s.angularVelocity, 0};
  if (what == What::touch)
    for (const TouchReading& t : world.touches())
      if (t.a == body || t.b == body) sample.touch += t.force.norm();
  return valueOf(sample, what);
}

double ofAll(const CompiledRig& run, What what) {
  double most = 0;
  if (what == What::energy) return run.world.energy().total();
  if (what == What::farthest)
    for (const JointId j : run.joints) most = std::max(most, run.world.reading(j).separationPeak);
  else
    for (const BodyId b : run.bodies)
      if (run.world.kineticEnergy(b) > 0) most = std::max(most, run.world.state(b).velocity.norm());
  return most;
}

}  // namespace

double valueNow(const CompiledRig& run, const rig::Reading& r) {
  if (r.of == rig::kNone) return ofAll(run, r.what);
  if (const auto joint = run.jointOf.find(r.of); joint != run.jointOf.end())
    return ofJoint(run.world.reading(joint->second), r.what, static_cast<std::size_t>(r.axis));
  return ofBody(run.world, run.bodyOf.at(r.of), run.bodyOf.at(r.other), r.what);
}

}  // namespace calm::run
