// SPDX-License-Identifier: GPL-3.0-or-later
// Stops, motors, friction and springs on the free axes of joints, against closed forms.
#include <gtest/gtest.h>

#include <vector>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

const Quat kAboutY = turnBetween(Vec3::UnitX(), Vec3::UnitY());
const Quat kAboutZ = turnBetween(Vec3::UnitX(), Vec3::UnitZ());

// A mass that slides along the world's x axis with the given axis settings.
struct Cart {
  World world;
  BodyId body;
};

Cart makeCart(double mass, const AxisDef& axis, double velocity = 0, const Vec3& gravity = Vec3::Zero(),
              JointType type = JointType::slider) {
  Cart c{World({.gravity = gravity}), 0};
  BodyDef def = solid(Box{Vec3::Constant(0.2)}, mass);
  def.velocity = Vec3(velocity, 0, 0);
  c.body = c.world.addBody(def);
  JointDef j = joint(type, kWorld, Vec3::Zero(), c.body, Vec3::Zero());
  j.axes[0] = axis;
  c.world.addJoint(j);
  return c;
}

struct Oscillation {
  double frequency, damping;  // Hz, ratio
};

class DampedSpring : public testing::TestWithParam<Oscillation> {};

// x(t) of a damped oscillator, over three seconds, frame by frame.
TEST_P(DampedSpring, FollowsTheClosedForm) {
  const auto [frequency, ratio] = GetParam();
  const double mass = 3, w = 2 * kPi * frequency, d = ratio * w, v0 = 0.4;
  AxisDef axis;
  axis.stiffness = mass * w * w;
  axis.damping = 2 * mass * d;
  Cart c = makeCart(mass, axis, v0);
  const double wd = std::sqrt(std::abs(w * w - d * d));
  double worst = 0, largest = 0;
  for (int i = 0; i < 180; ++i) {
    c.world.step();
    const double t = c.world.time();
    const double exact =
        ratio < 1 ? v0 / wd * std::exp(-d * t) * std::sin(wd * t) : v0 / wd * std::exp(-d * t) * std::sinh(wd * t);
    worst = std::max(worst, std::abs(c.world.reading(0).position[0] - exact));
    largest = std::max(largest, std::abs(exact));
  }
  report("spring " + std::to_string(frequency) + " Hz, ratio " + std::to_string(ratio) + ", error of path",
         worst / largest * 100, 1, "%");
  // A velocity given at an instant enters the staggered scheme with the second-order error (w h)^2 / 6 of amplitude.
  const double start = std::pow(w * c.world.settings().frame / c.world.settings().substeps, 2) / 6;
  EXPECT_LE(worst, (0.01 + start) * largest);
}

INSTANTIATE_TEST_SUITE_P(Oscillations, DampedSpring,
                         testing::Values(Oscillation{0.5, 0}, Oscillation{2, 0}, Oscillation{2, 0.05},
                                         Oscillation{5, 0.2}, Oscillation{10, 0.5}, Oscillation{20, 0},
                                         Oscillation{3, 1.5}));

TEST(Spring, SagsByWeightOverStiffness) {
  AxisDef axis;
  axis.stiffness = 800;
  axis.damping = 120;
  World world;
  const BodyId body = world.addBody(solid(Box{Vec3::Constant(0.2)}, 5));
  JointDef j = joint(JointType::slider, kWorld, Vec3::Zero(), body, Vec3::Zero());
  j.frameA.rotation = j.frameB.rotation = kAboutY;
  j.axes[0] = axis;
  world.addJoint(j);
  for (int i = 0; i < 600; ++i) world.step();
  const double sag = 5 * kGravity / 800;
  report("sag", world.reading(0).position[0] / -sag - 1, 1e-6, "");
  EXPECT_NEAR(world.reading(0).position[0], -sag, 1e-6 * sag);
  EXPECT_NEAR(world.reading(0).forceNow.norm(), 5 * kGravity, 1e-6 * 5 * kGravity);
}

TEST(Spring, AsStiffAsSteelStaysStable) {
  AxisDef axis;
  axis.stiffness = 1e9;
  Cart c = makeCart(1, axis, 1);
  for (int i = 0; i < 600; ++i) {
    c.world.step();
    ASSERT_LE(std::abs(c.world.reading(0).position[0]), 1e-2);
    ASSERT_LE(c.world.energy().total(), 0.5 * (1 + 1e-6));
  }
}

