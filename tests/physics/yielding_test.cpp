// SPDX-License-Identifier: GPL-3.0-or-later
// Joints that were given a compliance: they yield by it and no more, whether the step can follow how they swing or not.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kMass = 10;

JointDef yieldingTo(World& world, JointType type, double compliance, BodyId body, const Vec3& at = Vec3::Zero()) {
  JointDef j = joint(type, kWorld, at, body, world.state(body).pose.applyInverse(at));
  j.compliance = compliance;
  return j;
}

void run(World& world, double seconds) {
  for (const double end = world.time() + seconds - 1e-9; world.time() < end;) world.step();
}

double depthOf(const World& world, BodyId body) {
  return -world.state(body).pose.position.y();
}

// At rest: alpha F.
TEST(Yielding, SagsByItsComplianceTimesTheLoad) {
  double worst = 0;
  for (const JointType type : {JointType::ball, JointType::fixed, JointType::hinge, JointType::universal})
    for (double compliance = 1e-10; compliance < 2e-3; compliance *= 10) {
      World world;
      BodyDef def = solid(Box{Vec3::Constant(0.4)}, kMass, {});
      def.linearDamping = 5;
      const BodyId box = world.addBody(def);
      world.addJoint(yieldingTo(world, type, compliance, box));
      run(world, 6);
      const double sag = compliance * kMass * kGravity;
      worst = std::max(worst, std::abs(depthOf(world, box) - sag) / sag);
      EXPECT_NEAR(depthOf(world, box), sag, 1e-4 * sag) << static_cast<int>(type) << ", " << compliance;
      EXPECT_NEAR(world.reading(0).force.y(), kMass * kGravity, 1e-4 * kMass * kGravity);
    }
  report("sag of ball, weld, hinge, universal joint, compliance 1e-10 to 1e-3 m/N", worst, 1e-4, "");
}

// About an axis: alpha T / rho^2, by the moment of C = sin(angle) at small angles.
TEST(Yielding, TurnsByItsComplianceOverThePinsRadius) {
  for (const double compliance : {1e-9, 1e-8, 1e-7, 1e-6}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef def = solid(Box{Vec3::Constant(0.4)}, kMass, {});
    def.angularDamping = 5;
    const BodyId box = world.addBody(def);
    JointDef j = yieldingTo(world, JointType::fixed, compliance, box);
    j.pinRadius = 0.05;
    world.addJoint(j);
    world.addTorque(box, {0, 0, 5});
    run(world, 12);
    const double turned = compliance * 5 / (0.05 * 0.05);
    EXPECT_NEAR(2 * world.state(box).pose.rotation.z(), turned, 1e-4 * turned) << compliance;
  }
}

// Let go without load it swings as on a spring, alpha m g (1 - cos(omega t)), and keeps its energy.
TEST(Yielding, SwingsAsOnASpring) {
  double before = 0;
  for (const int rate : {60, 120, 240}) {
    World world({.frame = 1.0 / rate});
    const BodyId box = world.addBody(solid(Box{Vec3::Constant(0.4)}, kMass, {}));
    world.addJoint(yieldingTo(world, JointType::ball, 1e-4, box));
    const double start = world.energy().total(), omega = std::sqrt(1 / (1e-4 * kMass));
    double worst = 0, energy = 0;
    for (int i = 0; i < rate; ++i) {
      world.step();
      const double sag = 1e-4 * kMass * kGravity * (1 - std::cos(omega * world.time()));
      worst = std::max(worst, std::abs(depthOf(world, box) - sag));
      energy = std::max(energy, std::abs(world.energy().total() - start));
    }
    if (before > 0) {
      EXPECT_NEAR(std::log2(before / worst), 2, 0.2) << "second order";
    }
    before = worst;
    const double swing = 2 * 1e-4 * kMass * kGravity;
    if (rate == 240)
      report("mass on a ball joint of 1e-4 m/N, 240 Hz, 1 s: place", worst / swing, 2e-3, "of its swing");
    EXPECT_LT(energy, 1e-2 * kMass * kGravity * swing) << rate;
  }
}

// A pendulum whose pin yields, of each kind: as one that hangs on springs along and about all axes but its own.
TEST(Yielding, HingeIsAHingeOnSprings) {
  constexpr double kCompliance = 2e-5, kRadius = 0.5;
  const auto swing = [&](bool springs, int rate) {
    World world({.frame = 1.0 / rate});
    const BodyId rod = world.addBody(solid(Box{{0.5, 0.04, 0.04}}, 2, {{0.25, 0, 0}}));
    JointDef j = joint(springs ? JointType::sixAxis : JointType::hinge, kWorld, Vec3::Zero(), rod, {-0.25, 0, 0});
    j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    if (springs) {
      for (int k = 0; k < 3; ++k) j.axes[static_cast<std::size_t>(k)].stiffness = 1 / kCompliance;
      for (int k = 4; k < 6; ++k) j.axes[static_cast<std::size_t>(k)].stiffness = kRadius * kRadius / kCompliance;
    } else {
      j.compliance = kCompliance, j.pinRadius = kRadius;
    }
    world.addJoint(j);
    run(world, 1);
    return world.state(rod).pose.position;
  };
  const Vec3 truth = swing(true, 1920);
  const double off = (swing(false, 240) - truth).norm();
  // Its rows are sines of what springs have as angles.
  EXPECT_LT(off, 3e-5);
  EXPECT_LT((swing(false, 60) - truth).norm(), 1e-4);
}

