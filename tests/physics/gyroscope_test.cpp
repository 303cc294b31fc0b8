// SPDX-License-Identifier: GPL-3.0-or-later
// Gyroscopes whose axis joints hold: on a pivot, in one gimbal on a moving base, in two gimbals with masses of their
// own. The references are Euler's equations and Routh's, integrated by the classical Runge-Kutta method (Goldstein,
// Classical Mechanics, ch. 5 and 8; Wittenburg, Dynamics of Multibody Systems, 2008).
#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <vector>

#include "physics/rigs.h"
#include "physics/runge_kutta.h"

namespace calm::physics {
namespace {

constexpr double kAbout = 2e-3, kAcross = 1.2e-3;  // kg m^2, of the rotor
constexpr double kFine = 1e-5;                     // s, the references' step

// A body about the origin with these moments about x, y and z.
BodyDef balanced(const Vec3& moments, const Quat& turned = Quat::Identity()) {
  BodyDef def;
  def.pose.rotation = turned;
  def.mass = {1, Vec3::Zero(), moments.asDiagonal()};
  return def;
}

// A rotor about its own y.
BodyDef rotor(const Quat& turned, double spin) {
  BodyDef def = balanced({kAcross, kAbout, kAcross}, turned);
  def.angularVelocity = turned * Vec3(0, spin, 0);
  return def;
}

// A hinge at the origin about a world axis, from bodies as they are.
JointDef hinge(const World& world, BodyId a, BodyId b, const Vec3& axis) {
  JointDef def = joint(JointType::hinge, a, Vec3::Zero(), b, Vec3::Zero());
  const Quat frame = turnBetween(Vec3::UnitX(), axis);
  def.frameA.rotation = world.state(a).pose.rotation.conjugate() * frame;
  def.frameB.rotation = world.state(b).pose.rotation.conjugate() * frame;
  return def;
}

// A disc at the end of a light axle on a pivot, let go with its spin alone: it dips and nods as it goes round. The
// reference follows its axis e and its momentum L about the pivot.
struct Nodding {
  double spin;
  double largest = 0;  // error of the axis, rad
  double nods = 0;     // rad
};

Nodding nod(double spin, int substeps) {
  const double mass = 1, arm = 0.15, tilt = kPi / 3;
  const Shape disc = Cylinder{0.1, 0.02};
  const MassProperties properties = massPropertiesOf(disc, mass);
  const double about = properties.inertia(1, 1), across = properties.inertia(0, 0) + mass * arm * arm;
  World world({.substeps = substeps});
  const Vec3 axis(std::sin(tilt), std::cos(tilt), 0);
  const Quat turned(Eigen::AngleAxisd(-tilt, Vec3::UnitZ()));
  BodyDef def = solid(disc, mass, {arm * axis, turned});
  def.angularVelocity = spin * axis;
  const BodyId top = world.addBody(def);
  world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), top, {0, -arm, 0}));
  using State = std::array<double, 6>;
  State s{axis.x(), axis.y(), axis.z(), about * spin * axis.x(), about * spin * axis.y(), about * spin * axis.z()};
  const auto rate = [&](const State& now) {
    const Vec3 e = Vec3(now[0], now[1], now[2]).normalized(), momentum(now[3], now[4], now[5]);
    const Vec3 turn = (momentum - momentum.dot(e) * e).cross(e) / across;
    const Vec3 torque = (arm * e).cross(Vec3(0, -mass * kGravity, 0));
    return State{turn.x(), turn.y(), turn.z(), torque.x(), torque.y(), torque.z()};
  };
  Nodding result{spin};
  double high = -1, low = 1;
  const int pieces = static_cast<int>(std::lround(world.settings().frame / (10 * kFine)));
  for (int frame = 0; frame < 120; ++frame) {
    world.step();
    for (int i = 0; i < pieces; ++i) s = rungeKutta(s, world.settings().frame / pieces, rate);
    const Vec3 e = world.state(top).pose.rotation * Vec3::UnitY();
    result.largest = std::max(result.largest, (e - Vec3(s[0], s[1], s[2])).norm());
    high = std::max(high, s[1]), low = std::min(low, s[1]);
  }
  result.nods = high - low;
  return result;
}

TEST(HeavyTop, NodsAsItGoesRound) {
  for (const double spin : {50.0, 100.0, 200.0, 400.0}) {
    const Nodding n = nod(spin, 8);
    report("top let go at " + std::to_string(spin) + " rad/s, 2 s: axis", n.largest, 2e-3, "rad");
    EXPECT_LE(n.largest, 2e-3) << spin << " rad/s, nods by " << n.nods;
  }
  // Of second order where frames are easy enough not to be refined.
  const double order = std::log2(nod(30, 8).largest / nod(30, 16).largest);
  report("top let go: order", order, 1.7, "");
  EXPECT_GE(order, 1.7);
}