// A web of springs on one part: each alone is slow, all together faster than the step.
TEST(Spring, ManyOnOnePartStayStable) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def = solid(Sphere{0.1}, 1);
  def.velocity = Vec3(0.3, 0.2, 0);
  const BodyId hub = world.addBody(def);
  for (int i = 0; i < 60; ++i) {
    const double angle = 2 * kPi * i / 60;
    JointDef j = joint(JointType::distance, kWorld, {std::cos(angle), std::sin(angle), 0}, hub, Vec3::Zero());
    j.axes[0].stiffness = 5e4;
    j.axes[0].target = 0.9;
    world.addJoint(j);
  }
  const double start = world.energy().total();
  for (int i = 0; i < 600; ++i) {
    world.step();
    ASSERT_LE(world.energy().total(), start * 1.05);
  }
}

// Energy of an undamped pair of masses on springs, over a minute.
TEST(Spring, KeepsItsEnergyWhenUndamped) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def = solid(Sphere{0.1}, 2, {{0.5, 0, 0}, Quat::Identity()});
  def.velocity = Vec3(0, 0.7, 0.2);
  const BodyId a = world.addBody(def);
  def.pose.position = {-0.5, 0, 0};
  def.velocity = -def.velocity;
  const BodyId b = world.addBody(def);
  JointDef j = joint(JointType::distance, a, Vec3::Zero(), b, Vec3::Zero());
  j.axes[0].stiffness = 300;
  j.axes[0].target = 0.8;
  world.addJoint(j);
  const double start = world.energy().total();
  double worst = 0;
  for (int i = 0; i < 3600; ++i) {
    world.step();
    worst = std::max(worst, std::abs(world.energy().total() / start - 1));
  }
  report("two masses on a spring, energy", worst * 100, 0.1, "%");
  EXPECT_LE(worst, 1e-3);
}

// A wheel on a hinge with a motor of 4 N m: speeds up at cap / I, holds its speed, and stands at a stop.
TEST(Motor, SpinsUpHoldsAndStands) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def;
  def.mass = {5, Vec3::Zero(), Vec3(0.8, 0.5, 0.5).asDiagonal()};
  const BodyId wheel = world.addBody(def);
  JointDef j = joint(JointType::hinge, kWorld, Vec3::Zero(), wheel, Vec3::Zero());
  j.axes[0].cap = 4;
  j.axes[0].speed = 2;
  j.axes[0].high = 2.5;
  world.addJoint(j);
  for (int i = 0; i < 12; ++i) world.step();
  report("motor: spin-up", world.reading(0).rate[0] / (4 / 0.8 * 0.2) - 1, 1e-6, "");
  EXPECT_NEAR(world.reading(0).rate[0], 4 / 0.8 * 0.2, 1e-6);
  EXPECT_NEAR(world.reading(0).torqueNow.x(), 4, 1e-6);
  for (int i = 0; i < 48; ++i) world.step();
  EXPECT_NEAR(world.reading(0).rate[0], 2, 1e-6);
  EXPECT_NEAR(world.reading(0).torqueNow.x(), 0, 1e-6);
  // 0.4 s of spin-up to 0.4 rad, then 2 rad/s: the stop comes at 1.45 s.
  EXPECT_NEAR(world.reading(0).position[0], 0.4 + 2 * (world.time() - 0.4), 5e-3);
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_NEAR(world.reading(0).position[0], 2.5, 1e-8);
  EXPECT_NEAR(world.reading(0).rate[0], 0, 1e-8);
}

// A lock gate runs into its stop at 3 rad/s.
TEST(Stop, HoldsTheGateWithoutOvershootOrRebound) {
  World world;
  BodyDef def = solid(Box{{1, 1, 0.05}}, 40, {{0.5, 0, 0}, Quat::Identity()});
  def.angularVelocity = Vec3(0, 3, 0);
  def.velocity = def.angularVelocity.cross(Vec3(0.5, 0, 0));
  const BodyId gate = world.addBody(def);
  JointDef j = joint(JointType::hinge, kWorld, Vec3::Zero(), gate, {-0.5, 0, 0});
  j.frameA.rotation = j.frameB.rotation = kAboutY;
  j.axes[0].high = 0.7;
  world.addJoint(j);
  double furthest = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    furthest = std::max(furthest, world.reading(0).position[0]);
  }
  report("gate: overshoot", (furthest - 0.7) * 180 / kPi, 0.01, "deg");
  report("gate: rebound", (0.7 - world.reading(0).position[0]) * 180 / kPi, 0.1, "deg");
  EXPECT_LE(furthest - 0.7, 0.01 * kPi / 180);
  EXPECT_NEAR(world.reading(0).position[0], 0.7, 0.1 * kPi / 180);
  EXPECT_LE(world.reading(0).separationPeak, 1e-5);
}

