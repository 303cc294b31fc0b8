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

// m e w^2, at a turn a frame: what goes round has no mean over a frame, but its size has.
TEST(BreakForce, OfABearingWhoseRotorIsOutOfBalance) {
  const double rate = 2 * kPi * 60, mass = 2, offset = 1e-3, load = mass * offset * rate * rate;
  for (const double share : {0.94, 1.05}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef def = solid(Sphere{0.1}, mass, {{0, offset, 0}, Quat::Identity()});
    def.angularVelocity = {rate, 0, 0};
    def.velocity = {0, 0, rate * offset};
    JointDef bearing = joint(JointType::hinge, kWorld, Vec3::Zero(), world.addBody(def), {0, -offset, 0});
    bearing.breakForce = share * load;
    world.addJoint(bearing);
    for (int i = 0; i < 10; ++i) world.step();
    EXPECT_EQ(world.reading(0).parted, share < 1);
    if (share < 1) continue;
    // Substep by substep the load turns by w h, of which the mean is a chord; and so is the way that it bends.
    const double turn = rate / 480 / 2, chord = std::sin(turn) / turn;
    report("load of a bearing out of balance, size over m e w^2", world.reading(0).forceSize / load, 1, "");
    EXPECT_GE(world.reading(0).forceSize, (chord * chord - 1e-3) * load);
    EXPECT_LE(world.reading(0).forceSize, (1 + 1e-3) * load);
    EXPECT_LE(world.reading(0).force.norm(), 1e-3 * load) << "the frame's impulse";
  }
}

}  // namespace
}  // namespace calm::physics
