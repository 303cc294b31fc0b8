// SPDX-License-Identifier: GPL-3.0-or-later
// Free rotation: conserved quantities, the intermediate-axis flips, precession.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

TEST(Tumbling, AboutTheMiddleAxisConservesEnergyAndMomentum) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def;
  def.mass = {1, Vec3::Zero(), Vec3(1, 2, 3).asDiagonal()};
  def.angularVelocity = Vec3(0.001, 10, 0.001);
  const BodyId body = world.addBody(def);
  const double energy = world.energy().total();
  const Vec3 momentum = world.angularMomentum(Vec3::Zero());
  double worstEnergy = 0, worstMomentum = 0;
  int flips = 0;
  double before = 1;
  for (int i = 0; i < 3600; ++i) {
    world.step();
    worstEnergy = std::max(worstEnergy, std::abs(world.energy().total() / energy - 1));
    worstMomentum = std::max(worstMomentum, (world.angularMomentum(Vec3::Zero()) - momentum).norm() / momentum.norm());
    const double now = (world.state(body).pose.rotation.conjugate() * world.state(body).angularVelocity).y();
    if (now * before < 0) ++flips;
    before = now;
  }
  report("tumbling energy", worstEnergy, 1e-5, "");
  report("tumbling angular momentum", worstMomentum, 1e-11, "");
  EXPECT_LE(worstEnergy, 1e-5);
  EXPECT_LE(worstMomentum, 1e-11);
  // Euler's equations have the Jacobi elliptic solution w2 ~ sn(tau, k); it changes sign every 2K(k)/rate (Landau and
  // Lifshitz, Mechanics, section 37). Moments 1, 2, 3; 2T = w1^2 + 2 w2^2 + 3 w3^2, M^2 = w1^2 + 4 w2^2 + 9 w3^2.
  const double e = 0.001 * 0.001, twoT = e + 200 + 3 * e, m2 = e + 400 + 9 * e;
  // With M^2 > 2 T I2 the roles of the extreme axes are as given, otherwise exchanged.
  double rate, k2;
  if (m2 > twoT * 2) {
    rate = std::sqrt((3 - 2) * (m2 - twoT * 1) / (1.0 * 2 * 3));
    k2 = (2 - 1) * (twoT * 3 - m2) / ((3 - 2) * (m2 - twoT * 1));
  } else {
    rate = std::sqrt((2 - 1) * (twoT * 3 - m2) / (1.0 * 2 * 3));
    k2 = (3 - 2) * (m2 - twoT * 1) / ((2 - 1) * (twoT * 3 - m2));
  }
  const double quarter = std::comp_ellint_1(std::sqrt(k2));
  const double exact = 60 * rate / (2 * quarter);
  report("tumbling flips (exact " + std::to_string(exact) + ")", flips, exact, "");
  EXPECT_NEAR(flips, exact, 1);
}

// A symmetric body's axis turns about the angular momentum at L / I_transverse, exactly.
TEST(SymmetricTop, FreePrecessionRate) {
  World world({.gravity = Vec3::Zero()});
  BodyDef def;
  def.mass = {1, Vec3::Zero(), Vec3(2, 3, 2).asDiagonal()};
  def.angularVelocity = Vec3(1.5, 4, 0);
  const BodyId body = world.addBody(def);
  const Vec3 momentum(3, 12, 0);
  for (int i = 0; i < 600; ++i) world.step();
  const double angle = momentum.norm() / 2 * 10;
  const Vec3 expected = Eigen::AngleAxisd(angle, momentum.normalized()) * Vec3::UnitY();
  EXPECT_LE((world.state(body).pose.rotation * Vec3::UnitY() - expected).norm(), 1e-9);
}

// A fast top on a ball joint: steady precession rates solve I1 W^2 cos t - I3 w3 W + m g l = 0 (Goldstein, Classical
// Mechanics, section 5.7), started on the slow root.
TEST(HeavyTop, PrecessesSteadily) {
  const double transverse = 0.02, axial = 0.01, mass = 1, arm = 0.1, tilt = 0.5, spin = 150;
  World world;
  BodyDef def;
  def.mass = {mass, Vec3::Zero(), Vec3(transverse, axial, transverse).asDiagonal()};
  const double about = transverse + mass * arm * arm;  // about the pivot
  const double b = axial * spin, a = about * std::cos(tilt), c = mass * kGravity * arm;
  const double precession = (b - std::sqrt(b * b - 4 * a * c)) / (2 * a);
  const Quat leaning(Eigen::AngleAxisd(tilt, Vec3::UnitX()));
  const Vec3 axis = leaning * Vec3::UnitY();
  def.pose = {arm * axis, leaning};
  // w3 counts the whole spin along the axis, precession's share included.
  def.angularVelocity = precession * Vec3::UnitY() + (spin - precession * std::cos(tilt)) * axis;
  def.velocity = def.angularVelocity.cross(arm * axis);
  const BodyId top = world.addBody(def);
  world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), top, {0, -arm, 0}));
  double worstTilt = 0, turned = 0, before = std::atan2(axis.x(), axis.z());
  for (int i = 0; i < 300; ++i) {
    world.step();
    const Vec3 now = world.state(top).pose.rotation * Vec3::UnitY();
    worstTilt = std::max(worstTilt, std::abs(std::acos(now.y()) - tilt));
    const double angle = std::atan2(now.x(), now.z());
    turned += std::remainder(angle - before, 2 * kPi);
    before = angle;
  }
  report("heavy top precession", (turned / 5 / precession - 1) * 100, 0.1, "%");
  EXPECT_NEAR(turned / 5, precession, 1e-3 * precession);
  EXPECT_LE(worstTilt, 1e-3);
}

