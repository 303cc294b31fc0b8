// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/world.h"

#include <gtest/gtest.h>

#include <limits>

#include "physics/random.h"
#include "physics/rigs.h"

namespace calm {
namespace {

using physics::ground;
using physics::joint;
using physics::solid;
using physics::tangible;

constexpr double kNan = std::numeric_limits<double>::quiet_NaN();
constexpr double kInfinity = std::numeric_limits<double>::infinity();

void expectFault(const std::function<void()>& act, const std::string& word) {
  try {
    act();
    FAIL() << "accepted; expected a fault about " << word;
  } catch (const WorldError& e) {
    EXPECT_NE(std::string(e.what()).find(word), std::string::npos) << e.what();
  }
}

TEST(World, RefusesBadBodies) {
  World world;
  const auto with = [&](auto change) {
    return [&world, change] {
      BodyDef def = tangible(Sphere{0.1}, 1);
      change(def);
      world.addBody(def);
    };
  };
  expectFault(with([](BodyDef& d) { d.mass.mass = 0; }), "mass");
  expectFault(with([](BodyDef& d) { d.mass.mass = -3; }), "mass");
  expectFault(with([](BodyDef& d) { d.mass.mass = kInfinity; }), "mass");
  expectFault(with([](BodyDef& d) { d.pose.position.x() = kNan; }), "position");
  expectFault(with([](BodyDef& d) { d.pose.rotation.coeffs() *= 2; }), "orientation");
  expectFault(with([](BodyDef& d) { d.velocity.y() = kInfinity; }), "velocit");
  expectFault(with([](BodyDef& d) { d.friction = -1; }), "friction");
  expectFault(with([](BodyDef& d) { d.restitution = 1.5; }), "restitution");
  expectFault(with([](BodyDef& d) { d.shapes[0].shape = Sphere{0}; }), "radius");
  expectFault(with([](BodyDef& d) { d.shapes[0].shape = HalfSpace{}; }), "half space");
  EXPECT_EQ(world.bodyCount(), 1);
}

TEST(World, RefusesBadJoints) {
  World world;
  const BodyId a = world.addBody(solid(Sphere{0.1}, 1)), b = world.addBody(solid(Sphere{0.1}, 1));
  const BodyId still = world.addBody(ground());
  expectFault([&] { world.addJoint(joint(JointType::ball, a, Vec3::Zero(), a, Vec3::Zero())); }, "itself");
  expectFault([&] { world.addJoint(joint(JointType::ball, a, Vec3::Zero(), 17, Vec3::Zero())); }, "no part number 17");
  expectFault([&] { world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), still, Vec3::Zero())); }, "dynamic");
  expectFault([&] { world.addJoint(joint(JointType::ball, a, Vec3(kNan, 0, 0), b, Vec3::Zero())); }, "pivots");
  JointDef weak = joint(JointType::ball, a, Vec3::Zero(), b, Vec3::Zero());
  weak.breakForce = 0;
  expectFault([&] { world.addJoint(weak); }, "break force");
  EXPECT_EQ(world.jointCount(), 0);
  world.step();
}

TEST(World, RefusesBadSettings) {
  expectFault([] { World({.frame = 0}); }, "frame");
  expectFault([] { World({.substeps = 0}); }, "substeps");
  expectFault([] { World({.gravity = Vec3(0, kNan, 0)}); }, "gravity");
}

World busyWorld() {
  physics::Chain chain = physics::makeChain({20, 0.05, 0.2, 50, 0.9});
  chain.world.addBody(ground());
  for (int i = 0; i < 6; ++i)
    chain.world.addBody(
        tangible(Box{Vec3::Constant(0.2)}, 3, {{0.05 * i + 2, 0.4 + 0.25 * i, 0.02 * i}, Quat::Identity()}));
  return chain.world;
}

