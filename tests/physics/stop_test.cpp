// SPDX-License-Identifier: GPL-3.0-or-later
// Stops that give way and stops that send back, capped servos, springs by frequency, angles beyond a turn.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct Sled {
  World world;
  BodyId block;
  JointId rail;
};

// A block of 2 kg on a level rail along x.
Sled sled(const AxisDef& axis, double speed, int substeps = 8) {
  Sled s{World({.substeps = substeps}), 0, 0};
  s.block = s.world.addBody(solid(Box{Vec3::Constant(0.2)}, 2));
  JointDef def = joint(JointType::slider, kWorld, Vec3::Zero(), s.block, Vec3::Zero());
  def.axes[0] = axis;
  s.rail = s.world.addJoint(def);
  s.world.setVelocity(s.block, {speed, 0, 0}, Vec3::Zero());
  return s;
}

// The speed at which a block that meets a soft stop comes back, over the speed at which it came, wherever in a substep
// they meet: the one furthest from `expected`.
double sentBack(double stiffness, double damping, double expected) {
  constexpr double kSpeed = 1.5, kSubstep = 1.0 / 480;
  double worst = expected;
  for (int i = 0; i < 8; ++i) {
    AxisDef axis;
    axis.high = 0.1 + kSpeed * kSubstep * i / 8;
    axis.stopStiffness = stiffness, axis.stopDamping = damping;
    Sled s = sled(axis, kSpeed);
    for (int frame = 0; frame < 60; ++frame) s.world.step();
    const double back = -s.world.state(s.block).velocity.x() / kSpeed;
    if (std::abs(back - expected) > std::abs(worst - expected)) worst = back;
  }
  return worst;
}

// Without damper it comes out as fast as it went in, be the bounce slow or faster than a substep.
TEST(SoftStop, GivesBackWhatItTook) {
  double worst = 0;
  for (const double stiffness : {200.0, 5e3, 2e4, 1e5, 1e6, 1e8}) {
    const double back = sentBack(stiffness, 0, 1);
    EXPECT_NEAR(back, 1, 0.002) << stiffness << " N/m";
    worst = std::max(worst, std::abs(back - 1));
  }
  report("soft stops without damper, 200 to 1e8 N/m: speed given back", worst * 100, 0.2, "%");
}

TEST(SoftStop, YieldsByItsStiffness) {
  AxisDef axis;
  axis.high = 0.5;
  axis.stopStiffness = 200;
  Sled s = sled(axis, 1.5);
  double deepest = 0;
  for (int i = 0; i < 60; ++i) {
    s.world.step();
    deepest = std::max(deepest, s.world.state(s.block).pose.position.x() - 0.5);
  }
  // Seen once a frame, at most half of one from where it turns.
  const double expected = 1.5 * std::sqrt(2.0 / 200);
  EXPECT_NEAR(deepest, expected, 0.005 * expected);
}

// With a damper and pushing only, by Schwager and Poeschel, Granular Matter 9 (2007), equation 14.
TEST(SoftStop, SendsBackByItsDamping) {
  double worst = 0;
  for (const double zeta : {0.05, 0.3})
    for (const double stiffness : {200.0, 5e3, 1e5, 1e6, 1e7}) {
      const double root = std::sqrt(1 - zeta * zeta);
      const double expected = std::exp(-zeta / root * (kPi - std::atan2(2 * zeta * root, 1 - 2 * zeta * zeta)));
      const double back = sentBack(stiffness, 2 * zeta * std::sqrt(stiffness * 2), expected);
      EXPECT_NEAR(back, expected, 0.01) << stiffness << " N/m, " << zeta << " of critical damping";
      worst = std::max(worst, std::abs(back - expected));
    }
  report("soft stops with damper, 200 to 1e7 N/m: speed given back", worst * 100, 1, "%");
}

TEST(SoftStop, CarriesALoadByItsStiffness) {
  AxisDef axis;
  axis.high = 0;
  axis.stopStiffness = 2000;
  axis.stopDamping = 60;
  Sled s = sled(axis, 0);
  s.world.addForce(s.block, {50, 0, 0}, s.world.state(s.block).pose.position);
  for (int i = 0; i < 300; ++i) s.world.step();
  EXPECT_NEAR(s.world.state(s.block).pose.position.x(), 50.0 / 2000, 1e-6);
  EXPECT_NEAR(s.world.reading(s.rail).effort[0], -50, 1e-3);
  EXPECT_TRUE(s.world.reading(s.rail).activity[0] & kAtHighStop);
}

