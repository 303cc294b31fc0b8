// SPDX-License-Identifier: GPL-3.0-or-later
// What strikes again and again while something else holds it: at the instant of touch, or its rhythm is lost.
#include <gtest/gtest.h>

#include "engine/shape/hull.h"
#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kRough = 5;

// A slender block let go from half the angle at which it would fall over rocks from edge to edge. At each change it
// keeps 1 - 3/2 sin^2 a of its angular velocity, where tan a is width over height (Housner, "The behavior of inverted
// pendulum structures during earthquakes", Bulletin of the Seismological Society of America 53, 1963).
TEST(RockingBlock, LosesAtEachChangeWhatHousnerSays) {
  constexpr double kHalfWidth = 0.1, kHalfHeight = 0.4;
  const double reach = std::hypot(kHalfWidth, kHalfHeight), slender = std::atan2(kHalfWidth, kHalfHeight);
  const double tilt = slender / 2;
  World world;
  world.addBody(ground(kRough));
  BodyDef def = tangible(Box{{2 * kHalfWidth, 2 * kHalfHeight, 0.3}}, 1);
  def.pose.position = Vec3(kHalfWidth - reach * std::sin(slender - tilt), reach * std::cos(slender - tilt), 0);
  def.pose.rotation = Quat(Eigen::AngleAxisd(-tilt, Vec3::UnitZ()));
  def.friction = kRough;
  const BodyId block = world.addBody(def);
  // The energy of each swing, above that of standing.
  std::vector<double> swings = {world.energy().total() - kGravity * kHalfHeight};
  for (double side = -1; swings.size() < 6;) {
    world.step();
    const double lean = world.state(block).pose.rotation.z();
    if (lean * side > 0) continue;
    side = -side;
    world.step();
    swings.push_back(world.energy().total() - kGravity * kHalfHeight);
  }
  const double kept = std::pow(1 - 1.5 * std::pow(std::sin(slender), 2), 2);
  double worst = 0;
  for (std::size_t i = 1; i < swings.size(); ++i)
    worst = std::max(worst, std::abs(swings[i] / swings[i - 1] / kept - 1));
  report("rocking block, energy kept at a change", 100 * worst, 0.5, "%");
  EXPECT_LE(worst, 0.005);
}

// An eight-sided wheel rolls down a slope from side to side and comes to a steady pace: what each impact takes, the way
// down gives back (McGeer, "Passive dynamic walking", International Journal of Robotics Research 9, 1990).
TEST(RimlessWheel, ComesToItsPace) {
  constexpr int kSpokes = 8;
  constexpr double kAngle = kPi / kSpokes, kSlope = 12 * kPi / 180, kInertia = 0.2;
  World world({.gravity = kGravity * Vec3(std::sin(kSlope), -std::cos(kSlope), 0)});
  world.addBody(ground(kRough));
  std::vector<Vec3> corners;
  for (int i = 0; i < kSpokes; ++i)
    for (const double z : {-0.3, 0.3})
      corners.emplace_back(std::cos((2 * i + 1) * kAngle), std::sin((2 * i + 1) * kAngle), z);
  BodyDef def = tangible(ConvexHull{std::make_shared<HullData>(makeHull(corners))}, 1, {{0, std::cos(kAngle), 0}});
  def.mass.inertia = Vec3(1, 1, kInertia).asDiagonal();
  def.friction = kRough;
  def.angularVelocity = Vec3(0, 0, -2);
  def.velocity = Vec3(2 * std::cos(kAngle), -2 * std::sin(kAngle), 0);
  const BodyId wheel = world.addBody(def);
  double fastest = 0;
  for (int i = 0; i < 60 * 12; ++i) {
    world.step();
    if (i > 60 * 6) fastest = std::max(fastest, -world.state(wheel).angularVelocity.z());
  }
  const double kept = (kInertia + std::cos(2 * kAngle)) / (kInertia + 1);
  const double squared =
      4 * kGravity / (1 + kInertia) * std::sin(kAngle) * std::sin(kSlope) / (1 - kept * kept);  // before an impact
  // Frames do not end on impacts: at most this much short of one.
  const double missed = kGravity / (1 + kInertia) / 60 / std::sqrt(squared);
  const double error = fastest / std::sqrt(squared) - 1;
  report("rimless wheel, pace", 100 * error, 0.5, "%");
  EXPECT_LE(error, 0.005);
  EXPECT_GE(error, -0.005 - missed);
}

struct Wall {
  double restitution;
  JointType type;
};

class PendulumAtAWall : public testing::TestWithParam<Wall> {};

