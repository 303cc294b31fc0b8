// SPDX-License-Identifier: GPL-3.0-or-later
// Heavy loads on contacts: a chain over a drum, a dropped figure, a wall.
#include <gtest/gtest.h>

#include "physics/figure.h"

namespace calm::physics {
namespace {

// Sixty links over a drum, a stone at each end.
struct Drape {
  static constexpr int kLinks = 60;
  static constexpr double kDrum = 0.25, kLink = 0.05, kThick = 0.008, kMass = 0.1;
  World world;
  std::vector<BodyId> links;
  JointId left = 0, right = 0;
  double wrap = 0;  // rad, between the first and the last touch

  Drape(double leftLoad, double rightLoad, double friction) {
    BodyDef drum;
    drum.role = Role::fixed;
    drum.shapes = {{Cylinder{kDrum, 1}, {Vec3::Zero(), Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()))}}};
    drum.friction = friction;
    world.addBody(drum);
    // The links on the drum are chords that touch it in their middles; the others hang.
    const double half = std::atan(kLink / 2 / (kDrum + kThick)), circle = (kDrum + kThick) / std::cos(half);
    const int arc = static_cast<int>(kPi / (2 * half)) / 2 * 2, hanging = (kLinks - arc) / 2;
    wrap = 2 * half * (arc - 1);
    std::vector<Vec3> pivots;
    for (int i = 0; i <= kLinks; ++i) {
      const int along = std::clamp(i - hanging, 0, arc);
      const double angle = kPi / 2 + half * (arc - 2 * along);
      const int below = std::max({hanging - i, i - hanging - arc, 0});
      pivots.emplace_back(circle * std::cos(angle), circle * std::sin(angle) - kLink * below, 0);
    }
    const auto damped = [&](BodyDef def) {
      def.friction = friction;
      def.linearDamping = 1, def.angularDamping = 4;
      return world.addBody(def);
    };
    for (int i = 0; i < kLinks; ++i) {
      const Vec3 direction = (pivots[i + 1] - pivots[i]).normalized();
      links.push_back(damped(tangible(Capsule{kThick, kLink}, kMass,
                                      {(pivots[i] + pivots[i + 1]) / 2, turnBetween(Vec3::UnitY(), direction)})));
      if (i > 0) world.addJoint(joint(JointType::ball, links[i - 1], {0, kLink / 2, 0}, links[i], {0, -kLink / 2, 0}));
    }
    const auto load = [&](double mass, const Vec3& at, BodyId link, double end) {
      const double side = std::cbrt(mass / 2600) / 2;
      const BodyId stone = damped(solid(Box{Vec3::Constant(2 * side)}, mass, {at - Vec3(0, side, 0)}));
      return world.addJoint(joint(JointType::ball, stone, {0, side, 0}, link, {0, end * kLink / 2, 0}));
    };
    left = load(leftLoad, pivots.front(), links.front(), -1);
    right = load(rightLoad, pivots.back(), links.back(), 1);
  }

  double deepest() const {
    double depth = 0;
    for (const BodyId id : links) {
      const Pose pose = world.state(id).pose;
      const Vec3 a = pose.apply({0, -kLink / 2 + kThick, 0}), ab = pose.apply({0, kLink / 2 - kThick, 0}) - a;
      const double t = std::clamp(-a.head<2>().dot(ab.head<2>()) / ab.head<2>().squaredNorm(), 0.0, 1.0);
      depth = std::max(depth, kDrum + kThick - (a + t * ab).head<2>().norm());
    }
    return depth;
  }

  double fastest() const {
    double speed = 0;
    for (const BodyId id : links) speed = std::max(speed, world.state(id).velocity.norm());
    return speed;
  }
};

struct DrapeCase {
  const char* name;
  double ratio, separation, depth, speed;  // of the load to a link; m and m/s, allowed
};

class DrapedChain : public testing::TestWithParam<DrapeCase> {};

TEST_P(DrapedChain, LiesQuietUnderItsLoads) {
  const DrapeCase& plan = GetParam();
  const double load = plan.ratio * Drape::kMass;
  Drape drape(1.5 * load, load, 0.3);
  double separation = 0, depth = 0, speed = 0;
  for (int i = 0; i < 60 * 10; ++i) {
    drape.world.step();
    for (JointId j = 0; j < drape.world.jointCount(); ++j)
      separation = std::max(separation, drape.world.reading(j).separationPeak);
    depth = std::max(depth, drape.deepest());
    if (i > 60 * 5) speed = std::max(speed, drape.fastest());
  }
  report(std::string("draped chain, ") + plan.name + ": separation", separation * 1e3, plan.separation * 1e3, "mm");
  report(std::string("draped chain, ") + plan.name + ": penetration", depth * 1e3, plan.depth * 1e3, "mm");
  report(std::string("draped chain, ") + plan.name + ": speed from 5 s on", speed, plan.speed, "m/s");
  EXPECT_LE(separation, plan.separation);
  EXPECT_LE(depth, plan.depth);
  EXPECT_LE(speed, plan.speed);
  // Euler and Eytelwein: what friction can hold.
  const double ratio = drape.world.reading(drape.left).force.norm() / drape.world.reading(drape.right).force.norm();
  EXPECT_LE(ratio, std::exp(0.3 * drape.wrap));
  EXPECT_NEAR(ratio, 1.5, 0.015);
}