// What a wheel that spins asks its bearings for while an arm carries it round: the moment I w W, and m r W^2 towards
// the arm's axis. One that is e out of balance asks for m e w^2. Both at the end of every frame, in which it turns by
// almost a radian.
TEST(SpinningWheel, LoadsItsBearings) {
  constexpr double kSpin = 50, kTurning = 2, kReach = 0.5, kMass = 3, kRadius = 0.2, kEnough = 1e-4;
  const double inertia = kMass * kRadius * kRadius / 2;
  World carried({.gravity = Vec3::Zero()});
  BodyDef arm;
  arm.role = Role::kinematic;
  arm.angularVelocity = Vec3(0, kTurning, 0);
  const BodyId holder = carried.addBody(arm);
  const Quat onItsSide = turnBetween(Vec3::UnitY(), Vec3::UnitX());
  BodyDef wheel = solid(Cylinder{kRadius, 0.05}, kMass, {{kReach, 0, 0}, onItsSide});
  wheel.angularVelocity = Vec3(kSpin, kTurning, 0);
  wheel.velocity = arm.angularVelocity.cross(wheel.pose.position);
  JointDef axle = joint(JointType::hinge, holder, wheel.pose.position, carried.addBody(wheel), Vec3::Zero());
  axle.frameB.rotation = onItsSide.conjugate();
  const JointId bearing = carried.addJoint(axle);

  constexpr double kOut = 0.01, kFast = 100;
  World rotor({.gravity = Vec3::Zero()});
  const Quat facing = turnBetween(Vec3::UnitY(), Vec3::UnitZ()), along = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  wheel.pose = {{kOut, 0, 0}, facing};
  wheel.angularVelocity = Vec3(0, 0, kFast);
  wheel.velocity = wheel.angularVelocity.cross(wheel.pose.position);
  JointDef shaft =
      joint(JointType::hinge, kWorld, Vec3::Zero(), rotor.addBody(wheel), facing.conjugate() * Vec3(-kOut, 0, 0));
  shaft.frameA.rotation = along, shaft.frameB.rotation = facing.conjugate() * along;
  const JointId pin = rotor.addJoint(shaft);

  double moment = 0, force = 0, shaken = 0;
  const auto off = [](double is, double asked) { return std::abs(is - asked) / asked; };
  for (int i = 0; i < 60; ++i) {
    carried.step(), rotor.step();
    const JointReading& load = carried.reading(bearing);
    moment = std::max(moment, off(load.torqueNow.norm(), inertia * kSpin * kTurning));
    force = std::max(force, off(load.forceNow.norm(), kMass * kReach * kTurning * kTurning));
    shaken = std::max(shaken, off(rotor.reading(pin).forceNow.norm(), kMass * kOut * kFast * kFast));
  }
  report("moment on the bearing of a wheel carried round", moment, kEnough, "of I w W");
  report("force on the bearing of a wheel carried round", force, kEnough, "of m r W^2");
  report("force on the bearing of a wheel out of balance", shaken, kEnough, "of m e w^2");
  EXPECT_LE(moment, kEnough);
  EXPECT_LE(force, kEnough);
  EXPECT_LE(shaken, kEnough);
}

// Two boxes, joined in any way that leaves them nothing to do against each other, tumble as one body. What the joint
// carries at an instant then follows from Euler's equations and where each box is.
TEST(Tumbling, JointCarriesWhatTurnsItsPart) {
  const Vec3 spin(4, 7, -3), toA(-0.3, 0.1, 0), toB(0.2, 0.05, 0.15);
  const MassProperties a = massPropertiesOf(Box{{0.4, 0.2, 0.3}}, 3), b = massPropertiesOf(Box{{0.2, 0.5, 0.1}}, 1.2);
  const Vec3 middle = (a.mass * toA + b.mass * toB) / (a.mass + b.mass);
  World world({.gravity = Vec3::Zero()});
  std::vector<BodyId> parts;
  for (const auto& [mass, at] : {std::pair(a, toA), std::pair(b, toB)}) {
    BodyDef def;
    def.mass = mass;
    def.pose.position = at;
    def.velocity = spin.cross(at - middle);
    def.angularVelocity = spin;
    parts.push_back(world.addBody(def));
  }
  world.addJoint(joint(JointType::fixed, parts[0], -toA, parts[1], -toB));
  double worst = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    const BodyState onA = world.state(parts[0]), onB = world.state(parts[1]);
    const Vec3 w = onB.angularVelocity;
    const Vec3 centre = (a.mass * onA.pose.position + b.mass * onB.pose.position) / (a.mass + b.mass);
    Mat3 inertia = Mat3::Zero();
    for (const auto& [mass, state] : {std::pair(a, onA), std::pair(b, onB)}) {
      const Mat3 turned = state.pose.rotation.matrix() * mass.inertia * state.pose.rotation.matrix().transpose();
      const Vec3 r = state.pose.position - centre;
      inertia += turned + mass.mass * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
    }
    const Vec3 gathering = inertia.inverse() * (inertia * w).cross(w);
    const Vec3 r = onB.pose.position - centre;
    const Mat3 own = onB.pose.rotation.matrix() * b.inertia * onB.pose.rotation.matrix().transpose();
    const Vec3 force = b.mass * (gathering.cross(r) + w.cross(w.cross(r)));
    const Vec3 toPivot = onB.pose.rotation * -toB;
    const Vec3 torque = own * gathering + w.cross(own * w) - toPivot.cross(force);
    const JointReading& now = world.reading(0);
    worst = std::max(
        {worst, (now.forceNow - force).norm() / force.norm(), (now.torqueNow - torque).norm() / torque.norm()});
  }
  report("load between two boxes that tumble as one", worst, 1e-7, "");
  EXPECT_LE(worst, 1e-7);
}

}  // namespace
}  // namespace calm::physics
