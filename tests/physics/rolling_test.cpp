// SPDX-License-Identifier: GPL-3.0-or-later
// What rolls: its point of contact wanders over both bodies, which is what decides its motion.
#include <gtest/gtest.h>

#include <utility>

#include "physics/rigs.h"
#include "physics/surfaces.h"

namespace calm::physics {
namespace {

constexpr double kRough = 10;  // a coefficient that nothing here overcomes

// A ball that rolls on a turntable goes round in a circle, at two sevenths of the table's rate and wherever it was set
// down (Weltner, "Stable circular orbits of freely moving balls on rotating discs", American Journal of Physics 47,
// 1979). Its speed is constant.
TEST(Rolling, BallOnATurntableCirclesAtTwoSeventhsOfItsRate) {
  constexpr double kRate = 2, kSpeed = 0.5, kRadius = 0.05;
  for (const double hz : {60.0, 120.0}) {
    World world({.frame = 1 / hz});
    BodyDef table;
    table.role = Role::kinematic;
    table.shapes = {{Cylinder{3, 0.1}, {}}};
    table.pose.position = Vec3(0, -0.05, 0);
    table.angularVelocity = Vec3(0, kRate, 0);
    table.friction = kRough;
    world.addBody(table);
    BodyDef def = tangible(Sphere{kRadius}, 1, {{0.5, kRadius, 0}});
    def.friction = kRough;
    def.velocity = Vec3(kSpeed, 0, 0);
    def.angularVelocity = Vec3(kRate * 0.5 / kRadius, 0, -kSpeed / kRadius);
    const BodyId ball = world.addBody(def);
    double turned = 0, slowest = 1e9, fastest = 0;
    Vec3 last = def.velocity;
    constexpr double kSeconds = 8;
    for (int i = 0; i < kSeconds * hz; ++i) {
      world.step();
      const Vec3 v = world.state(ball).velocity;
      turned += std::atan2(last.cross(v).y(), last.dot(v));
      slowest = std::min(slowest, v.norm()), fastest = std::max(fastest, v.norm());
      last = v;
    }
    // Second order: the table turns by 0.4 % of a radian in a substep.
    const double rate = std::abs(turned / (2.0 / 7 * kRate * kSeconds) - 1);
    const double speed = std::max(fastest / kSpeed - 1, 1 - slowest / kSpeed);
    report("ball on a turntable, rate, " + std::to_string(hz) + " Hz", 100 * rate, 0.01, "%");
    report("ball on a turntable, speed, " + std::to_string(hz) + " Hz", 100 * speed, 0.01, "%");
    EXPECT_LE(rate, 1e-4);
    EXPECT_LE(speed, 1e-4);
  }
}

// One coordinate and its rate, which grows by faster(coordinate, rate): gone on with by the midpoint rule.
struct Reference {
  double at, rate;

