// SPDX-License-Identifier: GPL-3.0-or-later
// Kinematic parts, changes of role, locked world axes.
#include <gtest/gtest.h>

#include <complex>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

BodyDef kinematic(const Shape& shape, const Pose& pose = {}) {
  BodyDef def;
  def.role = Role::kinematic;
  def.pose = pose;
  def.shapes = {{shape, {}}};
  return def;
}

// A box on a belt slides until it has the belt's speed: v = mu g t.
TEST(Kinematic, BeltCarriesABoxAlong) {
  World world;
  BodyDef belt = kinematic(Box{{40, 0.2, 2}}, {{0, -0.1, 0}});
  belt.velocity = {2, 0, 0};
  belt.friction = 0.3;
  world.addBody(belt);
  BodyDef box = tangible(Box{Vec3::Constant(0.3)}, 5, {{0, 0.15, 0}});
  box.friction = 0.3;
  const BodyId id = world.addBody(box);
  for (int i = 0; i < 24; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), 0.3 * kGravity * 0.4, 0.01 * 0.3 * kGravity * 0.4);
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), 2, 1e-4);
}

// A bob on a carriage under constant acceleration hangs still at atan(a/g).
TEST(Kinematic, PendulumLeansOnAnAcceleratingCarriage) {
  World world;
  const double a = 3;
  BodyDef carriage;
  carriage.role = Role::kinematic;
  Motion motion;
  motion.smooth = true;
  // Catmull-Rom through points of a parabola at even times is that parabola.
  for (int i = 0; i <= 100; ++i) motion.keys.push_back({0.1 * i, {{a / 2 * 0.01 * i * i, 0, 0}}});
  carriage.motion = motion;
  const BodyId base = world.addBody(carriage);
  const double lean = std::atan2(a, kGravity);
  const BodyId bob = world.addBody(solid(Sphere{0.05}, 1, {Vec3(-std::sin(lean), -std::cos(lean), 0)}));
  const JointDef rod = joint(JointType::ball, base, Vec3::Zero(), bob, Vec3(std::sin(lean), std::cos(lean), 0));
  const JointId pivot = world.addJoint(rod);
  for (int i = 0; i < 300; ++i) world.step();
  const Vec3 hangs = world.state(bob).pose.position - world.state(base).pose.position;
  // The first stretch of the curve has a one-sided tangent, which starts a swing of a few milliradians.
  EXPECT_NEAR(std::atan2(-hangs.x(), -hangs.y()), lean, 0.03);
  EXPECT_NEAR(world.reading(pivot).forceNow.norm(), std::hypot(a, kGravity), 0.2);
}

// Kapitza 1951: upside down, a pendulum stands while its pivot shakes with (amplitude omega)^2 > 2 g l.
TEST(Kinematic, ShakenPendulumStandsUpsideDown) {
  for (const bool stands : {true, false}) {
    World world({.substeps = 16});
    BodyDef pivot;
    pivot.role = Role::kinematic;
    Motion motion;
    motion.keys = {{0, {}}};
    motion.waves = {{Vec3::UnitY(), false, 0.02, stands ? 60.0 : 20.0, 0}};
    pivot.motion = motion;
    const BodyId base = world.addBody(pivot);
    const double length = 0.5;
    const Vec3 to(std::sin(0.1) * length, std::cos(0.1) * length, 0);
    const BodyId bob = world.addBody(solid(Sphere{0.01}, 1, {to}));
    world.addJoint(joint(JointType::ball, base, Vec3::Zero(), bob, -to));
    double lowest = 1;
    for (int i = 0; i < 300; ++i) world.step(), lowest = std::min(lowest, world.state(bob).pose.position.y());
    // (0.02 * 2 pi * 60)^2 = 57 m2/s2 against 2 g l = 9.8; at 20 Hz it is 6.3.
    if (stands)
      EXPECT_GT(lowest, 0.4);
    else
      EXPECT_LT(lowest, 0);
  }
}

