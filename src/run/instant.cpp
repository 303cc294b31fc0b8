// SPDX-License-Identifier: GPL-3.0-or-later
// Readings of a run at its present instant.
#include <algorithm>

#include "run/compile.h"

namespace calm::run {

namespace {

using What = rig::Reading::What;

double ofJoint(const JointReading& r, What what, std::size_t axis) {
  switch (what) {
    case What::force:
      return r.force.norm();
    case What::torque:
      return r.torque.norm();
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
  switch (what) {
    case What::speed:
      return s.velocity.norm();
    case What::turnRate:
      return s.angularVelocity.norm();
    case What::x:
      return s.pose.position.x();
    case What::y:
      return s.pose.position.y();
    case What::z:
      return s.pose.position.z();
    case What::distance:
      return (s.pose.position - world.state(other).pose.position).norm();
    default: {
      double sum = 0;
      for (const TouchReading& t : world.touches())
        if (t.a == body || t.b == body) sum += t.force.norm();
      return sum;
    }
  }
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
