// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/sharing.h"

#include <fmt/format.h>

#include <stdexcept>
#include <tuple>

namespace calm::rig {

namespace {

// The direction along or about which a joint's free axis k counts, in the joint's frame.
Vec3 directionOf(JointType type, int k) {
  switch (type) {
    case JointType::universal:
      return k == 0 ? Vec3::UnitX() : Vec3::UnitY();
    case JointType::planar:
      return k == 0 ? Vec3::UnitY() : k == 1 ? Vec3::UnitZ() : Vec3::UnitX();
    case JointType::limb:
      return k < 3 ? Vec3::Unit(k) : Vec3::UnitX();
    case JointType::wheel:
      return k < 2 ? Vec3::UnitY() : Vec3::UnitX();
    case JointType::sixAxis:
      return Vec3::Unit(k % 3);
    default:
      return Vec3::UnitX();
  }
}

// Whether the joint's axes are lengths and ratios, which a mirror leaves alone.
bool isLength(JointType type) {
  switch (type) {
    case JointType::distance:
    case JointType::spring:
    case JointType::pulley:
    case JointType::winch:
    case JointType::gear:
    case JointType::rack:
      return true;
    default:
      return false;
  }
}

void takeStops(AxisDef& to, const AxisDef& from) {
  to.low = from.low, to.high = from.high;
  to.stopStiffness = from.stopStiffness, to.stopDamping = from.stopDamping, to.restitution = from.restitution;
}

void takeSpring(AxisDef& to, const AxisDef& from) {
  to.stiffness = from.stiffness, to.damping = from.damping, to.target = from.target, to.springCap = from.springCap;
  to.frequency = from.frequency, to.dampingRatio = from.dampingRatio;
}

}  // namespace

bool countsReversed(const Rig& rig, const Joint& first, const Joint& second, int k) {
  if (isLength(first.type)) return false;
  const Pose a = restFrame(rig, first.a), b = restFrame(rig, second.a);
  const Vec3 between = b.position - a.position;
  if (between.norm() < 1e-9) return false;
  const Vec3 n = between.normalized();
  const Vec3 direction = directionOf(first.type, k);
  const Vec3 mine = a.rotation * direction, its = b.rotation * direction;
  const Vec3 reflected = mine - 2 * n.dot(mine) * n;
  // Turns are pseudovectors: a mirror shows them the other way round.
  return its.dot(axisTurns(first.type, k) ? Vec3(-reflected) : reflected) < 0;
}

void share(Rig& rig, Id from, const std::vector<Id>& to, const Shared& what) {
  const Joint model = *rig.joint(from);
  for (const Id id : to) {
    Joint& joint = *rig.joint(id);
    if (joint.type != model.type)
      throw std::invalid_argument(fmt::format("\"{}\" is a {}, not a {} as \"{}\"", joint.name, word(joint.type),
                                              word(model.type), model.name));
    for (int k = 0; k < axesOf(model.type).all(); ++k) {
      AxisDef source = model.axes[k];
      if (what.mirrored && countsReversed(rig, model, joint, k)) {
        std::tie(source.low, source.high) = std::pair(-source.high, -source.low);
        source.target = -source.target, source.speed = -source.speed;
      }
      AxisDef& axis = joint.axes[k];
      if (what.stops) takeStops(axis, source);
      if (what.motor) axis.speed = source.speed, axis.cap = source.cap;
      if (what.friction) axis.friction = source.friction;
      if (what.spring) takeSpring(axis, source);
    }
    if (what.cone) joint.form.coneY = model.form.coneY, joint.form.coneZ = model.form.coneZ;
    if (what.strength) joint.breakForce = model.breakForce, joint.breakTorque = model.breakTorque;
    if (what.strength) joint.armed = model.armed;
  }
  for (const Fault& f : faultsOf(rig)) throw std::invalid_argument(f.text());
}

}  // namespace calm::rig