  template <class Faster>
  void goOn(const Faster& faster, double seconds) {
    const auto steps = std::lround(seconds * 1e5);
    const double h = seconds / static_cast<double>(steps);
    for (long i = 0; i < steps; ++i) {
      const double middle = rate + h / 2 * faster(at, rate);
      rate += h * faster(at + h / 2 * rate, middle);
      at += h * middle;
    }
  }
};

// A disc that lies almost flat and rolls round on its rim, its centre at rest: the rate at which the touch runs round
// is the root of 4 g / (R sin lean) (Olsson, "The Euler disk as a dynamical system", American Journal of Physics 40,
// 1972). The flatter, the faster runs the touch against the disc's own points.
TEST(Rolling, DiscAlmostFlatRunsRoundAtItsRate) {
  constexpr double kRadius = 0.1, kThick = 1e-5;
  for (const double tilt : {0.3, 0.15}) {
    World world;
    world.addBody(ground(kRough));
    const double rate = std::sqrt(4 * kGravity / (kRadius * std::sin(tilt)));
    BodyDef def =
        tangible(Cylinder{kRadius, kThick}, 1, {{0, kRadius * std::sin(tilt) + kThick / 2 * std::cos(tilt), 0}});
    def.pose.rotation = Quat(Eigen::AngleAxisd(-tilt, Vec3::UnitZ()));
    def.friction = kRough;
    def.angularVelocity = -rate * std::sin(tilt) * Vec3(std::cos(tilt), -std::sin(tilt), 0);
    const BodyId disc = world.addBody(def);
    const auto axis = [&] { return Vec3(world.state(disc).pose.rotation * Vec3::UnitY()); };
    const double energy = world.energy().total();
    double turned = 0;
    Vec3 last = axis();
    constexpr int kFrames = 60;
    for (int i = 0; i < kFrames; ++i) {
      world.step();
      const Vec3 now = axis();
      turned += std::atan2(last.cross(now).y(), last.x() * now.x() + last.z() * now.z());
      last = now;
    }
    // Second order in the angle by which the touch runs on in a substep.
    const double step = rate / 480, off = std::abs(std::abs(turned) / rate - 1);
    const double lost = std::abs(world.energy().total() / energy - 1);
    report("disc almost flat, " + std::to_string(tilt) + " rad, rate", 100 * off, 100 * step * step, "%");
    report("disc almost flat, " + std::to_string(tilt) + " rad, energy", 100 * lost, 100 * step * step, "%");
    EXPECT_LE(off, step * step);
    EXPECT_LE(lost, step * step);
  }
}

class HeavyOnOneSide : public testing::TestWithParam<Shape> {};

// Rolls unevenly; its energy, which has one coordinate, gives the equation of motion.
TEST_P(HeavyOnOneSide, RollsAsItsEnergySays) {
  constexpr double kRadius = 0.2, kOff = 0.05, kStart = 3, kSeconds = 3;
  const double inertia = kRadius * kRadius / 2;  // of 1 kg about its centre of mass
  const auto faster = [&](double turn, double rate) {
    const double arm = kRadius * kRadius + kOff * kOff - 2 * kRadius * kOff * std::sin(turn) + inertia;
    return kOff * std::cos(turn) * (kRadius * rate * rate + kGravity) / arm;
  };
  Reference turning{0, kStart};
  turning.goOn(faster, kSeconds);
  std::vector<double> errors;
  for (const double hz : {60.0, 120.0}) {
    World world({.frame = 1 / hz});
    world.addBody(ground(kRough));
    BodyDef def = tangible(GetParam(), 1, {{0, kRadius, 0}, Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()))});
    def.mass = {1, {kOff, 0, 0}, inertia * Mat3::Identity()};
    def.friction = kRough;
    def.angularVelocity = Vec3(0, 0, -kStart);
    def.velocity = kStart * Vec3(kRadius, -kOff, 0);
    const BodyId id = world.addBody(def);
    const double energy = world.energy().total();
    double worst = 0;
    for (int i = 0; i < kSeconds * hz; ++i) {
      world.step();
      worst = std::max(worst, std::abs(world.energy().total() / energy - 1));
    }
    errors.push_back(std::abs(world.state(id).pose.position.x() - kRadius * turning.at));
    report("heavy on one side, energy", 100 * worst, 0.1, "%");
    EXPECT_LE(worst, 1e-3);
  }
  report("heavy on one side, way of 0.8 m in 3 s", 1000 * errors[0], 0.1, "mm");
  EXPECT_LE(errors[0], 1e-4);
  EXPECT_LE(errors[1], std::max(errors[0] / 3, 2e-6)) << "not of second order";
}
INSTANTIATE_TEST_SUITE_P(Rolling, HeavyOnOneSide, testing::Values(Sphere{0.2}, Capsule{0.2, 0.6}, Cylinder{0.2, 0.3}));

// A plank that lies across a cylinder rocks on it without slipping, by its energy (Jeans, Theoretical Mechanics, 1907,
// on rocking stones).
TEST(Rolling, PlankRocksOnACylinder) {
  constexpr double kRadius = 0.5, kHalf = 0.05, kLength = 2, kStart = 0.3, kSeconds = 5;
  const double square = (kLength * kLength + 4 * kHalf * kHalf) / 12 + kHalf * kHalf;
  const auto faster = [&](double lean, double rate) {
    const double weight = kRadius * lean * std::cos(lean) - kHalf * std::sin(lean);
    return -(kRadius * kRadius * lean * rate * rate + kGravity * weight) / (square + kRadius * kRadius * lean * lean);
  };
  World world;
  BodyDef log;
  log.role = Role::fixed;
  log.shapes = {{Cylinder{kRadius, 1}, {}}};
  log.pose.rotation = Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()));
  log.friction = kRough;
  world.addBody(log);
  const Vec3 up(std::sin(kStart), std::cos(kStart), 0), along(std::cos(kStart), -std::sin(kStart), 0);
  BodyDef def = tangible(Box{{kLength, 2 * kHalf, 0.3}}, 1, {(kRadius + kHalf) * up - kRadius * kStart * along});
  def.pose.rotation = Quat(Eigen::AngleAxisd(-kStart, Vec3::UnitZ()));
  def.friction = kRough;
  const BodyId plank = world.addBody(def);
  Reference leaning{kStart, 0};
  double worst = 0;
  for (int i = 0; i < kSeconds * 60; ++i) {
    world.step();
    leaning.goOn(faster, 1.0 / 60);
    worst = std::max(worst, std::abs(-2 * std::asin(world.state(plank).pose.rotation.z()) - leaning.at));
  }
  report("plank rocking on a cylinder, lean over 5 s", worst, 3e-4, "rad");
  EXPECT_LE(worst, kStart / 1000);
}