// A top that stands on rough ground with a round point of a millimetre, on which it rolls: with r from where it touches
// to its centre of mass, V = w x r, and the moment -r x m (a + g) about that centre (Routh, Advanced Rigid Dynamics,
// ch. 5).
double errorOnGround(double spin, int substeps) {
  const double mass = 0.2, arm = 0.05, point = 1e-3, tilt = kPi / 6;
  const Vec3 moments(8.2e-5, 1.6e-4, 8.2e-5), up = Vec3::UnitY();
  World world({.substeps = substeps});
  world.addBody(ground(1));
  const Vec3 axis(std::sin(tilt), std::cos(tilt), 0);
  BodyDef def = balanced(moments, Quat(Eigen::AngleAxisd(-tilt, Vec3::UnitZ())));
  def.mass.mass = mass;
  def.shapes = {{Sphere{point}, {{0, -arm, 0}}}};
  def.friction = 1;
  def.pose.position = arm * axis + point * up;
  def.angularVelocity = spin * axis;
  def.velocity = def.angularVelocity.cross(def.pose.position);
  const BodyId top = world.addBody(def);
  using State = std::array<double, 6>;  // axis, angular velocity
  const auto rate = [&](const State& s) {
    const Vec3 e = Vec3(s[0], s[1], s[2]).normalized(), w(s[3], s[4], s[5]), r = arm * e + point * up;
    const Mat3 inertia = moments.x() * Mat3::Identity() + (moments.y() - moments.x()) * e * e.transpose();
    const Mat3 about = inertia + mass * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
    const Vec3 turning = w.cross(inertia * w), swinging = mass * r.cross(w.cross(arm * w.cross(e)) + kGravity * up);
    const Vec3 gathers = about.ldlt().solve(-turning - swinging), moves = w.cross(e);
    return State{moves.x(), moves.y(), moves.z(), gathers.x(), gathers.y(), gathers.z()};
  };
  State s{axis.x(), axis.y(), axis.z(), spin * axis.x(), spin * axis.y(), spin * axis.z()};
  double largest = 0;
  const int pieces = static_cast<int>(std::lround(world.settings().frame / (2 * kFine)));
  for (int frame = 0; frame < 60; ++frame) {
    world.step();
    for (int i = 0; i < pieces; ++i) s = rungeKutta(s, world.settings().frame / pieces, rate);
    const Vec3 e = world.state(top).pose.rotation * Vec3::UnitY();
    largest = std::max(largest, (e - Vec3(s[0], s[1], s[2])).norm());
  }
  return largest;
}

TEST(TopOnTheGround, NodsAsItGoesRound) {
  for (const double spin : {150.0, 300.0}) {
    const double coarse = errorOnGround(spin, 8), order = std::log2(coarse / errorOnGround(spin, 32)) / 2;
    report("top on the ground at " + std::to_string(spin) + " rad/s, 1 s: axis", coarse, 0.02, "rad");
    report("the same: order", order, 1.7, "");
    EXPECT_LE(coarse, 0.02) << spin << " rad/s";
    EXPECT_GE(order, 1.7) << spin << " rad/s";
  }
}

// One gimbal about x with a spring, on a base that turns about y: the rotor's axis leans from z by
// I t'' = -k t + H W cos t - Ia W^2 sin t cos t, with H the momentum about the axis.
struct Leaning {
  double largest = 0, leans = 0;
};