TEST(SoftStop, StiffOneIsStable) {
  AxisDef axis;
  axis.low = -0.1, axis.high = 0.1;
  axis.stopStiffness = 1e9;
  axis.stopDamping = 1e4;
  Sled s = sled(axis, 3);
  const double start = s.world.energy().kinetic;
  for (int i = 0; i < 300; ++i) {
    s.world.step();
    EXPECT_LE(s.world.energy().kinetic, start * 1.01);
    EXPECT_LT(std::abs(s.world.state(s.block).pose.position.x()), 0.107);  // one substep at 3 m/s
  }
}

TEST(HardStop, SendsBackByItsRestitution) {
  AxisDef axis;
  axis.low = 0, axis.high = 0.5;
  axis.restitution = 0.6;
  Sled s = sled(axis, 2);
  for (int i = 0; i < 24; ++i) s.world.step();
  EXPECT_NEAR(s.world.state(s.block).velocity.x(), -1.2, 1e-9);
  for (int i = 0; i < 30; ++i) s.world.step();
  EXPECT_NEAR(s.world.state(s.block).velocity.x(), 0.72, 1e-9);
}

// Two hinged rods that swing into stops and come back, on a carriage at rest and on one that is moved along: seen from
// the carriage it is the same (Galilei).
TEST(HardStop, SendsBackAlikeOnACarriageThatMoves) {
  constexpr double kCarriage = 3;  // m/s
  const auto build = [](double speed) {
    World world;
    BodyDef carriage;
    carriage.role = Role::kinematic;
    carriage.velocity.x() = speed;
    BodyId above = world.addBody(carriage);
    Vec3 end = Vec3::Zero();
    for (int i = 0; i < 2; ++i) {
      BodyDef rod = solid(Box{{0.5, 0.02, 0.02}}, 1, {{0.25 + 0.5 * i, 0, 0}});
      rod.velocity.x() = speed;
      const BodyId id = world.addBody(rod);
      JointDef def = joint(JointType::hinge, above, end, id, {-0.25, 0, 0});
      def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
      def.axes[0].low = -0.6, def.axes[0].high = 0.6;
      def.axes[0].restitution = 0.5;
      world.addJoint(def);
      above = id, end = {0.25, 0, 0};
    }
    return std::pair(std::move(world), above);
  };
  auto [still, tip] = build(0);
  auto [moved, same] = build(kCarriage);
  double worst = 0;
  for (int i = 0; i < 90; ++i) {
    still.step(), moved.step();
    const Vec3 way(kCarriage * moved.time(), 0, 0);
    worst = std::max(worst, (moved.state(same).pose.position - way - still.state(tip).pose.position).norm());
  }
  report("stops on a carriage that moves: path of the tip", worst * 1e3, 0.01, "mm");
  EXPECT_LT(worst, 1e-5);
}

// Twelve rods let go level, each of which stops dead at 0.3 rad from the one before: what strikes when decides how the
// others go on, so the order of the method shows only where each is struck at its instant.
TEST(HardStop, EachOfManyIsStruckAtItsInstant) {
  const auto tip = [](int substeps) {
    World world({.substeps = substeps});
    BodyId above = kWorld;
    Vec3 end = Vec3::Zero();
    for (int i = 0; i < 12; ++i) {
      const BodyId id = world.addBody(solid(Box{{0.1, 0.01, 0.01}}, 0.1, {{0.05 + 0.1 * i, 0, 0}}));
      JointDef def = joint(JointType::hinge, above, end, id, {-0.05, 0, 0});
      def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
      def.axes[0].low = -0.3, def.axes[0].high = 0.3;
      world.addJoint(def);
      above = id, end = {0.05, 0, 0};
    }
    for (int i = 0; i < 30; ++i) world.step();
    return world.state(above).pose.position;
  };
  const Vec3 truth = tip(256);
  const double coarse = (tip(8) - truth).norm(), fine = (tip(32) - truth).norm(), order = std::log2(coarse / fine) / 2;
  report("twelve rods onto dead stops: order", order, 1.6, "at least");
  EXPECT_LT(coarse, 1e-3);
  EXPECT_GE(order, 1.6);
}

