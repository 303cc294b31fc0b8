// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts whose outcome depends on where things are when they touch, not on where the step began.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

BodyDef smooth(BodyDef def, double restitution) {
  def.friction = 0;
  def.restitution = restitution;
  return def;
}

struct Impact {
  double restitution, speed;
};

class ObliqueImpact : public testing::TestWithParam<Impact> {};

// Two smooth balls, the second off the line of flight by half their distance at touch: the impulse acts along the line
// of centres there, 30 degrees off, and is (1 + e) u cos 30 m1 m2 / (m1 + m2).
TEST_P(ObliqueImpact, ActsAlongTheLineOfCentresAtTouch) {
  const auto [e, speed] = GetParam();
  World world({.gravity = Vec3::Zero()});
  BodyDef first = smooth(tangible(Sphere{0.1}, 1), e);
  first.velocity = Vec3(speed, 0, 0);
  const BodyId a = world.addBody(first), b = world.addBody(smooth(tangible(Sphere{0.1}, 3, {{1, 0.1, 0}}), e));
  for (int i = 0; i < 60 * std::max(1.0, 2 / speed); ++i) world.step();
  const Vec3 n(std::sqrt(0.75), 0.5, 0);
  const double impulse = (1 + e) * speed * n.x() / (1 + 1.0 / 3);
  const double error = std::max((world.state(a).velocity - (Vec3(speed, 0, 0) - impulse * n)).norm(),
                                (world.state(b).velocity - impulse / 3 * n).norm()) /
                       speed;
  // What is within 10 um counts as touching: as much over the distance of the centres.
  report("oblique impact, restitution " + std::to_string(e), error, 5e-5, "of the speed");
  EXPECT_LE(error, 5e-5);
}
INSTANTIATE_TEST_SUITE_P(Cases, ObliqueImpact,
                         testing::Values(Impact{1, 2}, Impact{0.5, 2}, Impact{0, 2}, Impact{1, 30}, Impact{1, 0.02}));

// A smooth ball strikes a rod off its centre: the impulse is (1 + e) u / (1/m + 1/M + d^2/I) where the rod is free, and
// (1 + e) u / (1/m + D^2/Iend) where it is hinged at its end.
TEST(Impact, OffTheCentreOfARod) {
  const double e = 0.5, rodMass = 2, length = 1, off = 0.3, speed = 3;
  for (const bool hinged : {false, true}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef rod = smooth(tangible(Box{{length, 0.04, 0.04}}, rodMass), e);
    rod.mass.inertia = Vec3(1e-3, rodMass / 12, rodMass / 12).asDiagonal();
    BodyDef ball = smooth(tangible(Sphere{0.05}, 1, {{off, -0.5, 0}}), e);
    ball.velocity = Vec3(0, speed, 0);
    const BodyId bar = world.addBody(rod);
    world.addBody(ball);
    if (hinged) {
      JointDef hinge = joint(JointType::hinge, kWorld, {-length / 2, 0, 0}, bar, {-length / 2, 0, 0});
      hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
      world.addJoint(hinge);
    }
    for (int i = 0; i < 18; ++i) world.step();
    const double arm = hinged ? off + length / 2 : off,
                 inertia = rodMass * length * length * (hinged ? 1 / 3.0 : 1 / 12.0);
    const double impulse = (1 + e) * speed / (1 + (hinged ? 0 : 1 / rodMass) + arm * arm / inertia);
    EXPECT_NEAR(world.state(bar).angularVelocity.z(), impulse * arm / inertia, 1e-6) << "hinged " << hinged;
  }
}

// A spinning ball dropped on rough ground: friction stops the slip of its lowest point within the impact, since
// mu (1 + e) m v exceeds what that takes, w r / (1/m + r^2/I).
TEST(Impact, SpinTurnsIntoTravel) {
  World world;
  world.addBody(ground(1));
  BodyDef def = tangible(Sphere{0.1}, 1, {{0, 1.1, 0}});
  def.restitution = 1;
  def.friction = 1;
  def.angularVelocity = Vec3(0, 0, 40);
  const BodyId ball = world.addBody(def);
  for (int i = 0; i < 36; ++i) world.step();
  EXPECT_NEAR(world.state(ball).velocity.x(), -40 * 0.1 / (1 + 1 / 0.4), 1e-5);
}