// A bar that falls onto its stop rests there with the moment of its weight.
TEST(Stop, CarriesTheMomentOfTheWeight) {
  World world;
  const BodyId bar = world.addBody(solid(Box{{1, 0.1, 0.1}}, 8, {{0.5, 0, 0}, Quat::Identity()}));
  JointDef j = joint(JointType::hinge, kWorld, Vec3::Zero(), bar, {-0.5, 0, 0});
  j.frameA.rotation = j.frameB.rotation = kAboutZ;
  j.axes[0].low = -0.3;
  j.axes[0].high = 0.3;
  world.addJoint(j);
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.reading(0).position[0], -0.3, 1e-8);
  const double moment = 8 * kGravity * 0.5 * std::cos(0.3);
  report("moment at the stop", world.reading(0).torqueNow.z() / moment - 1, 1e-6, "");
  EXPECT_NEAR(world.reading(0).torqueNow.z(), moment, 1e-6 * moment);
  EXPECT_NEAR(world.reading(0).torque.z(), moment, 1e-4 * moment);
}

TEST(Friction, OfASliderBrakesAndHolds) {
  AxisDef axis;
  axis.friction = 6;
  Cart c = makeCart(2, axis, 1.5);
  for (int i = 0; i < 18; ++i) c.world.step();
  report("slider friction: speed", c.world.reading(0).rate[0], 1.5 - 3 * 0.3, "m/s");
  EXPECT_NEAR(c.world.reading(0).rate[0], 1.5 - 3 * 0.3, 1e-6);
  for (int i = 0; i < 60; ++i) c.world.step();
  EXPECT_NEAR(c.world.reading(0).position[0], 1.5 * 1.5 / 6, 2e-3);
  const double rest = c.world.reading(0).position[0];
  c.world.addForce(c.body, Vec3(5.9, 0, 0), c.world.state(c.body).pose.position);
  for (int i = 0; i < 60; ++i) c.world.step();
  EXPECT_NEAR(c.world.reading(0).position[0], rest, 1e-9);
  c.world.addForce(c.body, Vec3(0.5, 0, 0), c.world.state(c.body).pose.position);
  for (int i = 0; i < 60; ++i) c.world.step();
  EXPECT_NEAR(c.world.reading(0).rate[0], 0.4 / 2, 1e-4);
}

TEST(Slider, RunsDownItsRail) {
  const double tilt = 0.5;
  World world;
  const Quat turned(Eigen::AngleAxisd(-tilt, Vec3::UnitZ()));
  const BodyId cart = world.addBody(solid(Box{{0.3, 0.2, 0.1}}, 4, {Vec3::Zero(), turned}));
  JointDef j = joint(JointType::slider, kWorld, Vec3::Zero(), cart, Vec3::Zero());
  j.frameA.rotation = turned;
  world.addJoint(j);
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_NEAR(world.reading(0).position[0], 0.5 * kGravity * std::sin(tilt), 1e-9);
  EXPECT_NEAR(world.reading(0).forceNow.norm(), 4 * kGravity * std::cos(tilt), 1e-6);
  EXPECT_LE(world.reading(0).torqueNow.norm(), 1e-6);
}

TEST(Rope, IsFreeWhileSlackAndHoldsWhenTaut) {
  World world;
  const BodyId bob = world.addBody(solid(Sphere{0.05}, 3, {{0, -0.2, 0}, Quat::Identity()}));
  JointDef j = joint(JointType::distance, kWorld, Vec3::Zero(), bob, Vec3::Zero());
  j.axes[0].high = 1;
  world.addJoint(j);
  for (int i = 0; i < 12; ++i) world.step();
  EXPECT_NEAR(world.state(bob).velocity.y(), -kGravity * 0.2, 1e-9);
  EXPECT_EQ(world.reading(0).forceNow.norm(), 0);
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.reading(0).position[0], 1, 1e-8);
  EXPECT_NEAR(world.reading(0).forceNow.norm(), 3 * kGravity, 1e-6);
}

