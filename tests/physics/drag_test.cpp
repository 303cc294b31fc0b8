// SPDX-License-Identifier: GPL-3.0-or-later
// Wind and drag against their closed forms.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct Fall {
  double speed, depth;
};

Fall fall(const Wind& wind, double mass, double seconds) {
  World world;
  const BodyId ball = world.addBody(solid(Sphere{0.1}, mass));
  world.addField({wind, {}});
  for (long i = 0; i < std::lround(seconds / world.settings().frame); ++i) world.step();
  return {-world.state(ball).velocity.y(), -world.state(ball).pose.position.y()};
}

// v = vt (1 - exp(-t/T)) with vt = m g/c, T = m/c.
TEST(Drag, LinearFallHasItsClosedForm) {
  const double m = 2, c = 3, t = 3, terminal = m * kGravity / c, tau = m / c;
  const Fall f = fall({Vec3::Zero(), c, 0}, m, t);
  const double speed = terminal * (1 - std::exp(-t / tau)), depth = terminal * (t - tau * (1 - std::exp(-t / tau)));
  report("fall against linear drag: speed", std::abs(f.speed / speed - 1), 1e-5, "");
  EXPECT_NEAR(f.speed, speed, 1e-5 * speed);
  EXPECT_NEAR(f.depth, depth, 1e-5 * depth);
}

// v = vt tanh(g t/vt) with vt^2 = m g/c.
TEST(Drag, QuadraticFallHasItsClosedForm) {
  const double m = 2, c = 0.5, t = 3, terminal = std::sqrt(m * kGravity / c);
  const Fall f = fall({Vec3::Zero(), 0, c}, m, t);
  const double speed = terminal * std::tanh(kGravity * t / terminal);
  const double depth = terminal * terminal / kGravity * std::log(std::cosh(kGravity * t / terminal));
  report("fall against quadratic drag: speed", std::abs(f.speed / speed - 1), 1e-4, "");
  EXPECT_NEAR(f.speed, speed, 1e-4 * speed);
  EXPECT_NEAR(f.depth, depth, 1e-4 * depth);
}

// Second order: half the step, a quarter of the error.
TEST(Drag, ConvergesWithSecondOrder) {
  const double m = 1, c = 0.8, terminal = std::sqrt(m * kGravity / c);
  const double speed = terminal * std::tanh(kGravity / terminal);
  std::vector<double> errors;
  for (const int substeps : {8, 16, 32}) {
    World world({.substeps = substeps});
    const BodyId ball = world.addBody(solid(Sphere{0.1}, m));
    world.addField({Wind{Vec3::Zero(), 0, c}, {}});
    for (int i = 0; i < 60; ++i) world.step();
    errors.push_back(std::abs(-world.state(ball).velocity.y() - speed));
  }
  const double order = std::log2(errors[0] / errors[2]) / 2;
  report("drag: order of convergence", order, 1.8, "");
  EXPECT_GE(order, 1.8);
}

// No strength overshoots: what is a feather in honey only stops.
TEST(Drag, OfAnyStrengthNeverTurnsTheMotionRound) {
  for (const double c : {1e3, 1e6, 1e9}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef def = solid(Sphere{0.1}, 0.01);
    def.velocity = Vec3(10, 0, 0);
    const BodyId ball = world.addBody(def);
    world.addField({Wind{Vec3::Zero(), c, c}, {}});
    for (int i = 0; i < 60; ++i) {
      world.step();
      ASSERT_GE(world.state(ball).velocity.x(), 0) << c;
      ASSERT_LE(world.state(ball).velocity.x(), 10) << c;
    }
  }
}

// A lamp on a cord in a steady wind hangs at tan(angle) = c v / (m g), and the cord carries both.
TEST(Wind, LampHangsAtItsAngle) {
  World world;
  BodyDef def = solid(Sphere{0.05}, 1, {{0, -1, 0}});
  const BodyId lamp = world.addBody(def);
  JointDef cord = joint(JointType::distance, kWorld, Vec3::Zero(), lamp, Vec3::Zero());
  cord.axes[0].high = 1;
  const JointId id = world.addJoint(cord);
  world.addField({Wind{Vec3(3, 0, 0), 2, 0}, {}});
  for (int i = 0; i < 1800; ++i) world.step();
  const Vec3 at = world.state(lamp).pose.position;
  EXPECT_NEAR(std::atan2(at.x(), -at.y()), std::atan2(6, kGravity), 1e-6);
  EXPECT_NEAR(-world.reading(id).effort[0], std::hypot(6, kGravity), 1e-5);
}

// Damping alone ends a fall at g/d.
TEST(Damping, EndsAFallAtItsTrueSpeed) {
  World world;
  BodyDef def = solid(Sphere{0.1}, 1);
  def.linearDamping = 4;
  const BodyId ball = world.addBody(def);
  for (int i = 0; i < 600; ++i) world.step();
  EXPECT_NEAR(-world.state(ball).velocity.y(), kGravity / 4, 1e-9);
}

}  // namespace
}  // namespace calm::physics
