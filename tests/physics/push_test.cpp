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

// A light rod let go half a radian from the direction in which it is pulled, as by a weight at its end; what acts on it
// is for the caller to add. The pull's potential is that of a weight.
class SwingingLever : public testing::Test {
 protected:
  static constexpr double kLean = 0.5, kMass = 0.01;

  // The energies after each frame, over the one that it was let go with; `moment` is the pull's about the pin, N m.
  static std::vector<double> energies(Lever& lever, double moment, int frames) {
    const double inertia = kMass * (kLength * kLength * 4 + 1e-4) / 12;
    std::vector<double> all;
    for (int i = 0; i < frames; ++i) {
      lever.world.step();
      const Vec3 along = lever.world.state(lever.rod).pose.rotation * Vec3::UnitX();
      const double rate = lever.world.state(lever.rod).angularVelocity.z();
      all.push_back((inertia * rate * rate / 2 + moment * (1 + along.y())) / (moment * (1 - std::cos(kLean))));
    }
    return all;
  }
  static double furthestFromOne(const std::vector<double>& all) {
    double off = 0;
    for (const double e : all) off = std::max(off, std::abs(e - 1));
    return off;
  }
  static Lever pushed(double force) {
    Lever lever = makeLever(kMass, kLean - kPi / 2, {});
    lever.world.addPush({.body = lever.rod, .at = {kLength / 2, 0, 0}, .force = {0, -force, 0}});
    return lever;
  }
};

TEST_F(SwingingLever, KeepsItsEnergyAboutASteadyPush) {
  for (const double force : {1.0, 10.0, 40.0, 400.0}) {
    Lever lever = pushed(force);
    const double off = furthestFromOne(energies(lever, force * kLength, 600));
    report("lever swinging about a push of " + std::to_string(force) + " N: energy over 10 s", off, 1e-3, "");
    EXPECT_LE(off, 1e-3) << force << " N";
  }
}

// The same about a centre of attraction far away, which pulls evenly.
TEST_F(SwingingLever, KeepsItsEnergyInAnEvenAttraction) {
  for (const double pull : {30.0, 100.0, 400.0}) {
    Lever lever = makeLever(kMass, kLean - kPi / 2, {});
    lever.world.addField({Attraction{.center = {0, -1e7, 0}, .strength = pull, .falloff = 0}, {}});
    const double off = furthestFromOne(energies(lever, kMass * pull * kLength / 2, 600));
    report("lever swinging in an attraction of " + std::to_string(pull) + " m/s^2: energy over 10 s", off, 2e-3, "");
    EXPECT_LE(off, 2e-3) << pull << " m/s^2";
  }
}

// Strong against the step, (F L / I) h^2 = 26 and 260: still no more than it was given.
TEST_F(SwingingLever, GainsNothingWhereThePushIsStrongAgainstTheStep) {
  for (const double force : {4e3, 4e4}) {
    Lever lever = pushed(force);
    const std::vector<double> all = energies(lever, force * kLength, 60);
    EXPECT_LE(*std::max_element(all.begin(), all.end()), 1.01) << force << " N";
  }
}

}  // namespace
}  // namespace calm::physics