Leaning lean(double spin, double turning, double stiffness) {
  const double gimbal = 1e-4;
  World world({.gravity = Vec3::Zero()});
  BodyDef base;
  base.role = Role::kinematic;
  base.angularVelocity = {0, turning, 0};
  const BodyId on = world.addBody(base);
  BodyDef frame = balanced(Vec3::Constant(gimbal));
  frame.angularVelocity = {0, turning, 0};
  const BodyId ring = world.addBody(frame);
  const Quat turned = turnBetween(Vec3::UnitY(), Vec3::UnitZ());
  BodyDef wheel = rotor(turned, spin);
  wheel.angularVelocity += Vec3(0, turning, 0);
  const BodyId wheelId = world.addBody(wheel);
  JointDef pin = hinge(world, on, ring, Vec3::UnitX());
  pin.axes[0] = {.stiffness = stiffness};
  const JointId lean = world.addJoint(pin);
  world.addJoint(hinge(world, ring, wheelId, Vec3::UnitZ()));
  using State = std::array<double, 2>;
  const auto rate = [&](const State& s) {
    const double c = std::cos(s[0]), sine = std::sin(s[0]);
    return State{s[1], (-stiffness * s[0] + kAbout * spin * turning * c - kAcross * turning * turning * sine * c) /
                           (kAcross + gimbal)};
  };
  State s{0, 0};
  Leaning result;
  const int pieces = static_cast<int>(std::lround(world.settings().frame / kFine));
  for (int i = 0; i < 120; ++i) {
    world.step();
    for (int k = 0; k < pieces; ++k) s = rungeKutta(s, world.settings().frame / pieces, rate);
    result.largest = std::max(result.largest, std::abs(std::abs(world.reading(lean).position[0]) - std::abs(s[0])));
    result.leans = std::max(result.leans, std::abs(s[0]));
  }
  return result;
}

// A free rotor would nutate by 0.17 to 0.7 rad a substep, none of which the gimbal lets it do.
TEST(RateGyroscope, LeansAsItsBaseTurns) {
  for (const double spin : {50.0, 100.0, 200.0}) {
    const Leaning l = lean(spin, 1, 2);
    report("rate gyroscope at " + std::to_string(spin) + " rad/s: lean over 2 s", l.largest / l.leans, 5e-3, "");
    EXPECT_LE(l.largest, 5e-3 * l.leans) << spin << " rad/s";
  }
}

// The same without a spring seeks the axis of its base, w^2 = H W / I for small swings: a gyrocompass. Swings by 0.1.
TEST(Gyrocompass, SwingsAboutTheAxisOfItsBase) {
  const double spin = 200, turning = 0.5, gimbal = 1e-5, from = 0.1;
  World world({.gravity = Vec3::Zero()});
  BodyDef base;
  base.role = Role::kinematic;
  base.angularVelocity = {0, 0, turning};
  const BodyId on = world.addBody(base);
  BodyDef frame = balanced(Vec3::Constant(gimbal));
  frame.angularVelocity = {0, 0, turning};
  const BodyId ring = world.addBody(frame);
  const Vec3 axis(0, std::sin(from), std::cos(from));
  BodyDef wheel = rotor(turnBetween(Vec3::UnitY(), axis), spin);
  wheel.angularVelocity += Vec3(0, 0, turning);
  const BodyId wheelId = world.addBody(wheel);
  const JointId swing = world.addJoint(hinge(world, on, ring, Vec3::UnitX()));
  world.addJoint(hinge(world, ring, wheelId, axis));
  const double momentum = kAbout * (spin + turning * std::cos(from)), inertia = kAcross + gimbal;
  using State = std::array<double, 2>;
  const auto rate = [&](const State& s) {
    return State{
        s[1], (-momentum * turning * std::sin(s[0]) + kAcross * turning * turning * std::sin(s[0]) * std::cos(s[0])) /
                  inertia};
  };
  State s{from, 0};
  double largest = 0;
  const int pieces = static_cast<int>(std::lround(world.settings().frame / kFine));
  for (int i = 0; i < 300; ++i) {
    world.step();
    for (int k = 0; k < pieces; ++k) s = rungeKutta(s, world.settings().frame / pieces, rate);
    // The hinge's angle counts from where it began, towards z.
    const Vec3 e = world.state(on).pose.rotation.conjugate() * (world.state(wheelId).pose.rotation * Vec3::UnitY());
    largest = std::max(largest, std::abs(std::atan2(e.y(), e.z()) - s[0]));
  }
  EXPECT_EQ(world.reading(swing).separation < 1e-9, true);
  // Some ten swings: 0.5 % of their phase is a thirtieth of one.
  report("gyrocompass swinging by 0.1 rad for 5 s", largest, 5e-3, "rad");
  EXPECT_LE(largest, 5e-3);
}