// Forced vibration: the steady amplitude is F/m over the usual root; here the base moves, X/Y = r-formula.
TEST(Kinematic, BaseExcitationHasTheTransmissibilityOfTheBook) {
  const double f = 3, natural = 2, zeta = 0.15, y = 0.01, r = f / natural;
  World world({.gravity = Vec3::Zero()});
  BodyDef shaker;
  shaker.role = Role::kinematic;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, y, f, 0}};
  shaker.motion = motion;
  const BodyId base = world.addBody(shaker);
  const BodyId block = world.addBody(solid(Sphere{0.1}, 2));
  JointDef slide = joint(JointType::slider, base, Vec3::Zero(), block, Vec3::Zero());
  slide.axes[0].frequency = natural, slide.axes[0].dampingRatio = zeta;
  world.addJoint(slide);
  for (int i = 0; i < 900; ++i) world.step();
  // Over six whole cycles the mean square is half the amplitude's.
  double squares = 0;
  for (int i = 0; i < 120; ++i) world.step(), squares += std::pow(world.state(block).pose.position.x(), 2);
  const double most = std::sqrt(2 * squares / 120);
  const double expected =
      y * std::sqrt((1 + std::pow(2 * zeta * r, 2)) / (std::pow(1 - r * r, 2) + std::pow(2 * zeta * r, 2)));
  EXPECT_NEAR(most, expected, 0.01 * expected);
  report("base excitation: transmissibility", std::abs(most / expected - 1) * 100, 1, "%");
}

// A block on a spring and a damper whose foot moves as A cos(w t), both from rest: with z the block's way against the
// foot, z'' + 2 zeta n z' + n^2 z = A w^2 cos(w t), in closed form with its transient.
double worstOnAShakenFoot(double hertz) {
  const double f = 2, n = 2 * kPi * 1.5, zeta = 0.4, amplitude = 0.1, w = 2 * kPi * f;
  const std::complex<double> steady = amplitude * w * w / std::complex<double>(n * n - w * w, 2 * zeta * n * w);
  const double damped = n * std::sqrt(1 - zeta * zeta), c = -steady.real(),
               d = (zeta * n * c + w * steady.imag()) / damped;
  World world({.gravity = Vec3::Zero(), .frame = 1 / hertz});
  BodyDef foot;
  foot.role = Role::kinematic;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, amplitude, f, kPi / 2}};
  foot.motion = motion;
  const BodyId base = world.addBody(foot), block = world.addBody(solid(Sphere{0.1}, 2, {{amplitude, 0, 0}}));
  JointDef slide = joint(JointType::slider, base, Vec3::Zero(), block, Vec3::Zero());
  slide.axes[0].stiffness = 2 * n * n, slide.axes[0].damping = 2 * 2 * zeta * n;
  world.addJoint(slide);
  double worst = 0;
  for (int i = 1; i <= hertz; ++i) {
    world.step();
    const double t = i / hertz;
    const double z = (steady * std::polar(1.0, w * t)).real() +
                     std::exp(-zeta * n * t) * (c * std::cos(damped * t) + d * std::sin(damped * t));
    worst = std::max(worst, std::abs(world.state(block).pose.position.x() - amplitude * std::cos(w * t) - z));
  }
  return worst;
}

TEST(Kinematic, DampersOnAShakenFootAreOfSecondOrder) {
  const double coarse = worstOnAShakenFoot(60), fine = worstOnAShakenFoot(240);
  EXPECT_LT(coarse, 1e-4);  // (w h)^2 of the amplitude
  EXPECT_GT(std::log(coarse / fine) / std::log(4), 1.9);
}

// Never at rest on a table that shakes harder than friction can follow: the velocity goes to and fro at mu g, and turns
// where the table's is the same.
class ShakenTable {
 public:
  static constexpr double kAmplitude = 0.02, kHertz = 5, kFriction = 0.4, kRate = 2 * kPi * kHertz;

