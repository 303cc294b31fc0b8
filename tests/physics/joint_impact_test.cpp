// SPDX-License-Identifier: GPL-3.0-or-later
// Balls that strike what joints hold. An impact takes no time: what rests at a stop is not held back by it, friction,
// springs and motors have no part in it, and what is hinged answers with its moment of inertia.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kMass = 0.5, kSpeed = 4, kRestitution = 0.6;  // of the ball
constexpr double kGap = 0.03;                                  // m, that it has to go
constexpr double kMost = 1e-4 * kSpeed;                        // m/s

// A ball on its way to a point of a surface.
BodyId throwBall(World& world, const Vec3& at, const Vec3& direction) {
  constexpr double kRadius = 0.05;
  BodyDef ball = tangible(Sphere{kRadius}, kMass, {at - (kRadius + kGap) * direction});
  ball.velocity = kSpeed * direction;
  ball.restitution = kRestitution;
  ball.gravityScale = 0;
  return world.addBody(ball);
}

// What the ball keeps of its speed after it has struck what answers with the mass m.
double after(double m) {
  return kSpeed * (kMass - kRestitution * m) / (kMass + m);
}

double speedAfter(World& world, BodyId ball, const Vec3& direction) {
  for (int f = 0; f < 3; ++f) world.step();
  return world.state(ball).velocity.dot(direction);
}

void expectSpeed(const std::string& what, double speed, double expected) {
  report("ball on " + what + ", speed after it", std::abs(speed - expected) / kSpeed, kMost / kSpeed, "of that before");
  EXPECT_NEAR(speed, expected, kMost) << what;
}

// A leaf of 1 m and 8 kg on a hinge along its edge, which a torque holds in its stop.
struct Leaf {
  World world{StepSettings{.gravity = Vec3::Zero()}};
  BodyId body;
  // kg, that it answers with there: its moment of inertia about the hinge over the square of the lever.
  double massAt(double lever) const { return 8 * ((1 + 0.05 * 0.05) / 12 + 0.25) / (lever * lever); }

  explicit Leaf(const AxisDef& axis) {
    body = world.addBody(tangible(Box{{1, 1, 0.05}}, 8, {Vec3(0.5, 0, 0)}));
    JointDef def = joint(JointType::hinge, kWorld, Vec3::Zero(), body, Vec3(-0.5, 0, 0));
    def.frameA.rotation = def.frameB.rotation = Quat::FromTwoVectors(Vec3::UnitX(), Vec3::UnitY());
    def.axes[0] = axis;
    world.addJoint(def);
  }
};

TEST(JointImpact, OpensADoorThatRestsAtItsStop) {
  for (const bool high : {false, true}) {
    AxisDef axis;
    (high ? axis.high : axis.low) = 0;
    Leaf leaf(axis);
    // About y, towards the stop.
    leaf.world.addTorque(leaf.body, Vec3(0, high ? 0.2 : -0.2, 0));
    for (int f = 0; f < 10; ++f) leaf.world.step();
    // Away from the stop: along -z turns the far edge up about y.
    const Vec3 along(0, 0, high ? 1 : -1), at = Vec3(0.8, 0, 0) - 0.025 * along;
    const BodyId ball = throwBall(leaf.world, at, along);
    expectSpeed("a leaf in its stop", speedAfter(leaf.world, ball, along), after(leaf.massAt(0.8)));
  }
}

TEST(JointImpact, ComesBackFromADoorHeldByItsStop) {
  AxisDef axis;
  axis.low = 0;
  Leaf leaf(axis);
  leaf.world.addTorque(leaf.body, Vec3(0, -0.2, 0));
  for (int f = 0; f < 10; ++f) leaf.world.step();
  const BodyId ball = throwBall(leaf.world, Vec3(0.8, 0, -0.025), Vec3::UnitZ());
  expectSpeed("a leaf that its stop holds", speedAfter(leaf.world, ball, Vec3::UnitZ()), -kRestitution * kSpeed);
}

TEST(JointImpact, IsNotFeltByFrictionMotorAndSpring) {
  AxisDef friction, motor, spring;
  friction.friction = 2;
  motor.speed = 0, motor.cap = 2;
  spring.stiffness = 50, spring.damping = 1;
  for (const AxisDef& axis : {friction, motor, spring}) {
    Leaf leaf(axis);
    for (int f = 0; f < 10; ++f) leaf.world.step();
    const BodyId ball = throwBall(leaf.world, Vec3(0.8, 0, -0.025), Vec3::UnitZ());
    expectSpeed("a leaf with friction, motor or spring", speedAfter(leaf.world, ball, Vec3::UnitZ()),
                after(leaf.massAt(0.8)));
  }
}

// A weight on a rope, struck from below, rises as if it were free: a rope does not push.
TEST(JointImpact, SlackensARope) {
  for (const JointType type : {JointType::distance, JointType::winch}) {
    World world;
    const BodyId weight = world.addBody(tangible(Box{Vec3::Constant(0.2)}, 3, {Vec3(0, -1, 0)}));
    JointDef def = joint(type, kWorld, Vec3::Zero(), weight, Vec3(0, 0.1, 0));
    if (type == JointType::distance) def.axes[0].high = 0.9;
    world.addJoint(def);
    for (int f = 0; f < 10; ++f) world.step();
    const BodyId ball = throwBall(world, Vec3(0, -1.1, 0), Vec3::UnitY());
    expectSpeed("a weight on a rope", speedAfter(world, ball, Vec3::UnitY()), after(3));
    // The weight is thrown up by what the ball gave it, less what it has fallen since.
    const double thrown = kMass * (kSpeed - after(3)) / 3, since = 3.0 / 60 - kGap / kSpeed;
    EXPECT_NEAR(world.state(weight).velocity.y(), thrown - kGravity * since, 1e-3);
  }
}

// The load on a spring, pressed by its weight, has no more to give back at the instant than without it.
TEST(JointImpact, OnALoadedSpring) {
  World world;
  const BodyId load = world.addBody(tangible(Box{{0.4, 0.2, 0.4}}, 6));
  JointDef def = joint(JointType::slider, kWorld, Vec3::Zero(), load, Vec3::Zero());
  def.frameA.rotation = def.frameB.rotation = Quat::FromTwoVectors(Vec3::UnitX(), Vec3::UnitY());
  def.axes[0].stiffness = 6 * kGravity / 0.05, def.axes[0].target = 0.05;
  world.addJoint(def);
  const BodyId ball = throwBall(world, Vec3(0, 0.1, 0), -Vec3::UnitY());
  expectSpeed("a loaded spring", speedAfter(world, ball, -Vec3::UnitY()), after(6));
}

}  // namespace
}  // namespace calm::physics