// A thin coin that leans by 20 degrees and rolls in a circle, steadily: the moment of its weight and of the force that
// leads it round is what turns its angular momentum (Routh, Dynamics of a System of Rigid Bodies, part II, §241). Spin
// about its axis and radius of the circle are the solution of that equation for two and a half radians a second.
TEST(Rolling, LeaningCoinRollsInItsCircle) {
  constexpr double kLean = 20 * kPi / 180, kRadius = 0.3, kRate = 2.5, kThick = 2e-4;
  const Vec3 up(-std::sin(kLean), std::cos(kLean), 0), axis(std::cos(kLean), std::sin(kLean), 0);
  const double across = kRadius * kRadius / 4, along = kRadius * kRadius / 2;  // moments of inertia of 1 kg
  // What the forces lack to turn the angular momentum, about z, at the spin about the axis.
  const auto lack = [&](double spin, Vec3& turning, Vec3& velocity) {
    turning = kRate * Vec3::UnitY() + spin * axis;
    velocity = turning.cross(kRadius * up);
    const Vec3 momentum = across * turning + (along - across) * turning.dot(axis) * axis;
    const Vec3 force = (kRate * Vec3::UnitY()).cross(velocity) + Vec3(0, kGravity, 0);
    return ((kRate * Vec3::UnitY()).cross(momentum) + (kRadius * up).cross(force)).z();
  };
  double low = -6, high = -2;
  Vec3 turning, velocity;
  ASSERT_LT(lack(low, turning, velocity) * lack(high, turning, velocity), 0);
  for (int i = 0; i < 100; ++i) {
    const double middle = (low + high) / 2;
    (lack(middle, turning, velocity) * lack(low, turning, velocity) > 0 ? low : high) = middle;
  }
  lack(low, turning, velocity);
  const double circle = -velocity.z() / kRate;
  World world;
  world.addBody(ground(kRough));
  BodyDef def = tangible(Cylinder{kRadius, kThick}, 1);
  def.mass.inertia = Vec3(across, along, across).asDiagonal();
  def.pose.position = Vec3(circle, kRadius * std::cos(kLean) + kThick / 2 * std::sin(kLean), 0);
  def.pose.rotation = turnBetween(Vec3::UnitY(), axis);
  def.friction = kRough;
  def.velocity = velocity;
  def.angularVelocity = turning;
  const BodyId coin = world.addBody(def);
  double leaning = 0, off = 0;
  for (int i = 0; i < 180; ++i) {
    world.step();
    const Pose& pose = world.state(coin).pose;
    leaning = std::max(leaning, std::abs(std::asin((pose.rotation * Vec3::UnitY()).y()) - kLean));
    off = std::max(off, std::abs(std::hypot(pose.position.x(), pose.position.z()) - circle));
  }
  // Half its thickness of leverage rocks it by 0.1 degrees, and as much of its radius.
  report("coin in its circle, lean", leaning * 180 / kPi, 0.2, "degrees");
  report("coin in its circle, radius", 100 * off / circle, 2, "%");
  EXPECT_LE(leaning, 0.2 * kPi / 180);
  EXPECT_LE(off, 0.02 * circle);
}