  // Of the block, m/s; the times asked for must grow.
  double velocityAt(double time) {
    constexpr double kLook = 1e-5;  // s
    for (; time_ + kLook <= time; time_ += kLook) {
      const double side = speedAt(time_ + kLook / 2) > velocity_ ? 1 : -1;
      velocity_ += side * kFriction * kGravity * kLook;
    }
    return velocity_;
  }

 private:
  static double speedAt(double time) { return kAmplitude * kRate * std::cos(kRate * time); }

  double time_ = 0, velocity_ = 0;
};

// When it turns is foreseen from how the slip fades over the last half step, which is off by w h^2 or so.
TEST(Kinematic, FrictionTurnsRoundOnAShakenTable) {
  using Table = ShakenTable;
  const double h = 1.0 / 480, allowed = 2 * Table::kFriction * kGravity * Table::kRate * h * h;  // m/s
  for (const bool onARail : {false, true}) {
    World world({.gravity = {0, onARail ? 0 : -kGravity, 0}});
    BodyDef table = kinematic(Box{{4, 0.2, 4}}, {{0, -0.1, 0}});
    Motion motion;
    motion.keys = {{0, table.pose}};
    motion.waves = {{Vec3::UnitX(), false, Table::kAmplitude, Table::kHertz, 0}};
    table.motion = motion;
    table.friction = Table::kFriction;
    BodyDef block = tangible(Box{Vec3::Constant(0.2)}, 1, {{0, 0.1, 0}});
    block.friction = Table::kFriction;
    const BodyId base = world.addBody(table), id = world.addBody(block);
    if (onARail) {
      JointDef rail = joint(JointType::slider, base, {0, 0.2, 0}, id, Vec3::Zero());
      rail.axes[0].friction = Table::kFriction * kGravity;
      world.addJoint(rail);
    }
    ShakenTable law;
    double worst = 0;
    for (int i = 1; i <= 30; ++i) {
      world.step();
      worst = std::max(worst, std::abs(world.state(id).velocity.x() - law.velocityAt(i / 60.0)));
    }
    EXPECT_LT(worst, allowed) << (onARail ? "on a rail" : "on a table");
  }
}

// Between two stops of a slide that shakes: straight ahead from one to the other, and back by Newton's law of impact.
class ShakenSlide {
 public:
  static constexpr double kAmplitude = 0.1, kHertz = 2, kPhase = 1, kRange = 0.05, kRestitution = 0.5;

  static double baseAt(double time) { return kAmplitude * std::sin(2 * kPi * kHertz * time + kPhase); }

  // Of the block, m; the times asked for must grow.
  double positionAt(double time) {
    constexpr double kLook = 1e-4;  // s
    for (double now = left_; now < time;) {
      const double ahead = std::min(now + kLook, time);
      if (roomAt(ahead) < 0)
        bounceBetween(now, ahead), now = left_ + kLook / 100;
      else
        now = ahead;
    }
    return position_ + velocity_ * (time - left_);
  }

 private:
  double roomAt(double time) const { return kRange - std::abs(position_ + velocity_ * (time - left_) - baseAt(time)); }
  void bounceBetween(double low, double high) {
    for (int i = 0; i < 60; ++i) {
      const double middle = (low + high) / 2;
      (roomAt(middle) > 0 ? low : high) = middle;
    }
    position_ += velocity_ * (low - left_);
    left_ = low;
    const double rate = 2 * kPi * kHertz, base = kAmplitude * rate * std::cos(rate * low + kPhase);
    velocity_ = base - kRestitution * (velocity_ - base);
  }

  double position_ = baseAt(0), velocity_ = 0, left_ = 0;
};

