// SPDX-License-Identifier: GPL-3.0-or-later
// Friction and motors whose way or strength changes within a step, or on coordinates that bend, against closed forms.
#include <gtest/gtest.h>

#include <algorithm>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A mass on a spring with Coulomb friction (period T = 2 pi sqrt(m/k)): half a cosine after half a cosine, each about
// a centre that is mu m g / k off on the side it comes from, until it stops where friction holds it.
struct Oscillator {
  double mass = 1, stiffness = 100, friction = 6, start = 1;

  double at(double time) const {
    const double rate = std::sqrt(stiffness / mass), half = kPi / rate, off = friction / stiffness;
    double x = start, side = 1;
    for (; time > half; time -= half, side = -side) {
      if (std::abs(x) <= off) return x;
      x = 2 * side * off - x;
    }
    return std::abs(x) <= off ? x : side * off + (x - side * off) * std::cos(rate * time);
  }
};

// The largest difference from the closed form over three seconds.
double worstOf(const Oscillator& law, World& world, BodyId body) {
  double worst = 0;
  const double frame = world.settings().frame;
  for (int i = 1; i * frame <= 3; ++i) {
    world.step();
    worst = std::max(worst, std::abs(world.state(body).pose.position.x() - law.at(i * frame)));
  }
  return worst;
}

StepSettings settingsAt(double hertz, const Vec3& gravity = Vec3::Zero()) {
  StepSettings settings;
  settings.frame = 1 / hertz;
  settings.gravity = gravity;
  return settings;
}

// Second order: (omega h)^2 of the amplitude.
constexpr double kAllowed = 4e-4;  // m

double rubbingOnARail(double hertz) {
  const Oscillator law;
  World world(settingsAt(hertz));
  const BodyId cart = world.addBody(solid(Box{Vec3::Constant(0.1)}, law.mass, {{law.start, 0, 0}}));
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), cart, Vec3::Zero());
  rail.axes[0].stiffness = law.stiffness;
  rail.axes[0].friction = law.friction;
  world.addJoint(rail);
  return worstOf(law, world, cart);
}

TEST(Rubbing, OscillatorOnARail) {
  const double coarse = rubbingOnARail(60), fine = rubbingOnARail(240);
  report("oscillator with friction on its rail", coarse * 1e3, kAllowed * 1e3, "mm");
  report("order of convergence with friction", std::log(coarse / fine) / std::log(4), 1.8, "");
  EXPECT_LE(coarse, kAllowed);
  EXPECT_GE(std::log(coarse / fine) / std::log(4), 1.8);
}

TEST(Rubbing, OscillatorOnTheGround) {
  const Oscillator law;
  constexpr double mu = 0.6, far = 1000;
  World world(settingsAt(60, {0, -law.friction / (mu * law.mass), 0}));
  world.addBody(ground(mu));
  BodyDef def = tangible(Box{{0.4, 0.2, 0.4}}, law.mass, {{law.start, 0.1, 0}});
  def.friction = mu;
  const BodyId block = world.addBody(def);
  JointDef spring = joint(JointType::spring, kWorld, Vec3(-far, 0.1, 0), block, Vec3::Zero());
  spring.axes[0].stiffness = law.stiffness;
  spring.axes[0].target = far;
  world.addJoint(spring);
  const double worst = worstOf(law, world, block);
  report("oscillator with friction on the ground", worst * 1e3, kAllowed * 1e3, "mm");
  EXPECT_LE(worst, kAllowed);
}

// On a slope as steep as its friction a block that was set going along it turns downhill: what its weight adds to the
// speed downhill friction takes from the speed, so that their sum stays (Routh, Dynamics of a Particle, 1898).
TEST(Rubbing, BlockOnASlopeTurnsDownhill) {
  constexpr double mu = 0.5, along = 3;
  const double tilt = std::atan(mu);
  World world(settingsAt(60, kGravity * Vec3(0, -std::cos(tilt), std::sin(tilt))));
  world.addBody(ground(mu));
  BodyDef def = tangible(Box{{0.4, 0.02, 0.4}}, 1, {{0, 0.01, 0}});
  def.friction = mu;
  def.velocity = Vec3(along, 0, 0);
  def.mass.inertia = Vec3::Constant(1e9).asDiagonal();  // no turning
  const BodyId block = world.addBody(def);
  double worst = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    const Vec3 v = world.state(block).velocity;
    worst = std::max(worst, std::abs(v.norm() + v.z() - along));
  }
  report("speed and speed downhill of a block across a slope", worst * 1e3, 0.1, "mm/s");
  EXPECT_LE(worst, 1e-4);
  EXPECT_NEAR(world.state(block).velocity.z(), along / 2, 0.01);
}

// An arm that turns steadily with a cart on it.
struct Arm {
  World world;
  BodyId arm, cart;
  JointId rail;