// A rod with a round foot falls over on smooth ground, keeping its energy: to second order in the step.
TEST(Rolling, RodFallingOnItsRoundFootKeepsItsEnergy) {
  constexpr double kLean = 0.02, kFoot = 0.005;
  std::vector<double> errors;
  for (const double hz : {60.0, 120.0}) {
    World world({.frame = 1 / hz});
    world.addBody(ground(0));
    BodyDef def = tangible(Capsule{kFoot, 1 + 2 * kFoot}, 1);
    def.pose.position = Vec3(0.5 * std::sin(kLean), 0.5 * std::cos(kLean) + kFoot, 0);
    def.pose.rotation = Quat(Eigen::AngleAxisd(-kLean, Vec3::UnitZ()));
    def.friction = 0;
    const BodyId rod = world.addBody(def);
    const double before = world.energy().total();
    while (world.state(rod).pose.position.y() > 0.3) world.step();
    errors.push_back(std::abs(world.energy().total() - before) / world.energy().kinetic);
  }
  report("rod falling on its round foot, energy", errors[0], 1e-4, "of it");
  EXPECT_LE(errors[0], 1e-4);
  EXPECT_GT(errors[0] / errors[1], 3);
}

class Step : public testing::TestWithParam<bool> {};

// A wheel rolls against a step. About its edge the angular momentum stays, so what was w becomes
// w (1 + k - h/r) / (1 + k), k the moment of inertia over m r^2; whenever within a substep it gets there.
TEST_P(Step, WheelKeepsItsAngularMomentumAboutTheEdge) {
  constexpr double kRadius = 0.2, kHeight = 0.05, kSpeed = 2;
  const bool ball = GetParam();
  const double k = ball ? 0.4 : 0.5;
  double worst = 0;
  for (const double start : {0.0, 0.001, 0.0015, 0.002, 0.003, 0.004, 0.01, 0.02}) {
    World world;
    world.addBody(ground(kRough));
    BodyDef step;
    step.role = Role::fixed;
    step.shapes = {{Box{{2, kHeight, 2}}, {}}};
    step.pose.position = Vec3(1.5, kHeight / 2, 0);
    step.friction = kRough;
    world.addBody(step);
    const Pose pose{{start, kRadius, 0}, Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()))};
    BodyDef def = ball ? tangible(Sphere{kRadius}, 1, pose) : tangible(Cylinder{kRadius, 0.4}, 1, pose);
    def.friction = kRough;
    def.velocity = Vec3(kSpeed, 0, 0);
    def.angularVelocity = Vec3(0, 0, -kSpeed / kRadius);
    world.addBody(def);
    for (int i = 0; i < 14; ++i) world.step();
    const double spin = kSpeed / kRadius * (1 + k - kHeight / kRadius) / (1 + k);
    const double left = 0.5 * (1 + k) * kRadius * kRadius * spin * spin + kGravity * kRadius;
    worst = std::max(worst, std::abs(world.energy().total() - left) / left);
  }
  report(std::string(ball ? "ball" : "wheel") + " against a step, energy left", worst, 5e-4, "of it");
  EXPECT_LE(worst, 5e-4);
}
INSTANTIATE_TEST_SUITE_P(BallAndWheel, Step, testing::Bool());

// A ball on a fixed one presses on it by its weight less what its path asks for, m g (c - 2 (c0 - c) / (1 + k)) with
// the cosine c of the angle from the top, c0 where it was let go, and k = 2/5 where it rolls and 0 where it slides;
// where that is nothing it leaves. The reading of an instant is the mean of half a step before it, in which the force
// changes by a quarter of a per cent.
TEST(Rolling, BallOffABallPressesUntilItLeaves) {
  constexpr double kRadius = 0.2, kBelow = 1, kStart = 0.3, kEnough = 0.01;
  for (const bool rolls : {false, true}) {
    World world;
    BodyDef below;
    below.role = Role::fixed;
    below.shapes = {{Sphere{kBelow}, {}}};
    below.friction = rolls ? kRough : 0;
    world.addBody(below);
    const double path = kBelow + kRadius, k = rolls ? 0.4 : 0, top = std::cos(kStart);
    BodyDef def = tangible(Sphere{kRadius}, 1, {path * Vec3(std::sin(kStart), top, 0)});
    def.friction = below.friction;
    const BodyId ball = world.addBody(def);
    double worst = 0, cosine = top, before = top;
    while (!world.contacts().empty() || cosine == top) {
      world.step();
      before = std::exchange(cosine, world.state(ball).pose.position.normalized().y());
      if (world.contacts().empty()) break;
      const ContactReading touch = world.contacts()[0];
      const double asked = cosine - 2 * (top - cosine) / (1 + k);
      worst = std::max(worst, std::abs(touch.force.dot(touch.normal) / kGravity - asked));
    }
    const std::string how = rolls ? "rolls" : "slides";
    report("ball that " + how + " off a ball, how it presses", worst, kEnough, "of its weight");
    EXPECT_LE(worst, kEnough);
    const double leaves = 2 * top / (3 + k);
    EXPECT_NEAR(cosine, leaves, before - cosine) << how << " off";  // what a frame makes
  }
}

