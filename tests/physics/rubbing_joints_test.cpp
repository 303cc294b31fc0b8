// SPDX-License-Identifier: GPL-3.0-or-later
// Many joints that hold by friction at once: each decides with all others whether it slips.
#include <gtest/gtest.h>

#include "physics/figure.h"
#include "physics/random.h"

namespace calm::physics {
namespace {

// What friction does wrong in a run, and what it took.
struct Rubbing {
  double overCap = 0;   // share
  double pushesOn = 0;  // rad/s, the fastest turning that it helps on, where it is at its cap
  double taken = 0;     // J
};

// Friction of ordinary size changes the rate of these light links by thousands of rad/s^2 in each hinge.
Rubbing watchFriction(World& world, double friction, double seconds, Residual& residual) {
  Rubbing seen;
  for (int frame = 0; frame < std::lround(60 * seconds); ++frame) {
    std::vector<double> before;
    for (JointId j = 0; j < world.jointCount(); ++j) before.push_back(world.reading(j).rate[0]);
    residual.include(world.step());
    seen.taken = 0;
    for (JointId j = 0; j < world.jointCount(); ++j) {
      const JointReading& r = world.reading(j);
      seen.taken -= r.work[0];
      const double share = r.effort[0] / friction;
      seen.overCap = std::max(seen.overCap, std::abs(share) - 1);
      // Not where it turned round within the frame, whose mean effort says nothing then.
      if (std::abs(share) > 0.999 && before[j] * r.rate[0] > 0)
        seen.pushesOn = std::max(seen.pushesOn, share * r.rate[0]);
    }
  }
  return seen;
}

// All energy that is lost went into friction; friction never has more than its cap, and never helps on.
TEST(RubbingJoints, TwoHundredHingesTakeWhatTheyLose) {
  constexpr double kFriction = 2;
  ChainPlan plan;
  plan.links = 200;
  plan.angle = 1.2;
  plan.type = JointType::hinge;
  plan.friction = kFriction;
  Chain chain = makeChain(plan);
  const double start = chain.world.energy().total();
  Residual residual;
  const Rubbing seen = watchFriction(chain.world, kFriction, 0.5, residual);
  const double lost = start - chain.world.energy().total();
  report("200 rubbing hinges: friction beyond its cap", 100 * seen.overCap, 1e-3, "%");
  report("200 rubbing hinges: turns that friction helps on", seen.pushesOn, 1e-6, "rad/s");
  report("200 rubbing hinges: loss that no friction took", 100 * std::abs(lost - seen.taken) / lost, 0.2, "%");
  EXPECT_LE(seen.overCap, 1e-5);
  EXPECT_LE(seen.pushesOn, 1e-6);
  EXPECT_GT(lost, 1);
  EXPECT_LE(std::abs(lost - seen.taken), 2e-3 * lost);
  EXPECT_EQ(residual.fallbacks, 0);
}

// Tower of flat links that stands on a free hinge at an angle and begins to fall; its others hold by friction.
struct Tower {
  static constexpr int kLinks = 60;
  static constexpr double kLength = 0.1, kMass = 0.5;  // of a link
  static constexpr double kHeight = kLinks * kLength, kWeight = kLinks * kMass * kGravity;
  World world;
  std::vector<JointId> hinges;