// A conical pendulum on a rope turns at sqrt(g / (l cos t)) and pulls with m g / cos t.
TEST(Rope, ConicalPendulum) {
  const double length = 1.3, tilt = 0.7, rate = std::sqrt(kGravity / (length * std::cos(tilt)));
  World world;
  BodyDef def = solid(Sphere{0.05}, 2, {{length * std::sin(tilt), -length * std::cos(tilt), 0}, Quat::Identity()});
  def.velocity = Vec3(0, 0, rate * length * std::sin(tilt));
  const BodyId bob = world.addBody(def);
  JointDef j = joint(JointType::distance, kWorld, Vec3::Zero(), bob, Vec3::Zero());
  j.axes[0].high = length;
  world.addJoint(j);
  for (int i = 0; i < 300; ++i) world.step();
  EXPECT_NEAR(world.state(bob).pose.position.y(), -length * std::cos(tilt), 1e-3);
  report("conical pendulum: pull", world.reading(0).forceNow.norm() / (2 * kGravity / std::cos(tilt)) - 1, 1e-3, "");
  EXPECT_NEAR(world.reading(0).forceNow.norm(), 2 * kGravity / std::cos(tilt), 1e-3 * 2 * kGravity / std::cos(tilt));
}

// Hooke's joint: w2/w1 = cos b / (1 - sin^2 b cos^2 t) between shafts at the angle b.
TEST(Universal, TransmitsTheRatioOfHookesJoint) {
  const double bend = 0.5;
  World world({.gravity = Vec3::Zero()});
  const auto shaft = [&](const Quat& turned) {
    BodyDef def;
    def.pose.rotation = turned;
    def.mass = {1, Vec3::Zero(), Vec3(0.01, 0.01, 0.01).asDiagonal()};
    return world.addBody(def);
  };
  const Quat tilted(Eigen::AngleAxisd(bend, Vec3::UnitY()));
  const BodyId first = shaft(Quat::Identity()), second = shaft(tilted);
  JointDef drive = joint(JointType::hinge, kWorld, Vec3::Zero(), first, Vec3::Zero());
  drive.axes[0].speed = 3;
  drive.axes[0].cap = 1e4;
  world.addJoint(drive);
  JointDef bearing = joint(JointType::hinge, kWorld, tilted * Vec3(1, 0, 0), second, {1, 0, 0});
  bearing.frameA.rotation = tilted;
  world.addJoint(bearing);
  // The cross's arms: z on the first shaft, y on the second; frame a has its x along the first shaft's arm.
  JointDef cross = joint(JointType::universal, first, Vec3::Zero(), second, Vec3::Zero());
  cross.frameA.rotation = cross.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  cross.frameB.rotation = Quat::Identity();
  world.addJoint(cross);
  double worst = 0;
  for (int i = 0; i < 200; ++i) {
    world.step();
    const double turn = world.reading(0).position[0];
    // The driving arm, z, starts in the plane of the two shafts.
    const double exact = std::cos(bend) / (1 - std::pow(std::sin(bend) * std::cos(turn), 2));
    const double ratio = world.reading(1).rate[0] / world.reading(0).rate[0];
    worst = std::max(worst, std::abs(ratio - exact));
  }
  report("Hooke's joint, ratio of speeds", worst, 1e-3, "");
  EXPECT_LE(worst, 1e-3);
}

TEST(Planar, KeepsItsPlaneAndLeavesTheRest) {
  World world;
  BodyDef def = solid(Box{{0.3, 0.2, 0.1}}, 2);
  def.velocity = Vec3(0.4, 0, 0.2);
  def.angularVelocity = Vec3(0, 1.5, 0);
  const BodyId plate = world.addBody(def);
  JointDef j = joint(JointType::planar, kWorld, Vec3::Zero(), plate, Vec3::Zero());
  j.frameA.rotation = j.frameB.rotation = kAboutY;  // the level plane
  world.addJoint(j);
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.state(plate).pose.position.y(), 0, 1e-9);
  EXPECT_NEAR(world.state(plate).velocity.x(), 0.4, 1e-9);
  EXPECT_NEAR(world.state(plate).angularVelocity.y(), 1.5, 1e-6);
  EXPECT_NEAR(world.reading(0).forceNow.y(), 2 * kGravity, 1e-6);
}

}  // namespace
}  // namespace calm::physics