void expectSameBits(const World& a, const World& b) {
  ASSERT_EQ(a.bodyCount(), b.bodyCount());
  for (BodyId i = 0; i < a.bodyCount(); ++i) {
    const BodyState p = a.state(i), q = b.state(i);
    EXPECT_EQ(p.pose.position, q.pose.position) << "body " << i;
    EXPECT_EQ(p.pose.rotation.coeffs(), q.pose.rotation.coeffs()) << "body " << i;
    EXPECT_EQ(p.velocity, q.velocity) << "body " << i;
    EXPECT_EQ(p.angularVelocity, q.angularVelocity) << "body " << i;
  }
}

TEST(World, GivesTheSameBitsEveryTime) {
  World a = busyWorld(), b = busyWorld();
  for (int i = 0; i < 90; ++i) a.step(), b.step();
  expectSameBits(a, b);
}

TEST(World, ACopyMidRunStepsOnIdentically) {
  World a = busyWorld();
  for (int i = 0; i < 40; ++i) a.step();
  World saved = a;
  for (int i = 0; i < 50; ++i) a.step();
  for (int i = 0; i < 50; ++i) saved.step();
  expectSameBits(a, saved);
}

TEST(World, AStateSavedAsBytesStepsOnIdentically) {
  World a = busyWorld();
  for (int i = 0; i < 40; ++i) a.step();
  const std::vector<std::uint8_t> bytes = a.saveState();
  for (int i = 0; i < 50; ++i) a.step();
  World other = busyWorld();
  other.restoreState(bytes);
  for (int i = 0; i < 50; ++i) other.step();
  expectSameBits(a, other);
  for (JointId j = 0; j < a.jointCount(); ++j) EXPECT_EQ(a.reading(j).force, other.reading(j).force);
}

TEST(World, DamagedStatesAreRefusedAndChangeNothing) {
  World a = busyWorld();
  for (int i = 0; i < 10; ++i) a.step();
  const std::vector<std::uint8_t> bytes = a.saveState();
  const World before = a;
  for (const std::size_t length : {std::size_t{0}, std::size_t{7}, std::size_t{40}, bytes.size() / 2, bytes.size() - 1})
    EXPECT_THROW(a.restoreState({bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(length)}), WorldError);
  std::vector<std::uint8_t> flipped = bytes;
  flipped[flipped.size() / 3] ^= 4;
  EXPECT_THROW(a.restoreState(flipped), WorldError);
  World small;
  EXPECT_THROW(small.restoreState(bytes), WorldError);
  expectSameBits(a, before);
}

TEST(World, ABudgetBuysSeparationWithSubsteps) {
  // A chain with a heavy load let go level, whose links whirl.
  const auto whip = [](double budget) {
    World world({.separationBudget = budget});
    BodyId last = kWorld;
    for (int i = 0; i < 30; ++i) {
      const double mass = i < 29 ? 0.05 : 1000;
      const BodyId link = world.addBody(solid(Sphere{0.01}, mass, {{0.05 * (i + 0.5), 0, 0}}));
      world.addJoint(joint(JointType::ball, last, {i ? 0.025 : 0, 0, 0}, link, {-0.025, 0, 0}));
      last = link;
    }
    Residual worst;
    int most = 0;
    for (int i = 0; i < 180; ++i) {
      const Residual r = world.step();
      worst.include(r);
      most = std::max(most, r.substeps);
    }
    return std::pair(worst, most);
  };
  const auto [loose, plainSubsteps] = whip(0);
  ASSERT_GT(loose.linear, 1e-6) << "the case must be hard enough to need a budget";
  EXPECT_EQ(plainSubsteps, 8);
  const auto [tight, substeps] = whip(loose.linear / 3);
  EXPECT_GT(substeps, 8);
  EXPECT_TRUE(tight.overBudget || tight.linear <= loose.linear / 3);
  const auto [impossible, all] = whip(1e-15);
  EXPECT_TRUE(impossible.overBudget);
  EXPECT_EQ(all, 8 * kMostEffort);
}