// A pendulum bob that meets a wall where it hangs straight down: half swings from touch to touch, each with the sine of
// half its amplitude smaller by the restitution.
TEST_P(PendulumAtAWall, KeepsItsRhythm) {
  const auto [e, type] = GetParam();
  constexpr double kBob = 0.05;
  World world;
  BodyDef wall;
  wall.role = Role::fixed;
  wall.shapes = {{Box{{0.2, 1, 1}}, {}}};
  wall.pose.position = Vec3(-kBob - 0.1, -1, 0);
  wall.friction = 0;
  world.addBody(wall);
  double amplitude = 0.4;
  BodyDef def = tangible(Sphere{kBob}, 1, {{std::sin(amplitude), -std::cos(amplitude), 0}});
  def.mass.inertia = 1e-9 * Mat3::Identity();
  def.friction = 0;
  def.restitution = e;
  const BodyId bob = world.addBody(def);
  JointDef j =
      joint(type, kWorld, Vec3::Zero(), bob, type == JointType::hinge ? Vec3(-def.pose.position) : Vec3::Zero());
  if (type == JointType::hinge)
    j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  else
    j.axes[0].low = j.axes[0].high = 1;
  world.addJoint(j);
  // The complete elliptic integral by the arithmetic-geometric mean: half a swing takes 2 K sqrt(l/g).
  const auto halfSwing = [](double angle) {
    double a = 1, b = std::cos(angle / 2);
    for (int i = 0; i < 20; ++i) std::tie(a, b) = std::pair((a + b) / 2, std::sqrt(a * b));
    return kPi / a / std::sqrt(kGravity);
  };
  double touch = halfSwing(amplitude) / 2, worst = 0;
  for (int touches = 0; touches < 5; ++touches) {
    // Between the frames before and after the touch the bob moves evenly, but for terms of second order.
    Vec3 before;
    do {
      before = world.state(bob).velocity;
      world.step();
    } while (!(before.x() < -1e-3 && world.state(bob).velocity.x() > 0));
    const double after = world.state(bob).pose.position.x() / world.state(bob).velocity.x();
    worst = std::max(worst, std::abs(world.time() - after - touch));
    amplitude = 2 * std::asin(e * std::sin(amplitude / 2));
    touch += halfSwing(amplitude);
  }
  // The sine for the angle over one frame: (w t)^3 / 6 g/l; and what five bounces add up to.
  report("pendulum at a wall, time of the fifth touch", 1e3 * worst, 0.2, "ms");
  EXPECT_LE(worst, 2e-4);
}
INSTANTIATE_TEST_SUITE_P(Cases, PendulumAtAWall,
                         testing::Values(Wall{1, JointType::hinge}, Wall{0.6, JointType::hinge},
                                         Wall{1, JointType::distance}, Wall{0.6, JointType::distance}));

// A ball on a plate that shakes up and down: at each touch their speed against each other turns round, less the
// restitution; between touches the ball falls freely (Holmes, "The dynamics of repeated impacts with a sinusoidally
// vibrating table", Journal of Sound and Vibration 84, 1982).
TEST(ShakenPlate, ThrowsTheBallAsFastAsItMovesAtTheTouch) {
  constexpr double kAmplitude = 0.01, kRate = 2 * kPi * 5, kRestitution = 0.8, kSeconds = 1;
  World world;
  BodyDef plate;
  plate.role = Role::kinematic;
  plate.shapes = {{Box{{2, 0.1, 2}}, {}}};
  plate.pose.position = Vec3(0, -0.05, 0);
  Motion motion;
  motion.keys = {{0, plate.pose}};
  motion.waves = {{Vec3::UnitY(), false, kAmplitude, 5, 0}};
  plate.motion = motion;
  world.addBody(plate);
  BodyDef def = tangible(Sphere{0.1}, 1, {{0, 0.4, 0}});
  def.restitution = kRestitution;
  const BodyId ball = world.addBody(def);
  for (int i = 0; i < 60 * kSeconds; ++i) world.step();
  // The ball's lowest point from touch to touch, each found by bisection.
  double time = 0, height = 0.3, speed = 0;
  const auto gap = [&](double after) {
    return height + speed * after - kGravity / 2 * after * after - kAmplitude * std::sin(kRate * (time + after));
  };
  for (;;) {
    double after = 1e-4;
    while (gap(after) > 0 && time + after < kSeconds) after += 1e-4;
    if (time + after >= kSeconds) break;
    double low = after - 1e-4, high = after;
    for (int i = 0; i < 60; ++i) (gap((low + high) / 2) > 0 ? low : high) = (low + high) / 2;
    const double coming = speed - kGravity * low, plateSpeed = kAmplitude * kRate * std::cos(kRate * (time + low));
    height = kAmplitude * std::sin(kRate * (time + low));
    speed = plateSpeed - kRestitution * (coming - plateSpeed);
    time += low;
  }
  const double left = kSeconds - time, end = height + speed * left - kGravity / 2 * left * left + 0.1;
  // Second order: the plate's speed changes by w^3 A h^2 / 8 = 0.2 mm/s more or less than evenly over a substep, and
  // each touch hands on what the ones before it have made of that.
  const double error = std::abs(world.state(ball).pose.position.y() - end);
  report("ball on a shaken plate, place after 1 s", 1e3 * error, 1, "mm");
  EXPECT_LE(error, 1e-3);
}

// What was struck on its way in one world is struck alike in a copy that was somewhere else in between.
TEST(SavedRain, GoesOnIdentically) {
  World world;
  world.addBody(ground(0.4));
  for (int i = 0; i < 60; ++i) {
    BodyDef def = tangible(Sphere{0.1}, 1, {{0.25 * (i % 5) + 0.02 * (i % 3), 1 + 0.3 * (i / 20), 0.25 * (i / 5 % 4)}});
    def.restitution = 0.7;
    def.velocity = Vec3(0.3 * (i % 7 - 3), -2, 0.2 * (i % 4 - 1.5));
    world.addBody(def);
  }
  for (int i = 0; i < 15; ++i) world.step();
  World restored = world;
  for (int i = 0; i < 7; ++i) restored.step();
  restored.restoreState(world.saveState());
  for (int i = 0; i < 40; ++i) world.step(), restored.step();
  EXPECT_EQ(world.saveState(), restored.saveState());
}

}  // namespace
}  // namespace calm::physics
