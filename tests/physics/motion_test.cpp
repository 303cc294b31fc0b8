// SPDX-License-Identifier: GPL-3.0-or-later
// Kinematic parts, changes of role, locked world axes.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

BodyDef kinematic(const Shape& shape, const Pose& pose = {}) {
  BodyDef def;
  def.role = Role::kinematic;
  def.pose = pose;
  def.shapes = {{shape, {}}};
  return def;
}

// A box on a belt slides until it has the belt's speed: v = mu g t.
TEST(Kinematic, BeltCarriesABoxAlong) {
  World world;
  BodyDef belt = kinematic(Box{{40, 0.2, 2}}, {{0, -0.1, 0}});
  belt.velocity = {2, 0, 0};
  belt.friction = 0.3;
  world.addBody(belt);
  BodyDef box = tangible(Box{Vec3::Constant(0.3)}, 5, {{0, 0.15, 0}});
  box.friction = 0.3;
  const BodyId id = world.addBody(box);
  for (int i = 0; i < 24; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), 0.3 * kGravity * 0.4, 0.01 * 0.3 * kGravity * 0.4);
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), 2, 1e-4);
}

// A bob on a carriage under constant acceleration hangs still at atan(a/g).
TEST(Kinematic, PendulumLeansOnAnAcceleratingCarriage) {
  World world;
  const double a = 3;
  BodyDef carriage;
  carriage.role = Role::kinematic;
  Motion motion;
  motion.smooth = true;
  // Catmull-Rom through points of a parabola at even times is that parabola.
  for (int i = 0; i <= 100; ++i) motion.keys.push_back({0.1 * i, {{a / 2 * 0.01 * i * i, 0, 0}}});
  carriage.motion = motion;
  const BodyId base = world.addBody(carriage);
  const double lean = std::atan2(a, kGravity);
  const BodyId bob = world.addBody(solid(Sphere{0.05}, 1, {Vec3(-std::sin(lean), -std::cos(lean), 0)}));
  const JointDef rod = joint(JointType::ball, base, Vec3::Zero(), bob, Vec3(std::sin(lean), std::cos(lean), 0));
  const JointId pivot = world.addJoint(rod);
  for (int i = 0; i < 300; ++i) world.step();
  const Vec3 hangs = world.state(bob).pose.position - world.state(base).pose.position;
  // The first stretch of the curve has a one-sided tangent, which starts a swing of a few milliradians.
  EXPECT_NEAR(std::atan2(-hangs.x(), -hangs.y()), lean, 0.03);
  EXPECT_NEAR(world.reading(pivot).forceNow.norm(), std::hypot(a, kGravity), 0.2);
}

// Kapitza 1951: upside down, a pendulum stands while its pivot shakes with (amplitude omega)^2 > 2 g l.
TEST(Kinematic, ShakenPendulumStandsUpsideDown) {
  for (const bool stands : {true, false}) {
    World world({.substeps = 16});
    BodyDef pivot;
    pivot.role = Role::kinematic;
    Motion motion;
    motion.keys = {{0, {}}};
    motion.waves = {{Vec3::UnitY(), false, 0.02, stands ? 60.0 : 20.0, 0}};
    pivot.motion = motion;
    const BodyId base = world.addBody(pivot);
    const double length = 0.5;
    const Vec3 to(std::sin(0.1) * length, std::cos(0.1) * length, 0);
    const BodyId bob = world.addBody(solid(Sphere{0.01}, 1, {to}));
    world.addJoint(joint(JointType::ball, base, Vec3::Zero(), bob, -to));
    double lowest = 1;
    for (int i = 0; i < 300; ++i) world.step(), lowest = std::min(lowest, world.state(bob).pose.position.y());
    // (0.02 * 2 pi * 60)^2 = 57 m2/s2 against 2 g l = 9.8; at 20 Hz it is 6.3.
    if (stands)
      EXPECT_GT(lowest, 0.4);
    else
      EXPECT_LT(lowest, 0);
  }
}