TEST(World, FreeFallIsExactAtEveryFrame) {
  World world;
  const BodyId ball = world.addBody(solid(Sphere{0.1}, 2));
  for (int i = 0; i < 120; ++i) world.step();
  const double t = world.time();
  EXPECT_NEAR(world.state(ball).pose.position.y(), -0.5 * 9.81 * t * t, 1e-12 * 20);
  EXPECT_NEAR(world.state(ball).velocity.y(), -9.81 * t, 1e-12 * 20);
}

TEST(World, ForcesAndImpulsesAct) {
  World world({.gravity = Vec3::Zero()});
  const BodyId ball = world.addBody(solid(Sphere{0.5}, 2));
  world.applyImpulse(ball, Vec3(4, 0, 0), Vec3::Zero());
  EXPECT_NEAR(world.state(ball).velocity.x(), 2, 1e-15);
  world.addForce(ball, Vec3(0, 6, 0), Vec3(0.1, 0, 0));
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_NEAR(world.state(ball).velocity.y(), 3, 1e-12);
  // The force's arm is taken when it is given: torque 0.6 N m on 0.2 kg m^2.
  EXPECT_NEAR(world.state(ball).angularVelocity.z(), 3, 1e-9);
  world.clearForces();
  world.step();
  EXPECT_NEAR(world.state(ball).velocity.y(), 3, 1e-12);
}

TEST(World, RaysFindTheNearestBody) {
  World world;
  world.addBody(ground());
  const BodyId box = world.addBody(tangible(Box{{1, 1, 1}}, 1, {{0, 2, 0}, Quat::Identity()}));
  const auto hit = world.castRay({{0, 5, 0}, -Vec3::UnitY()});
  ASSERT_TRUE(hit);
  EXPECT_EQ(hit->body, box);
  EXPECT_NEAR(hit->distance, 2.5, 1e-12);
  EXPECT_FALSE(world.castRay({{0, 5, 0}, Vec3::UnitY()}));
}

TEST(World, JoinedNeighboursCollideOnlyWhenAsked) {
  const auto contacts = [](bool collide) {
    World world({.gravity = Vec3::Zero()});
    const BodyId a = world.addBody(tangible(Sphere{0.5}, 1)),
                 b = world.addBody(tangible(Sphere{0.5}, 1, {{0.9, 0, 0}, Quat::Identity()}));
    JointDef j = joint(JointType::ball, a, {0.45, 0, 0}, b, {-0.45, 0, 0});
    j.neighboursCollide = collide;
    world.addJoint(j);
    world.step();
    return world.contacts().size();
  };
  EXPECT_EQ(contacts(false), 0u);
  EXPECT_EQ(contacts(true), 1u);
}

// Bars of a chain that strike one another and the floor widen, in turn, how far each may get within a frame. That comes
// to an end however they lie.
TEST(World, SearchForWhatMayMeetComesToAnEnd) {
  constexpr double kLength = 0.3, kRestitution = 0.4;
  for (unsigned seed = 40; seed < 50; ++seed) {
    physics::Random random(seed);
    World world;
    BodyDef floor = ground();
    floor.pose.position.y() = -3 * kLength;
    floor.restitution = kRestitution;
    world.addBody(floor);
    BodyId above = kWorld;
    Vec3 end = Vec3::Zero(), at = Vec3::Zero();
    for (int i = 0; i < 6; ++i) {
      const Vec3 along = random.vector(1).normalized();
      const Pose pose{at + kLength / 2 * along, turnBetween(Vec3::UnitY(), along)};
      BodyDef bar = tangible(Box{{0.02, kLength, 0.02}}, random.uniform(0.5, 2), pose);
      bar.restitution = kRestitution;
      const BodyId id = world.addBody(bar);
      world.addJoint(joint(JointType::ball, above, end, id, {0, -kLength / 2, 0}));
      above = id, end = {0, kLength / 2, 0}, at += kLength * along;
    }
    for (int frame = 0; frame < 90; ++frame) world.step();
    EXPECT_TRUE(world.state(above).pose.position.allFinite()) << "seed " << seed;
  }
}

}  // namespace
}  // namespace calm