// Outer gimbal about the vertical, inner one about the horizontal, with moments A and B of their own, and a weight on
// the inner one: Routh's function in the lean t and the momentum about the vertical.
TEST(GimballedGyroscope, PrecessesAndNutates) {
  const double outer = 5e-4, weight = 0.2 * kGravity, arm = 0.1, from = 70 * kPi / 180;
  const Vec3 inner(3e-4, 2e-4, 4e-4);  // about the pin, the rotor's axis, across both
  for (const double spin : {50.0, 100.0, 200.0}) {
    World world({.gravity = Vec3::Zero()});
    const Vec3 axis(0, std::cos(from), std::sin(from));
    const Quat turned(Eigen::AngleAxisd(from, Vec3::UnitX()));
    const BodyId outerRing = world.addBody(balanced(Vec3::Constant(outer)));
    const BodyId innerRing = world.addBody(balanced(inner, turned));
    const BodyId wheel = world.addBody(rotor(turned, spin));
    world.addJoint(hinge(world, kWorld, outerRing, Vec3::UnitY()));
    world.addJoint(hinge(world, outerRing, innerRing, Vec3::UnitX()));
    world.addJoint(hinge(world, innerRing, wheel, axis));
    world.addPush({.body = innerRing, .at = {0, arm, 0}, .force = {0, -weight, 0}});
    const double momentum = kAbout * spin, vertical = momentum * std::cos(from), across = inner.z() + kAcross;
    using State = std::array<double, 3>;  // lean, its rate, turn about the vertical
    const auto rate = [&](const State& s) {
      const double c = std::cos(s[0]), sine = std::sin(s[0]);
      const double turn = (vertical - momentum * c) / (outer + across * sine * sine + inner.y() * c * c);
      return State{s[1],
                   ((across - inner.y()) * sine * c * turn * turn - momentum * turn * sine + weight * arm * sine) /
                       (inner.x() + kAcross),
                   turn};
    };
    State s{from, 0, 0};
    double largest = 0, low = from, high = from;
    const int pieces = static_cast<int>(std::lround(world.settings().frame / kFine));
    for (int i = 0; i < 120; ++i) {
      world.step();
      for (int k = 0; k < pieces; ++k) s = rungeKutta(s, world.settings().frame / pieces, rate);
      const Vec3 e = world.state(wheel).pose.rotation * Vec3::UnitY();
      const Vec3 expected(std::sin(s[0]) * std::sin(s[2]), std::cos(s[0]), std::sin(s[0]) * std::cos(s[2]));
      largest = std::max(largest, (e - expected).norm());
      low = std::min(low, s[0]), high = std::max(high, s[0]);
    }
    report("gimballed gyroscope at " + std::to_string(spin) + " rad/s, 2 s: axis", largest, 1e-3, "rad");
    EXPECT_LE(largest, 1e-3) << spin << " rad/s, nods by " << high - low;
  }
}

// On a pivot at its centre nothing holds the axis: it goes round its momentum at L / I1, exactly (Landau and Lifshitz,
// section 33).
TEST(PivotedRotor, NutatesAsIfItWereFree) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def = rotor(Quat::Identity(), 100);
  def.angularVelocity = {5, 100, 0};
  const BodyId wheel = world.addBody(def);
  world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), wheel, Vec3::Zero()));
  const Vec3 momentum(kAcross * 5, kAbout * 100, 0);
  double largest = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    const Eigen::AngleAxisd round(momentum.norm() / kAcross * world.time(), momentum.normalized());
    const Vec3 e = world.state(wheel).pose.rotation * Vec3::UnitY();
    largest = std::max(largest, (e - round * Vec3::UnitY()).norm());
  }
  report("rotor on a pivot at its centre, 2 s: axis", largest, 1e-8, "rad");
  EXPECT_LE(largest, 1e-8);
}

// Out of line with its bearing it keeps its rate, and so goes as far as that rate says: its energy is all about the
// pin.
TEST(RotorOutOfLine, GoesRoundAtItsRate) {
  for (const auto& [rate, tilt] : {std::pair{50.0, 0.1}, {100.0, 0.5}, {100.0, 1.2}, {200.0, 0.3}}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef def = balanced({kAcross, kAbout, kAcross}, Quat(Eigen::AngleAxisd(tilt, Vec3::UnitX())));
    def.angularVelocity = {0, rate, 0};
    const BodyId wheel = world.addBody(def);
    const JointId pin = world.addJoint(hinge(world, kWorld, wheel, Vec3::UnitY()));
    for (int i = 0; i < 120; ++i) world.step();
    const double off = world.reading(pin).position[0] / (rate * world.time()) - 1;
    report("rotor " + std::to_string(tilt) + " rad out of line at " + std::to_string(rate) + " rad/s: way", off, 1e-4,
           "");
    EXPECT_NEAR(off, 0, 1e-4) << rate << " rad/s, " << tilt << " rad";
    EXPECT_NEAR(world.reading(pin).rate[0], rate, 1e-4 * rate) << rate << " rad/s, " << tilt << " rad";
  }
}

}  // namespace
}  // namespace calm::physics