INSTANTIATE_TEST_SUITE_P(Loads, DrapedChain,
                         testing::Values(DrapeCase{"100 : 1", 100, 1e-5, 0.4e-3, 0.01},
                                         DrapeCase{"1000 : 1", 1000, 1e-4, 3e-3, 0.1}),
                         [](const auto& plan) { return "Ratio" + std::to_string(static_cast<int>(plan.param.ratio)); });

// Beyond the capstan's ratio the chain runs: the heavier stone falls, and friction takes what it can.
TEST(DrapedChain, RunsBeyondTheCapstanRatio) {
  Drape drape(30, 10, 0.15);  // e^(0.15 pi) is 1.6
  for (int i = 0; i < 30; ++i) drape.world.step();
  const double speed = drape.fastest(), before = drape.world.time();
  for (int i = 0; i < 6; ++i) drape.world.step();
  const double acceleration = (drape.fastest() - speed) / (drape.world.time() - before);
  // Both sides' pulls at the drum are in the capstan's ratio; links and damping (1/s) are counted.
  const double side = (Drape::kLinks * Drape::kMass - Drape::kMass * drape.wrap * Drape::kDrum / Drape::kLink) / 2;
  const double hold = std::exp(0.15 * drape.wrap), heavy = 30 + side, light = 10 + side;
  const double least = kGravity * (heavy - hold * (light + 1)) / (heavy + hold * (light + 1)) - 2 * speed;
  report("draped chain, running: acceleration", acceleration, kGravity, "m/s^2");
  EXPECT_GT(acceleration, 0.5 * least);
  EXPECT_LT(acceleration, kGravity * (heavy - light) / (heavy + light));
}

TEST(Figure, LandsWithoutTearingOrSinking) {
  World world;
  world.addBody(ground(0.6));
  const std::vector<Bone> bones = addFigure(world, {0, 0.5, 0});
  const auto depth = [&] {
    double deepest = 0;
    for (const auto& [id, capsule] : bones)
      for (const double end : {-1.0, 1.0}) {
        const double y = world.state(id).pose.apply({0, end * capsule.coreHalfLength(), 0}).y();
        deepest = std::max(deepest, capsule.radius - y);
      }
    return deepest;
  };
  double separation = 0, deepest = 0;
  Residual residual;
  for (int i = 0; i < 60 * 6; ++i) {
    residual.include(world.step());
    for (JointId j = 0; j < world.jointCount(); ++j) separation = std::max(separation, world.reading(j).separationPeak);
    deepest = std::max(deepest, depth());
  }
  report("dropped figure: separation", separation * 1e3, 0.05, "mm");
  report("dropped figure: penetration", deepest * 1e3, 1, "mm");
  EXPECT_LE(separation, 0.05e-3);
  EXPECT_LE(deepest, 1e-3);
  EXPECT_EQ(residual.redone, 0);
}

// Ten courses of ten bricks in running bond, with half ones at the ends.
TEST(Wall, OfAHundredBricksStands) {
  World world;
  world.addBody(ground(0.6));
  std::vector<Vec3> places;
  std::vector<BodyId> bricks;
  const auto lay = [&](double length, const Vec3& at) {
    bricks.push_back(world.addBody(tangible(Box{{length, 0.2, 0.2}}, 75 * length, {at})));
    places.push_back(at);
  };
  for (int course = 0; course < 10; ++course) {
    const double y = 0.1 + 0.2 * course;
    if (course % 2 == 0) {
      for (int i = 0; i < 10; ++i) lay(0.4, {0.401 * i, y, 0});
      continue;
    }
    for (int i = 0; i < 9; ++i) lay(0.4, {0.401 * i + 0.2005, y, 0});
    for (const double x : {-0.1, 0.401 * 9 + 0.1}) lay(0.2, {x, y, 0});
  }
  for (int i = 0; i < 60 * 5; ++i) world.step();
  double drift = 0;
  for (std::size_t i = 0; i < bricks.size(); ++i)
    drift = std::max(drift, (world.state(bricks[i]).pose.position - places[i]).norm());
  report("wall of a hundred bricks, drift in 5 s", drift * 1e3, 1, "mm");
  EXPECT_LE(drift, 1e-3);
}

}  // namespace
}  // namespace calm::physics
