// SPDX-License-Identifier: GPL-3.0-or-later
// Break strengths: when a joint parts, and what is left.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct Hook {
  World world;
  BodyId load;
};

Hook makeHook(double strength) {
  Hook h{World(), 0};
  h.load = h.world.addBody(solid(Box{Vec3::Constant(0.3)}, 50, {{0, -0.15, 0}, Quat::Identity()}));
  JointDef j = joint(JointType::ball, kWorld, Vec3::Zero(), h.load, {0, 0.15, 0});
  j.breakForce = strength;
  h.world.addJoint(j);
  return h;
}

TEST(BreakForce, PartsUnderASlowRampAtItsStrength) {
  const double strength = 800, weight = 50 * kGravity, rate = 20;  // N/s
  Hook h = makeHook(strength);
  while (!h.world.reading(0).parted && h.world.time() < 30) {
    h.world.clearForces();
    h.world.addForce(h.load, Vec3(0, -rate * h.world.time(), 0), h.world.state(h.load).pose.position);
    h.world.step();
  }
  ASSERT_TRUE(h.world.reading(0).parted);
  const double force = weight + rate * h.world.reading(0).partedAt;
  report("parting force over strength", force / strength - 1, 1e-3, "");
  EXPECT_GE(force, strength * (1 - 1e-12));
  EXPECT_LE(force, strength * (1 + 1e-3));
}

TEST(BreakForce, HoldsForeverJustBelow) {
  Hook h = makeHook(50 * kGravity / 0.99);
  for (int i = 0; i < 600; ++i) h.world.step();
  EXPECT_FALSE(h.world.reading(0).parted);
}

TEST(BreakForce, WhatPartsFallsFreelyWithoutAKick) {
  Hook h = makeHook(50 * kGravity * 0.9);
  for (int i = 0; i < 61; ++i) h.world.step();
  ASSERT_TRUE(h.world.reading(0).parted);
  EXPECT_LE(h.world.reading(0).partedAt, 1.0 / 60 + 1e-9);
  const double fallen = h.world.time() - h.world.reading(0).partedAt;
  EXPECT_NEAR(h.world.state(h.load).velocity.y(), -kGravity * fallen, 0.002 * kGravity);
  EXPECT_LE(h.world.state(h.load).angularVelocity.norm(), 1e-9);
  EXPECT_EQ(h.world.reading(0).force.norm(), 0);
}

// A pendulum's pin carries m g (3 cos - 2 cos amplitude) for a point mass; it parts on the way down.
TEST(BreakForce, PartsWhereThePendulumsTensionPasses) {
  const double amplitude = 1.3, strength = 1.8 * kGravity;
  World world;
  const Quat turned(Eigen::AngleAxisd(amplitude, Vec3::UnitZ()));
  BodyDef def = solid(Sphere{0.01}, 1, {turned * Vec3(0, -2, 0), turned});
  const BodyId bob = world.addBody(def);
  JointDef j = joint(JointType::ball, kWorld, Vec3::Zero(), bob, {0, 2, 0});
  j.breakForce = strength;
  world.addJoint(j);
  Vec3 at;
  while (!world.reading(0).parted && world.time() < 5) {
    at = world.state(bob).pose.position;
    world.step();
  }
  ASSERT_TRUE(world.reading(0).parted);
  const double exact = std::acos((strength / kGravity + 2 * std::cos(amplitude)) / 3);
  const double angle = std::atan2(at.x(), -at.y());
  // Within the frame in which it passes: the bob turns by at most this.
  const double speed = std::sqrt(2 * kGravity / 2 * (std::cos(exact) - std::cos(amplitude)));
  report("angle at parting", angle - exact, 2 * speed / 60, "rad");
  EXPECT_NEAR(angle, exact, 2 * speed / 60);
}

}  // namespace
}  // namespace calm::physics