// A rod held level by a servo of 20 Nm against 3 kg at half a metre (14.7 Nm): it holds; with 10 Nm it gives way at
// the cap.
TEST(Servo, HoldsUpToItsCap) {
  for (const double cap : {20.0, 10.0}) {
    World world;
    const BodyId rod = world.addBody(solid(Box{{1, 0.05, 0.05}}, 3, {{0.5, 0, 0}}));
    JointDef def = joint(JointType::hinge, kWorld, Vec3::Zero(), rod, Vec3(-0.5, 0, 0));
    def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    def.axes[0].stiffness = 1e6, def.axes[0].damping = 1e4, def.axes[0].springCap = cap;
    const JointId id = world.addJoint(def);
    for (int i = 0; i < 6; ++i) world.step();
    const double weight = 3 * kGravity * 0.5, inertia = 3 * (1 + 0.0025) / 12 + 3 * 0.25;
    if (cap > weight) {
      EXPECT_NEAR(world.reading(id).effort[0], weight, 1e-2);
      EXPECT_NEAR(world.reading(id).position[0], -weight / 1e6, 1e-6);
      EXPECT_FALSE(world.reading(id).activity[0] & kSpringAtCap);
    } else {
      EXPECT_NEAR(world.reading(id).effort[0], cap, 1e-9);
      EXPECT_TRUE(world.reading(id).activity[0] & kSpringAtCap);
      // The lever arm has hardly changed in a tenth of a second.
      EXPECT_NEAR(world.reading(id).rate[0], -(weight - cap) / inertia * 0.1, 0.01 * weight / inertia * 0.1);
    }
  }
}

TEST(Servo, ComesToItsTargetFromAfarWithoutPassingItsCap) {
  AxisDef axis;
  axis.target = 3;
  axis.stiffness = 400, axis.damping = 8 * std::sqrt(400 * 2.0), axis.springCap = 30;
  Sled s = sled(axis, 0);
  double most = 0, furthest = 0;
  for (int i = 0; i < 600; ++i) {
    s.world.step();
    most = std::max(most, std::abs(s.world.reading(s.rail).effort[0]));
    furthest = std::max(furthest, s.world.state(s.block).pose.position.x());
  }
  EXPECT_LE(most, 30 * (1 + 1e-9));
  EXPECT_NEAR(s.world.state(s.block).pose.position.x(), 3, 1e-6);
  EXPECT_LT(furthest, 3 + 1e-6);
}

// A door of 20 kg, 1 m wide: I = m w^2 / 3 about its hinge. Asked for 1.5 Hz at a tenth of critical damping, it swings
// at f sqrt(1 - zeta^2) and loses 2 pi zeta / sqrt(1 - zeta^2) a swing in its logarithm.
TEST(Frequency, IsThatOfThePartOnItsJoint) {
  World world({.gravity = Vec3::Zero()});
  const BodyId door = world.addBody(solid(Box{{1, 2, 0.04}}, 20, {{0.5, 0, 0}}));
  JointDef def = joint(JointType::hinge, kWorld, Vec3::Zero(), door, Vec3(-0.5, 0, 0));
  def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  def.axes[0].frequency = 1.5, def.axes[0].dampingRatio = 0.1, def.axes[0].target = 0.5;
  const JointId id = world.addJoint(def);
  const double inertia = 20 * (1 + 0.04 * 0.04) / 12 + 20 * 0.25;
  EXPECT_NEAR(world.joint(id).axes[0].stiffness, inertia * std::pow(2 * kPi * 1.5, 2), 1e-6);
  std::vector<double> peaks, times;
  double a = 0, b = 0;
  for (int i = 0; i < 240; ++i) {
    world.step();
    const double x = world.reading(id).position[0] - 0.5;
    if (b > a && b > x && b > 0) peaks.push_back(b), times.push_back(world.time());
    a = b, b = x;
  }
  ASSERT_GE(peaks.size(), 4u);
  EXPECT_NEAR(3 / (times[3] - times[0]), 1.5 * std::sqrt(0.99), 0.02);
  EXPECT_NEAR(std::log(peaks[0] / peaks[3]) / 3, 2 * kPi * 0.1 / std::sqrt(0.99), 0.01);
}