// What rolls off a table faster than sqrt(g r) leaves it as its centre passes the rim, at whatever moment of a step
// that is, and flies in a parabola. A substep later would be 6 mm after a third of a second.
TEST(Rolling, OverARimIsAThrow) {
  constexpr double kRadius = 0.05;
  const Quat lying(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()));
  const auto furthestOff = [&](const Shape& shape, const Quat& turn, const Shape& block, int stride) {
    BodyDef table = tangible(block, 1, {{-1, -0.1, 0}});
    table.role = Role::fixed;
    double worst = 0;
    for (int i = 0; i < 200; i += stride) {
      const double speed = 1 + 0.01 * i, before = 0.1 + 0.2 * std::fmod(0.618 * i, 1.0);
      World world;
      world.addBody(table);
      BodyDef def = tangible(shape, 1, {{-before, kRadius, 0}, turn});
      def.velocity = Vec3(speed, 0, 0);
      def.angularVelocity = Vec3(0, 0, -speed / kRadius);
      const BodyId id = world.addBody(def);
      constexpr int kFrames = 36;
      for (int f = 0; f < kFrames; ++f) world.step();
      const double aloft = kFrames / 60.0 - before / speed;
      const Vec3 there(speed * aloft, kRadius - kGravity * aloft * aloft / 2, 0);
      worst = std::max(worst, (world.state(id).pose.position - there).norm());
    }
    return worst;
  };
  // A twentieth of what a substep's delay would be.
  constexpr double kEnough = 0.3;  // mm
  const std::pair<const char*, Shape> shapes[] = {
      {"ball", Sphere{kRadius}}, {"capsule", Capsule{kRadius, 0.3}}, {"cylinder", Cylinder{kRadius, 0.3}}};
  const Vec3 size(2, 0.2, 1);
  const Shape triangles = blockOfTriangles(size, 1, Made::closed);
  for (const auto& [name, shape] : shapes) {
    const double off = 1e3 * furthestOff(shape, lying, Box{size}, 1);
    report("rolls off a table, " + std::string(name) + ", worst of 200", off, kEnough, "mm");
    EXPECT_LE(off, kEnough) << name;
    EXPECT_LE(1e3 * furthestOff(shape, lying, triangles, 9), kEnough) << name << " on triangles";
  }
}

// What rolls keeps its speed and gets as far as that takes it, whether it or what it rolls on was there first.
TEST(Rolling, DoesNotMindWhichOfTheTwoCameFirst) {
  constexpr double kRadius = 0.05, kSpeed = 3, kNeeded = 1e-5;
  const Quat lying(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()));
  const Vec3 size(8, 0.2, 1);
  BodyDef table = tangible(Box{size}, 1, {{3, -0.1, 0}}), triangles = table;
  triangles.shapes = {{blockOfTriangles(size, 1, Made::closed), {}}};
  table.role = triangles.role = Role::fixed;
  double worst = 0;
  for (const Shape& shape : {Shape(Sphere{kRadius}), Shape(Capsule{kRadius, 0.3}), Shape(Cylinder{kRadius, 0.3})}) {
    BodyDef def = tangible(shape, 1, {{0, kRadius, 0}, lying});
    def.velocity.x() = kSpeed;
    def.angularVelocity.z() = -kSpeed / kRadius;
    for (const auto& [first, second] : {std::pair(table, def), std::pair(def, table), std::pair(def, triangles)}) {
      World world;
      const BodyId ids[] = {world.addBody(first), world.addBody(second)};
      for (int frame = 0; frame < 60; ++frame) world.step();
      worst = std::max(worst, std::abs(world.state(ids[first.role == Role::fixed]).pose.position.x() / kSpeed - 1));
    }
  }
  report("rolls on a table, before and after it in the list: way in a second", worst, kNeeded, "of it");
  EXPECT_LE(worst, kNeeded);
}

}  // namespace
}  // namespace calm::physics