// Of a rope and a rod: stretch alpha T. A rope without load is slack.
TEST(Yielding, RopesAndRodsStretch) {
  for (const double low : {-kNoLimit, 1.0}) {
    World world;
    BodyDef def = solid(Box{Vec3::Constant(0.1)}, kMass, {{0, -1, 0}});
    def.linearDamping = 5;
    const BodyId box = world.addBody(def);
    JointDef rope = joint(JointType::distance, kWorld, Vec3::Zero(), box, Vec3::Zero());
    rope.axes[0].low = low, rope.axes[0].high = 1;
    rope.compliance = 1e-4;
    world.addJoint(rope);
    run(world, 6);
    EXPECT_NEAR(depthOf(world, box), 1 + 1e-4 * kMass * kGravity, 1e-6) << low;
    world.setGravity({0, kGravity, 0});
    run(world, 0.3);
    const bool rod = low == 1;
    EXPECT_EQ(std::abs(depthOf(world, box) - 1) < 0.03, rod);
  }
}

// Links in a straight line between two walls have no slack to fall by but what they yield: in the middle they sag by
// s^3 = 3 L c N W L / 64 for N joints of compliance c that carry W over the span L, pulled with W L / 8 s. The last is
// the engine's own compliance.
TEST(Yielding, StraightLineSagsByTheStretchOfItsLinks) {
  constexpr int kLinks = 10;
  constexpr double kLink = 0.3, kSpan = kLinks * kLink;
  for (const double compliance : {1e-5, 1e-7, 1e-9, 0.0}) {
    World world;
    BodyId last = kWorld;
    for (int i = 0; i < kLinks; ++i) {
      BodyDef def = solid(Box{{kLink, 0.06, 0.06}}, 1, {{kLink * (i + 0.5), 0, 0}});
      def.linearDamping = def.angularDamping = 4;
      const BodyId link = world.addBody(def);
      JointDef j = joint(JointType::ball, last, i ? Vec3(kLink / 2, 0, 0) : Vec3(0, 0, 0), link, {-kLink / 2, 0, 0});
      j.compliance = compliance;
      world.addJoint(j);
      last = link;
    }
    JointDef end = joint(JointType::ball, kWorld, {kSpan, 0, 0}, last, {kLink / 2, 0, 0});
    end.compliance = compliance;
    world.addJoint(end);
    int fallbacks = 0;
    for (int i = 0; i < 240; ++i) fallbacks += world.step().fallbacks;
    const double c = compliance > 0 ? compliance : 1e-12, weight = kLinks * kGravity;
    const double sag = std::cbrt(3 * kSpan * c * (kLinks + 1) * weight * kSpan / 64);
    double lowest = 0;
    for (BodyId b = 1; b < world.bodyCount(); ++b) lowest = std::max(lowest, depthOf(world, b));
    EXPECT_NEAR(lowest, sag, 0.1 * sag) << compliance;
    EXPECT_NEAR(world.reading(0).force.norm(), weight * kSpan / (8 * sag), 0.1 * weight * kSpan / (8 * sag));
    EXPECT_EQ(fallbacks, 0) << compliance;
  }
}

// In a chain of them each carries what hangs below it.
TEST(Yielding, ChainCarriesItsWeights) {
  World world;
  BodyId last = kWorld;
  double depth = 0;
  for (int i = 0; i < 5; ++i) {
    BodyDef def = solid(Box{Vec3::Constant(0.2)}, 2, {{0, -0.3 * (i + 1), 0}});
    def.linearDamping = 5;
    const BodyId link = world.addBody(def);
    JointDef j = joint(JointType::fixed, last, Vec3(0, i ? -0.15 : -0.15, 0), link, {0, 0.15, 0});
    j.compliance = std::pow(10, -4 - i);
    world.addJoint(j);
    depth += j.compliance * 2 * (5 - i) * kGravity;
    last = link;
  }
  run(world, 8);
  EXPECT_NEAR(depthOf(world, last) - 1.5, depth, 1e-3 * depth);
  for (JointId j = 0; j < 5; ++j) EXPECT_NEAR(world.reading(j).force.y(), 2 * (5 - j) * kGravity, 1e-3 * kGravity);
}

}  // namespace
}  // namespace calm::physics
