// SPDX-License-Identifier: GPL-3.0-or-later
// Steady pushes at points of parts that joints hold: where they balance, and how parts swing about that.
#include <gtest/gtest.h>

#include <algorithm>
#include <vector>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kLength = 0.2;  // m, of the rod

struct Lever {
  World world{{.gravity = Vec3::Zero()}};
  BodyId rod;
  JointId hinge;

  double angle() const { return world.reading(hinge).position[0]; }
};

// A rod along x, turned by `from` about z, that turns about its end.
Lever makeLever(double mass, double from, const AxisDef& axis) {
  Lever lever;
  const Quat turned(Eigen::AngleAxisd(from, Vec3::UnitZ()));
  BodyDef def = solid(Box{{kLength, 0.01, 0.01}}, mass, {turned * Vec3(kLength / 2, 0, 0), turned});
  lever.rod = lever.world.addBody(def);
  JointDef hinge = joint(JointType::hinge, kWorld, Vec3::Zero(), lever.rod, {-kLength / 2, 0, 0});
  hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  hinge.axes[0] = axis;
  lever.hinge = lever.world.addJoint(hinge);
  return lever;
}

class BalancedLever : public testing::TestWithParam<double> {};

// k angle = -F L cos(angle), whatever the lever's mass: light ones are stiff against the step, (F L / I) h^2 up to 10.
TEST_P(BalancedLever, RestsWhereItsSpringBalancesThePush) {
  const double force = GetParam(), stiffness = 5;
  for (const double mass : {1.0, 0.01, 0.001}) {
    Lever lever = makeLever(mass, 0, {.stiffness = stiffness, .damping = 0.05});
    lever.world.addPush({.body = lever.rod, .at = {kLength / 2, 0, 0}, .force = {0, -force, 0}});
    for (int i = 0; i < 1200; ++i) lever.world.step();
    const double lack = stiffness * lever.angle() + force * kLength * std::cos(lever.angle());
    report("lever of " + std::to_string(mass) + " kg pushed by " + std::to_string(force) + " N: moment left",
           std::abs(lack) / (force * kLength), 1e-6, "of the push's");
    EXPECT_NEAR(lack, 0, 1e-6 * force * kLength) << mass << " kg";
    EXPECT_NEAR(lever.world.reading(lever.hinge).force.norm(), force, 1e-6 * force) << mass << " kg";
  }
}

// A steady torque in place of the push: k angle = torque.
TEST(BalancedLevers, RestWhereTheSpringBalancesATorque) {
  for (const double mass : {1.0, 0.001}) {
    Lever lever = makeLever(mass, 0, {.stiffness = 5, .damping = 0.05});
    lever.world.addPush({.body = lever.rod, .at = {kLength / 2, 0, 0}, .force = {40, 0, 0}});  // stiffens it
    lever.world.addPush({.body = lever.rod, .torque = {0, 0, 2}});
    for (int i = 0; i < 1200; ++i) lever.world.step();
    const double angle = lever.angle();
    EXPECT_NEAR(5 * angle + 40 * kLength * std::sin(angle), 2, 2e-6) << mass << " kg";
  }
}

INSTANTIATE_TEST_SUITE_P(Forces, BalancedLever, testing::Values(4.0, 20.0, 40.0));

// A weightless swing: the push's potential F L (1 - cos) is as good as a weight's. Energy and the largest lean stay.
TEST(SwingingLever, KeepsItsEnergyAboutASteadyPush) {
  const double lean = 0.5, mass = 0.01, inertia = mass * (kLength * kLength * 4 + 1e-4) / 12;
  for (const double force : {1.0, 10.0, 40.0, 400.0}) {
    Lever lever = makeLever(mass, lean - kPi / 2, {});
    lever.world.addPush({.body = lever.rod, .at = {kLength / 2, 0, 0}, .force = {0, -force, 0}});
    const double whole = force * kLength * (1 - std::cos(lean));
    double off = 0;
    for (int i = 0; i < 600; ++i) {
      lever.world.step();
      const Vec3 along = lever.world.state(lever.rod).pose.rotation * Vec3::UnitX();
      const double rate = lever.world.state(lever.rod).angularVelocity.z();
      const double energy = inertia * rate * rate / 2 + force * kLength * (1 + along.y());
      off = std::max(off, std::abs(energy / whole - 1));
    }
    report("lever swinging about a push of " + std::to_string(force) + " N: energy over 10 s", off, 1e-3, "");
    EXPECT_LE(off, 1e-3) << force << " N";
  }
}

// The same about a centre of attraction far away, which pulls evenly.
TEST(SwingingLever, KeepsItsEnergyInAnEvenAttraction) {
  const double lean = 0.5, far = 1e7, mass = 0.01, inertia = mass * (kLength * kLength * 4 + 1e-4) / 12;
  for (const double pull : {30.0, 100.0, 400.0}) {
    Lever lever = makeLever(mass, lean - kPi / 2, {});
    lever.world.addField({Attraction{.center = {0, -far, 0}, .strength = pull, .falloff = 0}, {}});
    const double whole = mass * pull * kLength / 2 * (1 - std::cos(lean));
    double off = 0;
    for (int i = 0; i < 600; ++i) {
      lever.world.step();
      const Vec3 along = lever.world.state(lever.rod).pose.rotation * Vec3::UnitX();
      const double rate = lever.world.state(lever.rod).angularVelocity.z();
      const double energy = inertia * rate * rate / 2 + mass * pull * kLength / 2 * (1 + along.y());
      off = std::max(off, std::abs(energy / whole - 1));
    }
    report("lever swinging in an attraction of " + std::to_string(pull) + " m/s^2: energy over 10 s", off, 2e-3, "");
    EXPECT_LE(off, 2e-3) << pull << " m/s^2";
  }
}

// Strong against the step, (F L / I) h^2 = 26 and 260: still no more than it was given.
TEST(SwingingLever, GainsNothingWhereThePushIsStrongAgainstTheStep) {
  const double lean = 0.5, mass = 0.01, inertia = mass * (kLength * kLength * 4 + 1e-4) / 12;
  for (const double force : {4e3, 4e4}) {
    Lever lever = makeLever(mass, lean - kPi / 2, {});
    lever.world.addPush({.body = lever.rod, .at = {kLength / 2, 0, 0}, .force = {0, -force, 0}});
    double most = 0;
    for (int i = 0; i < 60; ++i) {
      lever.world.step();
      const Vec3 along = lever.world.state(lever.rod).pose.rotation * Vec3::UnitX();
      const double rate = lever.world.state(lever.rod).angularVelocity.z();
      most = std::max(most, inertia * rate * rate / 2 + force * kLength * (1 + along.y()));
    }
    const double whole = force * kLength * (1 - std::cos(lean));
    EXPECT_LE(most, 1.01 * whole) << force << " N";
  }
}

}  // namespace
}  // namespace calm::physics
