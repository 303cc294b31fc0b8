// SPDX-License-Identifier: GPL-3.0-or-later
// The assemblies that the validation runs on.
#pragma once

#include <cmath>
#include <iostream>
#include <numbers>
#include <string>

#include "engine/math/rotation.h"
#include "engine/world.h"

namespace calm::physics {

constexpr double kGravity = 9.81;
constexpr double kPi = std::numbers::pi;

inline BodyDef solid(const Shape& shape, double mass, const Pose& pose = {}) {
  BodyDef def;
  def.pose = pose;
  def.mass = massPropertiesOf(shape, mass);
  return def;
}

// The same, able to touch others.
inline BodyDef tangible(const Shape& shape, double mass, const Pose& pose = {}) {
  BodyDef def = solid(shape, mass, pose);
  def.shapes = {{shape, {}}};
  return def;
}

inline BodyDef ground(double friction = 0.5, double tilt = 0) {
  BodyDef def;
  def.role = Role::fixed;
  def.shapes = {{HalfSpace{}, {}}};
  def.pose.rotation = Quat(Eigen::AngleAxisd(tilt, Vec3::UnitZ()));
  def.friction = friction;
  return def;
}

inline JointDef joint(JointType type, BodyId a, const Vec3& onA, BodyId b, const Vec3& onB) {
  JointDef def;
  def.type = type;
  def.a = a;
  def.b = b;
  def.frameA.position = onA;
  def.frameB.position = onB;
  return def;
}

struct ChainPlan {
  int links = 40;
  double length = 0.05;  // of a link, m
  double mass = 0.2;     // of a link, kg
  double payload = 0;    // kg, a stone cube under the last link
  double angle = 0;      // of release, from hanging, rad
  JointType type = JointType::ball;
  double twist = 0;     // of each hinge's axis against the one before, rad
  double turning = 0;   // about the vertical through the anchor at the start, rad/s
  double friction = 0;  // of each hinge, N m
};

struct Chain {
  World world;
  double swing;  // J, the energy that the swing turns over
};

inline Chain makeChain(const ChainPlan& plan) {
  Chain chain;
  const Vec3 down(std::sin(plan.angle), -std::cos(plan.angle), 0);
  const Quat along = turnBetween(Vec3::UnitY(), down);
  BodyId above = kWorld;
  Vec3 anchor = Vec3::Zero();
  const auto turning = [&](BodyDef def) {
    def.angularVelocity = Vec3(0, plan.turning, 0);
    def.velocity = def.angularVelocity.cross(def.pose.position);
    return def;
  };
  for (int i = 0; i < plan.links; ++i) {
    const BodyId link = chain.world.addBody(
        turning(solid(Capsule{plan.length * 0.2, plan.length}, plan.mass, {down * (plan.length * (i + 0.5)), along})));
    JointDef j = joint(plan.type, above, anchor, link, Vec3(0, -plan.length / 2, 0));
    // Hinges turn about the world's z axis, across the swing.
    const Quat across = Quat(Eigen::AngleAxisd(plan.twist * i, down)) * turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    j.frameA.rotation = above == kWorld ? across : along.conjugate() * across;
    j.frameB.rotation = along.conjugate() * across;
    j.axes[0].friction = plan.friction;
    chain.world.addJoint(j);
    above = link;
    anchor = Vec3(0, plan.length / 2, 0);
  }
  const double total = plan.links * plan.length;
  if (plan.payload > 0) {
    const double side = std::cbrt(plan.payload / 2600);
    const BodyId stone = chain.world.addBody(
        turning(solid(Box{Vec3::Constant(side)}, plan.payload, {down * (total + side / 2), along})));
    JointDef j = joint(plan.type, above, anchor, stone, Vec3(0, -side / 2, 0));
    j.frameA.rotation = j.frameB.rotation = along.conjugate() * turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    chain.world.addJoint(j);
  }
  const double moving = plan.payload > 0 ? plan.payload : plan.links * plan.mass / 2;
  chain.swing = moving * kGravity * total * (1 - std::cos(plan.angle));
  return chain;
}

struct Watch {
  double separation = 0;      // m
  double gain = 0, loss = 0;  // J against the start
  Residual residual;
};

// Runs and keeps the largest separation and the furthest that the energy strayed.
inline Watch watch(World& world, double seconds) {
  Watch w;
  const double start = world.energy().total();
  const int frames = static_cast<int>(std::lround(seconds / world.settings().frame));
  for (int i = 0; i < frames; ++i) {
    w.residual.include(world.step());
    for (JointId j = 0; j < world.jointCount(); ++j)
      w.separation = std::max(w.separation, world.reading(j).separationPeak);
    const double change = world.energy().total() - start;
    w.gain = std::max(w.gain, change);
    w.loss = std::max(w.loss, -change);
  }
  return w;
}

// A line of the validation table: what the theory or the stated need allows, and what was measured.
inline void report(const std::string& what, double measured, double allowed, const std::string& unit) {
  std::cout << "[ figure ] " << what << ": " << measured << " " << unit << " (allowed " << allowed << ")\n";
}

}  // namespace calm::physics