// A weight on a rail falls on the rail's stop, again and again: the bouncing ball of the books, met at the instant of
// touch and not at the next step.
TEST(Impact, BouncesOnAStopAtTheInstantOfTouch) {
  const double e = 0.8, depth = 0.9963;
  World world;
  const BodyId weight = world.addBody(solid(Sphere{0.1}, 1));
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), weight, Vec3::Zero());
  rail.frameA.rotation = rail.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  rail.axes[0].low = -depth, rail.axes[0].restitution = e;
  world.addJoint(rail);
  double touch = std::sqrt(2 * depth / kGravity), speed = 0, worst = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    while (world.time() > touch + (speed > 0 ? 2 * speed / kGravity : 0)) {
      if (speed > 0) touch += 2 * speed / kGravity;
      speed = (speed > 0 ? speed : std::sqrt(2 * kGravity * depth)) * e;
    }
    const double since = world.time() - touch;
    const double at =
        speed > 0 ? -depth + speed * since - kGravity * since * since / 2 : -kGravity * world.time() * world.time() / 2;
    worst = std::max(worst, std::abs(world.state(weight).pose.position.y() - at));
  }
  report("weight bouncing on a stop, path over 2 s", worst * 1e3, 1, "mm");
  EXPECT_LE(worst, 1e-3);
}

// What lies on the end of a cylinder far from its axis lies there, however flat the cylinder is.
TEST(Cylinder, CarriesOnItsEndOutToTheRim) {
  for (const double x : {0.0, 0.5, 1.8}) {
    World world;
    BodyDef table = tangible(Cylinder{2, 0.1}, 1, {{0, -0.05, 0}});
    table.role = Role::fixed;
    world.addBody(table);
    const BodyId box = world.addBody(tangible(Box{{0.2, 0.05, 0.2}}, 1, {{x, 0.025, 0}}));
    for (int i = 0; i < 60; ++i) world.step();
    EXPECT_LT((world.state(box).pose.position - Vec3(x, 0.025, 0)).norm(), 1e-5) << "at " << x;
  }
}

// A box stands on a table that turns freely: nothing turns the two about the axle.
TEST(Turntable, KeepsItsAngularMomentumWithABoxOnIt) {
  constexpr double out = 0.5, rate = 4;
  World world;
  const Shape plate = Box{{2, 0.2, 2}}, cube = Box{Vec3::Constant(0.2)};
  BodyDef def = tangible(plate, 5, {{0, -0.1, 0}});
  def.friction = 1, def.angularVelocity = {0, rate, 0};
  const BodyId table = world.addBody(def);
  def = tangible(cube, 1, {{out, 0.1, 0}});
  def.friction = 1, def.velocity = {0, 0, -rate * out}, def.angularVelocity = {0, rate, 0};
  const BodyId box = world.addBody(def);
  JointDef axle = joint(JointType::hinge, kWorld, Vec3::Zero(), table, {0, 0.1, 0});
  axle.frameA.rotation = axle.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  world.addJoint(axle);
  const auto momentum = [&] {
    const BodyState a = world.state(table), b = world.state(box);
    return massPropertiesOf(plate, 5).inertia(1, 1) * a.angularVelocity.y() +
           massPropertiesOf(cube, 1).inertia(1, 1) * b.angularVelocity.y() + b.pose.position.cross(b.velocity).y();
  };
  const double start = momentum();
  for (int i = 0; i < 600; ++i) world.step();
  EXPECT_NEAR(momentum() / start, 1, 1e-9);
  EXPECT_NEAR(world.state(table).angularVelocity.y(), rate, 1e-4 * rate);
  report("free turntable with a box, momentum lost in 10 s", 100 * std::abs(momentum() / start - 1), 1e-7, "%");
}

// On a turntable friction holds what w^2 r asks of it below mu g, and no more; what is held goes round without creeping
// outwards.
TEST(Turntable, HoldsUpToItsFriction) {
  for (const double w : {2.9, 3.3}) {
    World world;
    BodyDef table = tangible(Cylinder{2, 0.1}, 1, {{0, -0.05, 0}});
    table.role = Role::kinematic;
    table.angularVelocity = Vec3(0, w, 0);
    world.addBody(table);
    BodyDef load = tangible(Box{{0.05, 0.05, 0.05}}, 1, {{0.5, 0.025, 0}});
    load.angularVelocity = Vec3(0, w, 0);
    load.velocity = Vec3(0, 0, -0.5 * w);
    const BodyId box = world.addBody(load);
    for (int i = 0; i < 180; ++i) world.step();
    const Vec3 at = world.state(box).pose.position;
    const double radius = std::hypot(at.x(), at.z());
    if (w * w * 0.5 > 0.5 * kGravity) {
      EXPECT_GT(radius, 0.6);
      continue;
    }
    report("creep on a turntable, 3 s", std::abs(radius - 0.5) * 1e3, 0.1, "mm");
    EXPECT_NEAR(radius, 0.5, 1e-4);
  }
}

}  // namespace
}  // namespace calm::physics
