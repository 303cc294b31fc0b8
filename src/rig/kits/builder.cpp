// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/kits/builder.h"

#include "engine/math/rotation.h"
#include "rig/kits/placed.h"

namespace calm::rig {

Builder::Builder(Rig& rig, const Form& form, const std::string& name, const Pose& pose)
    : rig_(rig), group_(rig.nextId++), name_(rig.freeName(name)), pose_(pose) {
  rig.groups.push_back({group_, name_, form});
}

Part& Builder::part(const std::string& slot, const Shape& shape, const Pose& pose, double mass) {
  Part p;
  p.id = rig_.nextId++;
  p.name = name_ + " " + slot;
  p.shape = shape;
  p.pose = pose_ * pose;
  p.heft = Mass{mass};
  p.group = group_;
  p.slot = slot;
  return rig_.parts.emplace_back(std::move(p));
}

Id Builder::link(const std::string& slot, const Vec3& from, const Vec3& to, double thickness, double mass) {
  const Vec3 whole = to - from;
  const Pose pose{(from + to) / 2, turnBetween(Vec3::UnitY(), whole.normalized())};
  Part& p = part(slot, Capsule{thickness / 2, whole.norm()}, pose, mass);
  p.linearDamping = kLineLinearDamping;
  p.angularDamping = kLineAngularDamping;
  return p.id;
}

Joint& Builder::joint(const std::string& slot, JointType type, Id a, Id b, const Vec3& pivot, const Vec3& axis) {
  Joint j;
  j.id = rig_.nextId++;
  j.name = name_ + " " + slot;
  j.type = type;
  j.a = sideAt(rig_, a, pose_.apply(pivot), pose_.rotation * axis);
  j.b = sideAt(rig_, b, pose_.apply(pivot), pose_.rotation * axis);
  j.group = group_;
  j.slot = slot;
  return rig_.joints.emplace_back(std::move(j));
}

}  // namespace calm::rig
