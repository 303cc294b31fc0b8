// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include "physics/rigs.h"

namespace calm::physics {

// A figure of fifteen bones: trunk of three, head, two arms and two legs of two bones each, hands left to the arms,
// feet.
struct Bone {
  BodyId body;
  Capsule shape;
};

inline std::vector<Bone> addFigure(World& world, const Vec3& at) {
  std::vector<Bone> bones;
  const auto bone = [&](const Vec3& middle, double length, double mass, bool level) {
    BodyDef def = tangible(Capsule{length * 0.22, length}, mass, {at + middle, Quat::Identity()});
    if (level) def.pose.rotation = Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitZ()));
    def.angularDamping = 1;
    bones.push_back({world.addBody(def), std::get<Capsule>(def.shapes[0].shape)});
    return bones.back().body;
  };
  const auto tie = [&](BodyId a, BodyId b, const Vec3& pivot) {
    JointDef def;
    def.type = JointType::limb;
    def.a = a, def.b = b;
    def.frameA = world.state(a).pose.inverse() * Pose{at + pivot, Quat::Identity()};
    def.frameB = world.state(b).pose.inverse() * Pose{at + pivot, Quat::Identity()};
    def.form.coneY = 0.9, def.form.coneZ = 0.9;
    def.axes[0].low = -0.5, def.axes[0].high = 0.5;
    world.addJoint(def);
  };
  const BodyId hips = bone({0, 1.0, 0}, 0.25, 9, false), belly = bone({0, 1.2, 0}, 0.25, 8, false),
               chest = bone({0, 1.42, 0}, 0.28, 14, false), head = bone({0, 1.7, 0}, 0.24, 5, false);
  tie(hips, belly, {0, 1.1, 0});
  tie(belly, chest, {0, 1.3, 0});
  tie(chest, head, {0, 1.57, 0});
  for (const double side : {-1.0, 1.0}) {
    const BodyId upper = bone({side * 0.3, 1.5, 0}, 0.3, 2.2, true),
                 lower = bone({side * 0.58, 1.5, 0}, 0.28, 1.4, true);
    tie(chest, upper, {side * 0.15, 1.5, 0});
    tie(upper, lower, {side * 0.45, 1.5, 0});
    const BodyId thigh = bone({side * 0.1, 0.68, 0}, 0.42, 8, false), shin = bone({side * 0.1, 0.27, 0}, 0.4, 4, false);
    tie(hips, thigh, {side * 0.1, 0.9, 0});
    tie(thigh, shin, {side * 0.1, 0.47, 0});
  }
  // Three more light bones, as hands and a tail of a coat, make fifteen.
  const BodyId hem = bone({0, 0.85, -0.2}, 0.2, 0.8, false);
  tie(hips, hem, {0, 0.95, -0.15});
  const BodyId bag = bone({0, 1.4, -0.3}, 0.3, 3, false), cap = bone({0, 1.9, 0}, 0.14, 0.3, false);
  tie(chest, bag, {0, 1.5, -0.2});
  tie(head, cap, {0, 1.83, 0});
  return bones;
}

}  // namespace calm::physics
