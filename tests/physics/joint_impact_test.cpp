// SPDX-License-Identifier: GPL-3.0-or-later
// Balls that strike what joints hold. An impact takes no time: what rests at a stop is not held back by it, friction,
// springs and motors have no part in it, and what is hinged answers with its moment of inertia.
#include <gtest/gtest.h>

#include <algorithm>

#include "physics/random.h"

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
    def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
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
  def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  def.axes[0].stiffness = 6 * kGravity / 0.05, def.axes[0].target = 0.05;
  world.addJoint(def);
  const BodyId ball = throwBall(world, Vec3(0, 0.1, 0), -Vec3::UnitY());
  expectSpeed("a loaded spring", speedAfter(world, ball, -Vec3::UnitY()), after(6));
}

// What is light and fixed to much bounces as the whole does.
TEST(JointImpact, BouncesOnALightEndAsTheWhole) {
  constexpr double kBack = 0.8;
  World world;
  world.addBody(ground(0));
  const BodyId load = world.addBody(solid(Box{Vec3::Constant(0.4)}, 100, {Vec3(0, 1.3, 0)}));
  BodyDef def = tangible(Sphere{0.05}, 0.1, {Vec3(0, 1.05, 0)});
  def.restitution = kBack;
  const BodyId foot = world.addBody(def);
  world.addJoint(joint(JointType::fixed, load, Vec3(0, -0.2, 0), foot, Vec3(0, 0.05, 0)));
  for (int f = 0; f < 40; ++f) world.step();
  const BodyState state = world.state(foot);
  const double rises = std::pow(state.velocity.y(), 2) / (2 * kGravity);
  const double height = state.pose.position.y() - 0.05 + rises, expected = kBack * kBack * 1.0;
  report("load of 100 kg falling 1 m on a foot of 0.1 kg, height after it", std::abs(height - expected), 1e-4, "m");
  EXPECT_NEAR(height, expected, 1e-4);
}

// A pendulum of 1 kg whose bob, at 1 m, has this moment of inertia, kg m^2.
struct Pendulum {
  World world{StepSettings{.gravity = Vec3::Zero()}};
  BodyId bob;

  Pendulum(double inertia, const Vec3& velocity) {
    BodyDef def = solid(Box{Vec3::Constant(std::sqrt(6 * inertia))}, 1, {Vec3(0, -1, 0)});
    def.velocity = velocity;
    bob = world.addBody(def);
    JointDef pin = joint(JointType::hinge, kWorld, Vec3::Zero(), bob, Vec3(0, 1, 0));
    pin.frameA.rotation = pin.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    world.addJoint(pin);
  }
  double rate() const { return world.state(bob).angularVelocity.z(); }
};

// A paddle that is moved at a steady speed sends what it strikes off by Newton's law on their relative speed, on a rail
// as if it were free: what is moved may bring energy.
TEST(JointImpact, WithAPaddleThatIsMoved) {
  constexpr double kPaddle = 5;  // m/s
  for (const double restitution : {0.0, 0.5, 1.0}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef paddle = tangible(Box{{0.1, 1, 1}}, 1, {{-1, 0, 0}});
    paddle.role = Role::kinematic;
    paddle.velocity.x() = kPaddle;
    paddle.restitution = restitution;
    world.addBody(paddle);
    const BodyId ball = world.addBody(tangible(Sphere{0.1}, 1));
    world.addJoint(joint(JointType::slider, kWorld, Vec3::Zero(), ball, Vec3::Zero()));
    for (int f = 0; f < 24; ++f) world.step();
    EXPECT_NEAR(world.state(ball).velocity.x(), (1 + restitution) * kPaddle, 1e-9) << restitution;
  }
}

// Links that a press squeezes flatter than they are cannot give way, whatever pushes: nothing breaks or flies off, and
// it comes to an end.
TEST(JointImpact, UnderAPressThatLeavesNoRoom) {
  constexpr int kLinks = 5;
  constexpr double kRadius = 0.04, kLength = 0.2, kPress = 0.75;  // m, m, m/s
  World world;
  world.addBody(ground());
  std::vector<BodyId> links;
  for (int i = 0; i < kLinks; ++i) {
    const Quat level(Eigen::AngleAxisd(kPi / 2, Vec3::UnitZ()));
    links.push_back(world.addBody(tangible(Capsule{kRadius, 0.9 * kLength}, 0.5, {{i * kLength, 0.1, 0}, level})));
    if (i > 0)
      world.addJoint(joint(JointType::ball, links[i - 1], {0, -kLength / 2, 0}, links[i], {0, kLength / 2, 0}));
  }
  BodyDef press = tangible(Box{{3, 0.2, 2}}, 1, {{0, 0.6, 0}});
  press.role = Role::kinematic;
  press.velocity.y() = -kPress;
  const BodyId plate = world.addBody(press);
  double apart = 0, fastest = 0;
  for (int f = 0; f < 45; ++f) {
    // It ends at three quarters of their thickness.
    if (world.state(plate).pose.position.y() < 0.1 + 1.5 * kRadius)
      world.setVelocity(plate, Vec3::Zero(), Vec3::Zero());
    apart = std::max(apart, world.step().linear);
    for (const BodyId link : links) fastest = std::max(fastest, world.state(link).velocity.norm());
  }
  EXPECT_LT(apart, 1e-5);
  EXPECT_LT(fastest, 10 * kPress);
}