TEST(Kinematic, StopsThatShakeStrikeAtTheirOwnSpeed) {
  using Slide = ShakenSlide;
  World world({.gravity = Vec3::Zero()});
  BodyDef slide;
  slide.role = Role::kinematic;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, Slide::kAmplitude, Slide::kHertz, Slide::kPhase}};
  slide.motion = motion;
  const BodyId base = world.addBody(slide);
  const BodyId block = world.addBody(solid(Sphere{0.1}, 1, {{Slide::baseAt(0), 0, 0}}));
  JointDef stops = joint(JointType::slider, base, Vec3::Zero(), block, Vec3::Zero());
  stops.axes[0].low = -Slide::kRange, stops.axes[0].high = Slide::kRange;
  stops.axes[0].restitution = Slide::kRestitution;
  world.addJoint(stops);
  ShakenSlide law;
  double worst = 0;
  for (int i = 1; i <= 60; ++i) {
    world.step();
    worst = std::max(worst, std::abs(world.state(block).pose.position.x() - law.positionAt(i / 60.0)));
  }
  EXPECT_LT(worst, 1e-5);  // (w h)^2 / 6 of the amplitude, as a sine differs from a line over a step
}

TEST(Kinematic, FollowsItsKeysExactly) {
  World world;
  Motion motion;
  motion.smooth = false;
  motion.keys = {{0, {{0, 0, 0}}}, {0.5, {{1, 2, 0}, Quat(Eigen::AngleAxisd(1, Vec3::UnitY()))}}, {1, {{0, 2, 0}}}};
  BodyDef def;
  def.role = Role::kinematic;
  def.motion = motion;
  const BodyId id = world.addBody(def);
  for (int i = 0; i < 15; ++i) world.step();
  EXPECT_LT((world.state(id).pose.position - Vec3(0.5, 1, 0)).norm(), 1e-12);
  EXPECT_NEAR(Eigen::AngleAxisd(world.state(id).pose.rotation).angle(), 0.5, 1e-12);
  EXPECT_LT((world.state(id).velocity - Vec3(2, 4, 0)).norm(), 1e-9);
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_LT((world.state(id).pose.position - Vec3(0, 2, 0)).norm(), 1e-12);
  EXPECT_LT(world.state(id).velocity.norm(), 1e-12);
}

// Let go while it moves, a part flies on with that velocity: a throw.
TEST(Role, VelocityIsHandedOver) {
  World world;
  Motion motion;
  motion.keys = {{0, {}}};
  motion.waves = {{Vec3::UnitX(), false, 1, 0.5, 0}};
  BodyDef def = tangible(Sphere{0.1}, 2);
  def.role = Role::kinematic;
  def.motion = motion;
  const BodyId id = world.addBody(def);
  for (int i = 0; i < 30; ++i) world.step();
  const double speed = kPi * std::cos(kPi * 0.5);
  const Vec3 from = world.state(id).pose.position;
  world.setRole(id, Role::dynamic);
  for (int i = 0; i < 30; ++i) world.step();
  EXPECT_NEAR(world.state(id).velocity.x(), speed, 1e-6);
  EXPECT_NEAR(world.state(id).pose.position.y(), from.y() - kGravity / 8, 1e-6);
  world.setRole(id, Role::fixed);
  const Vec3 rests = world.state(id).pose.position;
  for (int i = 0; i < 6; ++i) world.step();
  EXPECT_EQ((world.state(id).pose.position - rests).norm(), 0);
}

TEST(LockedAxes, KeepAPartInItsPlane) {
  World world;
  const BodyId id = world.addBody(solid(Box{{0.5, 0.2, 0.1}}, 2, {{0, 0, 0.3}}));
  world.lockAxes(id, {false, false, true}, {true, true, false});
  world.setVelocity(id, {1, 2, 0}, {0, 0, 5});
  world.addTorque(id, {3, -2, 0.1});
  world.addForce(id, {0, 0, 50}, {0.1, 0, 0.3});
  for (int i = 0; i < 120; ++i) world.step();
  EXPECT_NEAR(world.state(id).pose.position.z(), 0.3, 1e-9);
  EXPECT_NEAR(world.state(id).pose.position.x(), 2, 1e-9);
  EXPECT_LT(world.state(id).angularVelocity.head<2>().norm(), 1e-9);
  const double inertia = 2 * (0.25 + 0.04) / 12;
  EXPECT_NEAR(world.state(id).angularVelocity.z(), 5 + 0.1 / inertia * 2, 1e-6);
}

}  // namespace
}  // namespace calm::physics