// Forced vibration: the steady amplitude is F/m over the usual root; here the base moves, X/Y = r-formula.
TEST(Kinematic, BaseExcitationHasTheTransmissibilityOfTheBook) {
  const double f = 3, natural = 2, zeta = 0.15, y = 0.01, r = f / natural;
  World world({.gravity = Vec3::Zero()});
  BodyDef shaker;
  shaker.role = Role::kinematic;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, y, f, 0}};
  shaker.motion = motion;
  const BodyId base = world.addBody(shaker);
  const BodyId block = world.addBody(solid(Sphere{0.1}, 2));
  JointDef slide = joint(JointType::slider, base, Vec3::Zero(), block, Vec3::Zero());
  slide.axes[0].frequency = natural, slide.axes[0].dampingRatio = zeta;
  world.addJoint(slide);
  for (int i = 0; i < 900; ++i) world.step();
  // Over six whole cycles the mean square is half the amplitude's.
  double squares = 0;
  for (int i = 0; i < 120; ++i) world.step(), squares += std::pow(world.state(block).pose.position.x(), 2);
  const double most = std::sqrt(2 * squares / 120);
  const double expected =
      y * std::sqrt((1 + std::pow(2 * zeta * r, 2)) / (std::pow(1 - r * r, 2) + std::pow(2 * zeta * r, 2)));
  EXPECT_NEAR(most, expected, 0.01 * expected);
  report("base excitation: transmissibility", std::abs(most / expected - 1) * 100, 1, "%");
}

TEST(Kinematic, FollowsItsKeysExactly) {
  World world;
  Motion motion;
  motion.smooth = false;
  motion.keys = {{0, {{0, 0, 0}}}, {0.5, {{1, 2, 0}, Quat(Eigen::AngleAxisd(1, Vec3::UnitY()))}}, {1, {{0, 2, 0}}}};
  BodyDef def;
  def.role = Role::kinematic;
  def.motion = motion;
  const BodyId id = world.addBody(def);
  for (int i = 0; i < 15; ++i) world.step();
  EXPECT_LT((world.state(id).pose.position - Vec3(0.5, 1, 0)).norm(), 1e-12);
  EXPECT_NEAR(Eigen::AngleAxisd(world.state(id).pose.rotation).angle(), 0.5, 1e-12);
  EXPECT_LT((world.state(id).velocity - Vec3(2, 4, 0)).norm(), 1e-9);
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_LT((world.state(id).pose.position - Vec3(0, 2, 0)).norm(), 1e-12);
  EXPECT_LT(world.state(id).velocity.norm(), 1e-12);
}

// Let go while it moves, a part flies on with that velocity: a throw.
TEST(Role, VelocityIsHandedOver) {
  World world;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, 1, 0.5, 0}};
  BodyDef def = tangible(Sphere{0.1}, 2);
  def.role = Role::kinematic;
  def.motion = motion;
  const BodyId id = world.addBody(def);
  for (int i = 0; i < 30; ++i) world.step();
  const double speed = kPi * std::cos(kPi * 0.5);
  const Vec3 from = world.state(id).pose.position;
  world.setRole(id, Role::dynamic);
  for (int i = 0; i < 30; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), speed, 1e-6);
  EXPECT_NEAR(world.state(id).pose.position.y(), from.y() - kGravity / 8, 1e-6);
  world.setRole(id, Role::fixed);
  const Vec3 rests = world.state(id).pose.position;
  for (int i = 0; i < 6; ++i) world.step();
  EXPECT_EQ((world.state(id).pose.position - rests).norm(), 0);
}

TEST(LockedAxes, KeepAPartInItsPlane) {
  World world;
  const BodyId id = world.addBody(solid(Box{{0.5, 0.2, 0.1}}, 2, {{0, 0, 0.3}}));
  world.lockAxes(id, {false, false, true}, {true, true, false});
  world.setVelocity(id, {1, 2, 0}, {0, 0, 5});
  world.addTorque(id, {3, -2, 0.1});
  world.addForce(id, {0, 0, 50}, {0.1, 0, 0.3});
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.state(id).pose.position.z(), 0.3, 1e-9);
  EXPECT_NEAR(world.state(id).pose.position.x(), 2, 1e-9);
  EXPECT_LT(world.state(id).angularVelocity.head<2>().norm(), 1e-9);
  const double inertia = 2 * (0.25 + 0.04) / 12;
  EXPECT_NEAR(world.state(id).angularVelocity.z(), 5 + 0.1 / inertia * 2, 1e-6);
}

}  // namespace
}  // namespace calm::physics