  Arm(double rate, const AxisDef& axis) : world(settingsAt(60)) {
    BodyDef def = solid(Box{{1, 0.1, 0.1}}, 100);
    def.mass.inertia = Vec3::Constant(1e6).asDiagonal();
    def.angularVelocity = Vec3(0, 0, rate);
    arm = world.addBody(def);
    BodyDef riding = solid(Box{Vec3::Constant(0.1)}, kMass, {{kOut, 0, 0}});
    riding.velocity = Vec3(0, rate * kOut, 0);
    riding.angularVelocity = def.angularVelocity;
    cart = world.addBody(riding);
    JointDef pivot = joint(JointType::hinge, kWorld, Vec3::Zero(), arm, Vec3::Zero());
    pivot.frameA.rotation = pivot.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    world.addJoint(pivot);
    JointDef slider = joint(JointType::slider, arm, Vec3(kOut, 0, 0), cart, Vec3::Zero());
    slider.axes[0] = axis;
    rail = world.addJoint(slider);
  }
  void run(int frames) {
    for (int i = 0; i < frames; ++i) world.step();
  }

  static constexpr double kMass = 1, kOut = 0.5;
};

TEST(Rubbing, HoldsACartOnAnArmThatTurns) {
  AxisDef axis;
  axis.friction = 60;
  Arm arm(10, axis);
  arm.run(120);
  const JointReading& r = arm.world.reading(arm.rail);
  report("creep of a cart held by friction on a turning arm, 2 s", std::abs(r.position[0]) * 1e3, 1e-3, "mm");
  EXPECT_NEAR(r.position[0], 0, 1e-6);
  EXPECT_NEAR(r.rate[0], 0, 1e-6);
  // It takes the centripetal force, m w^2 r.
  EXPECT_NEAR(r.effort[0], -Arm::kMass * 100 * Arm::kOut, 1e-3 * 50);
}

TEST(Rubbing, LetsGoOfACartOnAnArmThatTurnsTooFast) {
  AxisDef axis;
  axis.friction = 40;
  Arm arm(10, axis);
  arm.run(30);
  // x'' = w^2 (out + x) - f/m from rest.
  const double t = 0.5, settles = Arm::kOut - 40 / (Arm::kMass * 100);
  const double exact = settles * (std::cosh(10 * t) - 1);
  report("way of a cart that slides out", (arm.world.reading(arm.rail).position[0] / exact - 1) * 100, 0.1, "%");
  EXPECT_NEAR(arm.world.reading(arm.rail).position[0], exact, 1e-3 * exact);
}

TEST(Motor, DrivesACartOutOnAnArmThatTurns) {
  AxisDef axis;
  axis.speed = 0.2, axis.cap = 1000;
  Arm arm(10, axis);
  arm.run(60);
  const JointReading& r = arm.world.reading(arm.rail);
  report("way of a cart driven out on a turning arm, against speed x time", std::abs(r.position[0] - 0.2) * 1e3, 1e-3,
         "mm");
  EXPECT_NEAR(r.position[0], 0.2, 1e-6);
  // Coriolis's force across the rail.
  EXPECT_NEAR(std::abs(r.forceNow.dot(Vec3(-std::sin(10), std::cos(10), 0))), 2 * Arm::kMass * 10 * 0.2, 1e-3 * 4);
}

// A motor that is too weak for what drags it past its own speed turns its push round there.
TEST(Motor, IsDraggedThroughItsSpeed) {
  const auto errorAt = [](double hertz) {
    World world(settingsAt(hertz));
    const BodyId cart = world.addBody(solid(Box{Vec3::Constant(0.1)}, 2, {}));
    JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), cart, Vec3::Zero());
    rail.axes[0].speed = 0.7, rail.axes[0].cap = 3;
    world.addJoint(rail);
    world.addForce(cart, Vec3(10, 0, 0), Vec3::Zero());
    for (int i = 0; i * world.settings().frame < 1 - 1e-9; ++i) world.step();
    // Up to the motor's speed with 13 N, on with 7 N.
    const double first = 0.7 * 2 / 13, rest = 1 - first;
    const double exact = 0.5 * 6.5 * first * first + 0.7 * rest + 0.5 * 3.5 * rest * rest;
    return std::abs(world.reading(0).position[0] - exact);
  };
  const double worst = std::max({errorAt(60), errorAt(61), errorAt(62), errorAt(63)});
  report("way of a cart dragged through its motor's speed", worst * 1e3, 0.02, "mm");
  EXPECT_LE(worst, 2e-5);  // what its push changes by, over a step
}

// A cart of 1 kg on a rail without weight, with a motor and friction.
struct Driven {
  World world;
  BodyId cart;

  Driven(double speed, double cap, double friction, double velocity, double load) : world(settingsAt(60)) {
    BodyDef def = solid(Box{Vec3::Constant(0.1)}, 1);
    def.velocity = Vec3(velocity, 0, 0);
    cart = world.addBody(def);
    JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), cart, Vec3::Zero());
    rail.axes[0].speed = speed, rail.axes[0].cap = cap, rail.axes[0].friction = friction;
    world.addJoint(rail);
    world.addForce(cart, Vec3(load, 0, 0), Vec3::Zero());
  }
  const JointReading& after(int frames) {
    for (int i = 0; i < frames; ++i) world.step();
    return world.reading(0);
  }
};

