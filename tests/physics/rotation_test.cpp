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

}  // namespace
}  // namespace calm::physics
