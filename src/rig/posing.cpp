// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/posing.h"

#include <fmt/format.h>

#include <set>
#include <stdexcept>

#include "engine/joint/rows.h"
#include "engine/solve/body.h"

namespace calm::rig {

namespace {

// All that moves along with the part when the joint is not there; nothing if it is held or comes round to the other
// side.
std::optional<std::set<Id>> hangingOn(const Rig& rig, const Joint& joint, Id start, Id other) {
  std::map<Id, std::vector<Id>> next;
  for (const Joint& j : rig.joints) {
    if (j.id == joint.id) continue;
    next[j.a.part].push_back(j.b.part);
    next[j.b.part].push_back(j.a.part);
  }
  std::set<Id> seen{start};
  std::vector<Id> open{start};
  while (!open.empty()) {
    const Id id = open.back();
    open.pop_back();
    const Part* part = rig.part(id);
    if (!part || part->role != Role::dynamic || id == other) return std::nullopt;
    for (const Id to : next[id])
      if (seen.insert(to).second) open.push_back(to);
  }
  return seen;
}

// The motion of b against a along or about an axis, in the world.
Pose motionOf(const Joint& joint, int k, double by, const Pose& a, const Pose& b) {
  const auto along = [&](int column) { return Pose{by * (a.rotation * Vec3::Unit(column)), Quat::Identity()}; };
  const auto about = [&](const Pose& frame, int column) {
    const Quat turn(Eigen::AngleAxisd(by, frame.rotation * Vec3::Unit(column)));
    return Pose{frame.position - turn * frame.position, turn};
  };
  switch (joint.type) {
    case JointType::hinge:
      return about(a, 0);
    case JointType::slider:
      return along(0);
    case JointType::cylinder:
      return k == 0 ? along(0) : about(a, 0);
    case JointType::universal:
      return k == 0 ? about(a, 0) : about(b, 1);
    case JointType::planar:
      return k < 2 ? along(k + 1) : about(a, 0);
    case JointType::limb:
      return k == 0 ? about(b, 0) : about(a, k);
    case JointType::wheel:
      return k == 0 ? along(1) : k == 1 ? about(a, 1) : about(b, 0);
    case JointType::sixAxis:
      return k < 3 ? along(k) : k == 3 ? about(b, 0) : about(a, k - 3);
    default:
      throw std::invalid_argument(fmt::format("a {} cannot be tried by hand", word(joint.type)));
  }
}

}  // namespace

std::optional<double> restCoordinate(const Rig& rig, const Joint& joint, int k) {
  switch (joint.type) {
    case JointType::gear:
    case JointType::rack:
    case JointType::screw:
    case JointType::pulley:
    case JointType::winch:
      return std::nullopt;
    default:
      break;
  }
  // Bodies whose principal frames are the parts' own.
  const auto bodyOf = [&](Id id) {
    Body body;
    if (const Part* part = rig.part(id)) body.placePart(part->pose);
    return body;
  };
  const auto axesOfSide = [](const Side& side) {
    Mat3 axes;
    axes << side.axis, side.across, side.axis.cross(side.across);
    return axes;
  };
  JointGeometry geometry;
  geometry.anchorA = joint.a.at, geometry.anchorB = joint.b.at;
  geometry.axesA = axesOfSide(joint.a), geometry.axesB = axesOfSide(joint.b);
  geometry.form = joint.form;
  std::vector<double> memory(RowBlock::storage(1, 1) + RowBlock::storage(1, 0), 0.0);
  RowBlock rows(memory.data(), 1);
  Winding winding;
  evaluateCoordinate(joint.type, k, geometry, bodyOf(joint.a.part), bodyOf(joint.b.part), winding, rows);
  return rows.error()[0];
}

std::map<Id, Pose> posedAt(const Rig& rig, Id id, int k, double by) {
  const Joint* joint = rig.joint(id);
  if (!joint) throw std::invalid_argument(fmt::format("there is no joint with id {}", id));
  const Pose motion = motionOf(*joint, k, by, restFrame(rig, joint->a), restFrame(rig, joint->b));
  std::map<Id, Pose> poses;
  if (const auto hanging = hangingOn(rig, *joint, joint->b.part, joint->a.part)) {
    for (const Id part : *hanging) poses[part] = motion * rig.part(part)->pose;
  } else if (const auto back = hangingOn(rig, *joint, joint->a.part, joint->b.part)) {
    for (const Id part : *back) poses[part] = motion.inverse() * rig.part(part)->pose;
  } else {
    throw std::invalid_argument(fmt::format("\"{}\" is held on both sides, so it cannot be moved alone", joint->name));
  }
  return poses;
}

}  // namespace calm::rig