// Friction is against the motion whichever way the motor wants to go: with it as it comes from behind, against it as it
// runs, and both hold what is less than their sum.
TEST(Motor, RunsAgainstFriction) {
  EXPECT_NEAR(Driven(1, 5, 2, 0, 0).after(12).rate[0], 3 * 0.2, 1e-9);
  EXPECT_NEAR(Driven(1, 5, 2, 0, 0).after(60).rate[0], 1, 1e-9);
  EXPECT_NEAR(Driven(1, 5, 2, -3, 0).after(12).rate[0], -3 + 7 * 0.2, 1e-9);
  EXPECT_NEAR(Driven(1, 5, 2, 0, -6).after(30).position[0], 0, 1e-9);
  EXPECT_NEAR(Driven(1, 5, 2, 0, -6).after(30).effort[0], 6, 1e-9);
  EXPECT_NEAR(Driven(1, 5, 2, 0, -7.5).after(30).rate[0], -0.5 * 0.5, 1e-9);
}

TEST(Motor, ThatIsOffLeavesFrictionAlone) {
  EXPECT_NEAR(Driven(1, 0, 2, 0, 0).after(30).effort[0], 0, 1e-9);
  EXPECT_NEAR(Driven(1, 0, 2, 3, 0).after(30).rate[0], 3 - 2 * 0.5, 1e-9);
}

// Two carts, the second on the first and carried to its end of the rail, where its friction holds it: as the first
// comes back from its stop, the second is taken back with it.
TEST(Rubbing, CartHeldAtItsStopGoesBackWithWhatCarriesIt) {
  constexpr double speed = 1, back = 0.5;
  World world(settingsAt(60));
  BodyDef def = solid(Box{Vec3::Constant(0.1)}, 2);
  def.velocity = Vec3(speed, 0, 0);
  const BodyId first = world.addBody(def);
  def.mass = massPropertiesOf(Box{Vec3::Constant(0.1)}, 3);
  const BodyId second = world.addBody(def);
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), first, Vec3::Zero());
  rail.axes[0].high = 0.1, rail.axes[0].restitution = back;
  world.addJoint(rail);
  JointDef riding = joint(JointType::slider, first, Vec3::Zero(), second, Vec3::Zero());
  riding.axes[0].high = 0, riding.axes[0].friction = 0.01;
  world.addJoint(riding);
  for (int i = 0; i < 9; ++i) world.step();
  EXPECT_NEAR(world.state(first).velocity.x(), -back * speed, 1e-2);
  EXPECT_NEAR(world.state(second).velocity.x(), -back * speed, 1e-2);
}

// A grain, which cannot turn, on a table that turns to and fro so fast that friction carries it along only now and
// then. Friction is against its slip over the table below it, so that it has to be known which way the grain goes.
TEST(Rubbing, GrainOnATableThatTurnsToAndFro) {
  constexpr double kAmplitude = 2, kHertz = 0.5, kFriction = 0.3, kOut = 0.5, kSeconds = 1, kSize = 4e-4;
  constexpr double rate = 2 * kPi * kHertz;  // of the table, rad/s
  World world;
  BodyDef table = tangible(Box{{4, 0.2, 4}}, 1, {{0, -0.1, 0}});
  table.role = Role::kinematic;
  Motion motion;
  motion.keys = {{0, table.pose}};
  motion.waves = {{Vec3::UnitY(), true, kAmplitude, kHertz, 0}};
  table.motion = motion;
  table.friction = kFriction;
  world.addBody(table);
  BodyDef def = tangible(Cylinder{kSize, kSize}, 1, {{kOut, kSize / 2, 0}});
  def.friction = kFriction;
  const BodyId grain = world.addBody(def);
  world.lockAxes(grain, {}, {true, true, true});
  for (int i = 0; i < 60 * kSeconds; ++i) world.step();
  // Moreau's law on a point, in steps too small to matter.
  constexpr int kSteps = 200000;
  constexpr double h = kSeconds / kSteps, most = kFriction * kGravity * h;
  Vec3 at(kOut, 0, 0), velocity = Vec3::Zero();
  for (int i = 1; i <= kSteps; ++i) {
    at += h / 2 * velocity;
    const Vec3 below = kAmplitude * rate * std::cos(rate * (i - 0.5) * h) * Vec3::UnitY().cross(at);
    const Vec3 slip = below - velocity;
    velocity += std::min(1.0, most / slip.norm()) * slip;
    at += h / 2 * velocity;
  }
  const double turned = kAmplitude * rate / 480;  // by the table at its fastest, in a substep
  const Vec3 off = world.state(grain).pose.position - at;
  EXPECT_LT(std::hypot(off.x(), off.z()), turned * turned * kOut);
}

}  // namespace
}  // namespace calm::physics