// A spring wound up by three turns pulls with k times all of them.
TEST(Winding, SpringCountsWholeTurns) {
  World world({.gravity = Vec3::Zero()});
  const BodyId wheel = world.addBody(solid(Sphere{0.5}, 1));
  JointDef def = joint(JointType::hinge, kWorld, Vec3::Zero(), wheel, Vec3::Zero());
  def.axes[0].stiffness = 2, def.axes[0].target = 6 * kPi;
  const JointId id = world.addJoint(def);
  world.step();
  EXPECT_NEAR(world.reading(id).effort[0], 12 * kPi, 0.1);
  double furthest = 0;
  for (int i = 0; i < 120; ++i) world.step(), furthest = std::max(furthest, world.reading(id).position[0]);
  EXPECT_NEAR(furthest, 12 * kPi, 0.05);
}

TEST(Winding, StopsBeyondATurnHold) {
  World world({.gravity = Vec3::Zero()});
  const BodyId wheel = world.addBody(solid(Sphere{0.5}, 1));
  JointDef def = joint(JointType::hinge, kWorld, Vec3::Zero(), wheel, Vec3::Zero());
  def.axes[0].high = 9;
  const JointId id = world.addJoint(def);
  world.setVelocity(wheel, Vec3::Zero(), {20, 0, 0});
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_NEAR(world.reading(id).position[0], 9, 1e-6);
}

// A rotor of up to several turns a substep: a brake slows it by friction over inertia, a motor brings it up at its cap
// over inertia, and a gear takes a wheel along.
TEST(Winding, CountsWhatTurnsByMoreThanHalfATurnInASubstep) {
  constexpr double kInertia = 0.4, kTorque = 4, kSeconds = 1, kGain = kTorque / kInertia * kSeconds;
  const auto addRotor = [](World& world, const AxisDef& axis, double rate, double at) {
    const BodyId rotor = world.addBody(solid(Sphere{1}, 1, {{at, 0, 0}}));
    JointDef def = joint(JointType::hinge, kWorld, {at, 0, 0}, rotor, Vec3::Zero());
    def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    def.axes[0] = axis;
    world.setVelocity(rotor, Vec3::Zero(), {0, 0, rate});
    return std::pair(rotor, world.addJoint(def));
  };
  for (const double rate : {500.0, 1600.0, 3000.0, 20000.0}) {
    World world({.gravity = Vec3::Zero()});
    AxisDef brake, motor;
    brake.friction = kTorque;
    motor.speed = 2 * rate, motor.cap = kTorque;
    const JointId braked = addRotor(world, brake, rate, 0).second, driven = addRotor(world, motor, rate, 5).second;
    const auto [first, onFirst] = addRotor(world, brake, rate, 10);
    const auto [second, onSecond] = addRotor(world, {}, -rate / 2, 13);
    JointDef mesh = joint(JointType::gear, first, Vec3::Zero(), second, Vec3::Zero());
    mesh.frameA.rotation = mesh.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    mesh.form.ratio = -0.5;
    world.addJoint(mesh);
    for (int i = 0; i < std::lround(60 * kSeconds); ++i) world.step();
    const auto expect = [&](JointId id, double start, double gain, const char* what) {
      EXPECT_NEAR(world.reading(id).rate[0], start + gain, 1e-6 * rate) << what << " at " << rate << " rad/s";
      EXPECT_NEAR(world.reading(id).position[0], (start + gain / 2) * kSeconds, 1e-6 * rate) << what << " at " << rate;
    };
    expect(braked, rate, -kGain, "brake");
    expect(driven, rate, kGain, "motor");
    expect(onFirst, rate, -kGain / 1.25, "brake on a gear");
    expect(onSecond, -rate / 2, kGain / 2.5, "wheel of a gear");
  }
}

}  // namespace
}  // namespace calm::physics