  Tower(const StepSettings& settings, double lean, double friction, double atFoot) : world(settings) {
    const Quat turned(Eigen::AngleAxisd(lean, Vec3::UnitZ()));
    const Quat axis = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    BodyId below = kWorld;
    for (int i = 0; i < kLinks; ++i) {
      const Vec3 middle = turned * Vec3(0, (i + 0.5) * kLength, 0);
      const BodyId link = world.addBody(solid(Box{{0.002, kLength, 0.05}}, kMass, {middle, turned}));
      JointDef def = joint(JointType::hinge, below, below == kWorld ? Vec3(0, 0, 0) : Vec3(0, kLength / 2, 0), link,
                           Vec3(0, -kLength / 2, 0));
      def.frameA.rotation = below == kWorld ? Quat(turned * axis) : axis;
      def.frameB.rotation = axis;
      def.axes[0].friction = below == kWorld ? atFoot : friction;
      hinges.push_back(world.addJoint(def));
      below = link;
    }
  }
  double bend(int hinge) const { return std::abs(world.reading(hinges[hinge]).position[0]); }
};

// A falling tower bends most a third of the way up, by W H sin(lean) / 27, however fast it falls (Varieschi and Kamiya,
// American Journal of Physics 71, 2003): there its hinges give way first, and then.
TEST(RubbingJoints, FallingTowerGivesWayAThirdUp) {
  constexpr double kGivesWayAt = 0.5;  // sin(lean)
  StepSettings settings;
  settings.frame = 1.0 / 600;
  const double friction = Tower::kWeight * Tower::kHeight * kGivesWayAt / 27;
  Tower tower(settings, -0.48, friction, 0);
  int first = -1;
  double lean = 0;
  while (first < 0 && tower.world.time() < 2) {
    tower.world.step();
    lean = 0.48 + tower.bend(0);
    for (int hinge = 1; hinge < Tower::kLinks; ++hinge) {
      const double effort = std::abs(tower.world.reading(tower.hinges[hinge]).effort[0]);
      if (effort > 0.9999 * friction && first < 0) first = hinge;
    }
  }
  report("falling tower: gives way at this part of its height", static_cast<double>(first) / Tower::kLinks, 1.0 / 3,
         "");
  report("falling tower: lean then, sine, against 1/27", std::sin(lean) / kGivesWayAt - 1, 5e-3, "");
  // The moment is a frame's mean, over which the sine grows by 2e-3, and the next hinges have 0.2 % less of it.
  EXPECT_NEAR(first, Tower::kLinks / 3, 1);
  EXPECT_NEAR(std::sin(lean), kGivesWayAt, 5e-3 * kGivesWayAt);
}

// Level, with the same friction everywhere: below the moment of its weight at the wall it turns there alone, as one
// rod; above it holds.
TEST(RubbingJoints, LevelArmTurnsAtItsRootAloneOrHolds) {
  constexpr double kQuarter = kPi / 2;
  const double moment = Tower::kWeight * Tower::kHeight / 2;
  const double inertia = Tower::kWeight / kGravity * Tower::kHeight * Tower::kHeight / 3;
  Tower holds({}, -kQuarter, 1.001 * moment, 1.001 * moment);
  for (int frame = 0; frame < 60; ++frame) holds.world.step();
  double bent = 0;
  for (int hinge = 0; hinge < Tower::kLinks; ++hinge) bent = std::max(bent, holds.bend(hinge));
  report("level arm that holds by friction: bends in 1 s", bent, 1e-7, "rad");
  EXPECT_LE(bent, 1e-7);

  Tower turns({}, -kQuarter, 0.9 * moment, 0.9 * moment);
  constexpr int kFrames = 6;
  for (int frame = 0; frame < kFrames; ++frame) turns.world.step();
  const double time = kFrames / 60.0, expected = 0.1 * moment / inertia * time;
  const double rate = std::abs(turns.world.reading(turns.hinges[0]).rate[0]);
  report("level arm that slips at its root: rate of turning", 100 * (rate / expected - 1), 0.1, "%");
  // The weight's lever shrinks by the square of what it has turned: 1e-5.
  EXPECT_NEAR(rate, expected, 1e-3 * expected);
  for (int hinge = 1; hinge < Tower::kLinks; ++hinge) EXPECT_LE(turns.bend(hinge), 1e-7) << "hinge " << hinge;
}

// Figures whose joints rub: what holds where they lie is shared between joints and ground in more ways than one. They
// come to rest, and never gain.
class RubbingFigures : public testing::TestWithParam<double> {};

TEST_P(RubbingFigures, ComeToRest) {
  World world;
  world.addBody(ground(0.6));
  for (int i = 0; i < 2; ++i) addFigure(world, {2.0 * i, 0.5, 0});
  for (JointId j = 0; j < world.jointCount(); ++j)
    for (int k = 0; k < 3; ++k) {
      AxisDef axis;
      if (k == 0) axis.low = -0.5, axis.high = 0.5;
      axis.friction = GetParam();
      world.setAxis(j, k, axis);
    }
  const double start = world.energy().total();
  double last = start, gain = 0;
  for (int frame = 0; frame < 300; ++frame) {
    world.step();
    const double now = world.energy().total();
    gain = std::max(gain, now - last);
    last = now;
  }
  double fastest = 0;
  for (BodyId body = 1; body < world.bodyCount(); ++body)
    fastest = std::max(fastest, world.state(body).velocity.norm());
  report("figures with rubbing joints: gain in a frame", gain, 1e-7 * (start - last), "J");
  report("figures with rubbing joints: fastest after 5 s", fastest, 1e-4, "m/s");
  EXPECT_LE(gain, 1e-7 * (start - last));
  // The tolerance to which contacts are solved is 1e-5 m/s.
  EXPECT_LE(fastest, 1e-4);
}
INSTANTIATE_TEST_SUITE_P(Frictions, RubbingFigures, testing::Values(0.5, 3, 20));

// The same thrown on blocks, with joints that rub, are sprung, or are held by servos up to a cap.
class ThrownFigures : public testing::TestWithParam<unsigned> {};

TEST_P(ThrownFigures, NeverGain) {
  Random random(GetParam());
  World world;
  world.addBody(ground(random.uniform(0.2, 1)));
  for (int i = 0; i < 5; ++i) {
    BodyDef block;
    block.role = Role::fixed;
    block.shapes = {{Box{Vec3(0.5, 0.4, 0.5) + random.vector(0.2)}, {}}};
    block.friction = random.uniform(0.2, 1);
    const Vec3 at = random.vector(0.7);
    block.pose = {Vec3(at.x(), std::abs(at.y()) / 2, at.z()),
                  Quat(Eigen::AngleAxisd(random.uniform(-1, 1), random.vector(1).normalized()))};
    world.addBody(block);
  }
  addFigure(world, {random.uniform(-0.3, 0.3), 0.9, random.uniform(-0.3, 0.3)});
  const double strength = std::exp(random.uniform(std::log(0.02), std::log(20)));
  for (JointId j = 0; j < world.jointCount(); ++j)
    for (int k = 0; k < 3; ++k) {
      AxisDef axis;
      if (k == 0) axis.low = -0.5, axis.high = 0.5;
      if (GetParam() % 3 != 1) axis.friction = strength;
      if (GetParam() % 3 != 0) axis.stiffness = 5 * strength, axis.damping = 0.2 * strength;
      if (GetParam() % 3 == 2) axis.springCap = 2 * strength;
      world.setAxis(j, k, axis);
    }
  const double start = world.energy().total();
  double last = start, gain = 0;
  Residual residual;
  for (int frame = 0; frame < 150; ++frame) {
    residual.include(world.step());
    const double now = world.energy().total();
    gain = std::max(gain, now - last);
    last = now;
  }
  // Springs swing with the error of their step, of second order.
  report("thrown figure with joints that hold: gain in a frame", gain, 1e-6 * (start - last), "J");
  EXPECT_LE(gain, 1e-6 * (start - last));
  EXPECT_EQ(residual.redone, 0);
}
INSTANTIATE_TEST_SUITE_P(Seeds, ThrownFigures, testing::Range(0u, 12u));

}  // namespace
}  // namespace calm::physics