// A blow from outside is passed on by the joints at once, with the loss of energy that this takes: what is left of it
// turns the whole about the pin.
TEST(Blow, TurnsAPendulumByItsMomentAboutThePin) {
  double worst = 0;
  for (const double inertia : {0.002, 0.01, 0.05, 0.2}) {
    const double expected = 2 / (1 + inertia);
    Pendulum given(inertia, Vec3(2, 0, 0)), struck(inertia, Vec3::Zero());
    struck.world.step();
    struck.world.applyImpulse(struck.bob, Vec3(2, 0, 0), Vec3(0, -1, 0));
    given.world.step(), struck.world.step();
    // The pin takes what the bob does not need: m v - I w / l.
    const double pin = struck.world.reading(0).force.x() * struck.world.settings().frame;
    EXPECT_NEAR(std::abs(pin), 2 - expected, 1e-2);
    for (int f = 0; f < 60; ++f) given.world.step(), struck.world.step();
    worst = std::max({worst, std::abs(given.rate() / expected - 1), std::abs(struck.rate() / expected - 1)});
  }
  report("blow on a pendulum, its rate", worst, 1e-6, "of it");
  EXPECT_LT(worst, 1e-6);
}

// Two equal rods in a line, hinged end to end and struck across at a free end: the pin passes on a quarter of the blow,
// and the end struck moves off at 7/2 of blow over mass.
TEST(Blow, RunsThroughHingedRods) {
  constexpr double kImpulse = 3, kRod = 2, kLength = 1;  // N s, kg, m
  World world({.gravity = Vec3::Zero()});
  const Box rod{{kLength, 1e-3, 1e-3}};
  const BodyId first = world.addBody(solid(rod, kRod, {Vec3(0, 0, 0)})),
               second = world.addBody(solid(rod, kRod, {Vec3(kLength, 0, 0)}));
  world.addJoint(joint(JointType::ball, first, Vec3(kLength / 2, 0, 0), second, Vec3(-kLength / 2, 0, 0)));
  world.step();
  world.applyImpulse(first, Vec3(0, kImpulse, 0), Vec3(-kLength / 2, 0, 0));
  world.step();
  const double energy = 1.75 * kImpulse * kImpulse / kRod;
  report("blow through two hinged rods, energy", std::abs(world.energy().kinetic / energy - 1), 1e-6, "of it");
  EXPECT_NEAR(world.energy().kinetic, energy, 1e-6 * energy);
  EXPECT_NEAR((world.momentum() - Vec3(0, kImpulse, 0)).norm(), 0, 1e-9);
  EXPECT_NEAR(world.angularMomentum(Vec3::Zero()).z(), -kImpulse * kLength / 2, 1e-9);
}

// A rod and a ball that one joint holds together, thrown at the ground: where they are after 0.4 s.
Vec3 endOfThrow(unsigned seed, JointType type, int substeps) {
  Random random(seed);
  World world({.substeps = substeps});
  BodyDef floor = ground(0.5);
  floor.restitution = 0.7;
  world.addBody(floor);
  BodyId thrown[2];
  for (int i = 0; i < 2; ++i) {
    const Shape shape = i == 0 ? Shape(Capsule{0.06, 0.4}) : Shape(Sphere{0.15});
    BodyDef def = tangible(shape, random.uniform(0.5, 4), {{0.5 * i, random.uniform(0.6, 0.9), 0}, random.rotation()});
    def.velocity = random.vector(1) - Vec3::UnitY();
    def.angularVelocity = random.vector(4);
    thrown[i] = world.addBody(def);
  }
  JointDef def = joint(type, thrown[0], Vec3::Zero(), thrown[1], Vec3::Zero());
  const Pose rod = world.state(def.a).pose, ball = world.state(def.b).pose;
  const Pose middle{(rod.position + ball.position) / 2, random.rotation()};
  def.frameA = rod.inverse() * middle, def.frameB = ball.inverse() * middle;
  world.addJoint(def);
  for (int frame = 0; frame < 24; ++frame) world.step();
  return world.state(def.b).pose.position;
}

// A substep is cut at the instant of an impact. What it is off by there, times the speeds of 4 m/s that it changes, is
// how far the two are off from then on: a hundredth of a substep would make 80 um of it.
TEST(JointImpact, ComesAtItsInstant) {
  constexpr int kThrows = 25;
  constexpr double kOff = 4e-5;  // m
  for (const JointType type : {JointType::ball, JointType::hinge}) {
    std::vector<double> apart;
    for (unsigned seed = 1; seed <= kThrows; ++seed)
      apart.push_back((endOfThrow(seed, type, 8) - endOfThrow(seed, type, 256)).norm());
    std::nth_element(apart.begin(), apart.begin() + kThrows / 2, apart.end());
    report("jointed pair thrown at the ground, restitution 0.7, 0.4 s: place", apart[kThrows / 2], kOff, "m, median");
    EXPECT_LT(apart[kThrows / 2], kOff);
  }
}

}  // namespace
}  // namespace calm::physics
