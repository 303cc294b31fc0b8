// SPDX-License-Identifier: GPL-3.0-or-later
// Mechanisms against their closed forms: ropes over pulleys, winches, gears, racks, screws, wheels, limbs.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A frame whose x axis is `axis`.
Quat alongX(const Vec3& axis) {
  return turnBetween(Vec3::UnitX(), axis);
}

// Joins b to a with both frames at this world pose.
JointDef joined(const World& world, JointType type, BodyId a, BodyId b, const Pose& frame) {
  JointDef def;
  def.type = type;
  def.a = a;
  def.b = b;
  def.frameA = world.state(a).pose.inverse() * frame;
  def.frameB = world.state(b).pose.inverse() * frame;
  return def;
}

void run(World& world, double seconds) {
  const long frames = std::lround(seconds / world.settings().frame);
  for (long i = 0; i < frames; ++i) world.step();
}

struct Ropes {
  World world;
  BodyId a, b;
  JointId rope;
};

// Two weights on a rope over two points of the ceiling.
Ropes overPulleys(double massA, double massB, JointType type, const AxisDef& axis, double ratio = 1) {
  Ropes r;
  r.a = r.world.addBody(solid(Sphere{0.1}, massA, {{0, -2, 0}}));
  r.b = r.world.addBody(solid(Sphere{0.1}, massB, {{1, -2, 0}}));
  JointDef rope = joint(type, r.a, Vec3::Zero(), r.b, Vec3::Zero());
  rope.form.route = {{RouteOn::world, {0, 0, 0}}, {RouteOn::world, {1, 0, 0}}};
  rope.form.ratio = ratio;
  rope.axes[0] = axis;
  r.rope = r.world.addJoint(rope);
  return r;
}

// A weight on one side of a fixed pulley, a pulley with two weights of its own on the other: each rope's law and each
// weight's balance, solved together.
TEST(Pulley, DoubleAtwoodMachine) {
  const double m1 = 4, mp = 0.5, m2 = 1, m3 = 2;
  World world;
  const auto weight = [&](double mass, const Vec3& at) {
    const BodyId id = world.addBody(solid(Sphere{0.05}, mass, {at}));
    world.lockAxes(id, {true, false, true}, {true, true, true});
    return id;
  };
  const BodyId one = weight(m1, {-1, -2, 0}), pulley = weight(mp, {1, -1, 0}), two = weight(m2, {0.8, -2, 0}),
               three = weight(m3, {1.2, -2, 0});
  JointDef upper = joint(JointType::pulley, one, Vec3::Zero(), pulley, Vec3::Zero());
  upper.form.route = {{RouteOn::world, {-1, 5, 0}}, {RouteOn::world, {1, 5, 0}}};
  world.addJoint(upper);
  JointDef lower = joint(JointType::pulley, two, Vec3::Zero(), three, Vec3::Zero());
  lower.form.route = {{RouteOn::part, {-0.2, 0, 0}, pulley}, {RouteOn::part, {0.2, 0, 0}, pulley}};
  const JointId rope = world.addJoint(lower);
  run(world, 0.5);
  // Unknowns: accelerations of the weight, the pulley and its two weights, and the two tensions.
  Eigen::Matrix<double, 6, 6> law;
  law << m1, 0, 0, 0, -1, 0, 1, 1, 0, 0, 0, 0, 0, 0, m2, 0, 0, -1, 0, 0, 0, m3, 0, -1, 0, -2, 1, 1, 0, 0, 0, mp, 0, 0,
      -1, 2;
  Eigen::Matrix<double, 6, 1> side;
  side << -m1 * kGravity, 0, -m2 * kGravity, -m3 * kGravity, 0, -mp * kGravity;
  const Eigen::Matrix<double, 6, 1> a = law.fullPivLu().solve(side);
  const BodyId ids[] = {one, pulley, two, three};
  for (int i = 0; i < 4; ++i) EXPECT_NEAR(world.state(ids[i]).velocity.y(), a[i] * 0.5, 1e-9) << i;
  EXPECT_NEAR(-world.reading(rope).effort[0], a[5], 1e-7);
  report("double Atwood machine: tension", std::abs(world.reading(rope).effort[0] + a[5]), 1e-7, "N");
}

// A rope threaded through a ring that hangs in it, pulled at by both its stretches: the ring comes to where both make
// the same angle with the vertical, and the parts balance.
TEST(Pulley, RingOnARopeHangsWhereBothStretchesLeanAlike) {
  World world;
  BodyDef def = solid(Sphere{0.05}, 3, {{0.3, -1, 0}});
  def.linearDamping = 3;
  const BodyId ring = world.addBody(def);
  const BodyId end = world.addBody(solid(Sphere{0.05}, 1, {{2, 0, 0}}));
  JointDef fix = joint(JointType::ball, kWorld, {2, 0, 0}, end, Vec3::Zero());
  const JointId held = world.addJoint(fix);
  JointDef rope = joint(JointType::pulley, kWorld, Vec3::Zero(), end, Vec3::Zero());
  rope.form.route = {{RouteOn::part, Vec3::Zero(), ring}};
  const JointId id = world.addJoint(rope);
  run(world, 20);
  const Vec3 at = world.state(ring).pose.position;
  EXPECT_NEAR(at.x(), 1, 1e-4);
  const double tension = -world.reading(id).effort[0];
  EXPECT_NEAR(2 * tension * -at.y() / std::hypot(1, at.y()), 3 * kGravity, 1e-3);
  EXPECT_NEAR(
      world.reading(held).force.norm(),
      (Vec3(tension / std::hypot(1, at.y()), kGravity, 0) + Vec3(0, tension * -at.y() / std::hypot(1, at.y()), 0))
          .norm(),
      1e-3);
}

// A rope that zigzags over nine blocks, each held by a joint of its own, to a weight: everywhere it pulls with the
// weight, and a block's joint carries what its two stretches leave over and the block weighs.
TEST(Pulley, RopeOverManyBlocksPullsAtEachWithItsTension) {
  const int blocks = 9;
  const double load = 5, weight = 2;
  World world;
  std::vector<Vec3> corners{Vec3(0, 0, 0)};
  JointDef rope;
  std::vector<JointId> holders;
  for (int i = 0; i < blocks; ++i) {
    corners.push_back(Vec3(i + 1, i % 2 == 0 ? -1 : 1, 0));
    const BodyId block = world.addBody(solid(Sphere{0.1}, weight, {corners.back()}));
    holders.push_back(world.addJoint(joint(JointType::fixed, kWorld, corners.back(), block, Vec3::Zero())));
    rope.form.route.push_back({RouteOn::part, Vec3::Zero(), block});
  }
  corners.push_back(corners.back() - Vec3(0, 3, 0));
  const BodyId end = world.addBody(solid(Sphere{0.1}, load, {corners.back()}));
  rope.type = JointType::pulley;
  rope.b = end;
  const JointId id = world.addJoint(rope);
  run(world, 1);
  const double tension = -world.reading(id).effort[0];
  EXPECT_NEAR(tension, load * kGravity, 1e-6);
  EXPECT_LE((world.state(end).pose.position - corners.back()).norm(), 1e-6);
  for (int i = 0; i < blocks; ++i) {
    const Vec3 &at = corners[i + 1], &before = corners[i], &after = corners[i + 2];
    const Vec3 pull = tension * ((before - at).normalized() + (after - at).normalized());
    EXPECT_LE((world.reading(holders[i]).force + pull - Vec3(0, weight * kGravity, 0)).norm(), 1e-6) << "block " << i;
  }
}

// Atwood 1784: a = g (m2 - m1) / (m1 + m2), tension 2 m1 m2 g / (m1 + m2).
TEST(Pulley, AtwoodMachine) {
  Ropes r = overPulleys(2, 3, JointType::pulley, {});
  run(r.world, 0.5);
  const double a = kGravity / 5, tension = 2 * 2 * 3 * kGravity / 5;
  EXPECT_NEAR(r.world.state(r.a).velocity.y(), a * 0.5, 1e-9);
  EXPECT_NEAR(r.world.state(r.a).pose.position.y(), -2 + a * 0.125, 1e-9);
  EXPECT_NEAR(r.world.reading(r.rope).effort[0], -tension, 1e-7);
  report("Atwood machine: tension", std::abs(r.world.reading(r.rope).effort[0] + tension), 1e-7, "N");
}

// The heavier mass falls on the floor, the lighter one flies on, comes back and jerks it up: m2 v / (m1 + m2). All of
// it happens within substeps, and is as exact as these see an instant.
TEST(Pulley, AtwoodMachineStrikesTheFloorAndIsJerkedUp) {
  constexpr double kFall = 1, kSeen = 1e-3;  // m, m/s
  World world;
  world.addBody(ground());
  const BodyId heavy = world.addBody(tangible(Sphere{0.1}, 3, {{-0.5, 0.1 + kFall, 0}}));
  const BodyId light = world.addBody(tangible(Sphere{0.1}, 2, {{0.5, 0.3, 0}}));
  JointDef rope = joint(JointType::pulley, heavy, Vec3::Zero(), light, Vec3::Zero());
  rope.form.route = {{RouteOn::world, {-0.5, 4, 0}}, {RouteOn::world, {0.5, 4, 0}}};
  world.addJoint(rope);
  const double a = kGravity / 5, v = std::sqrt(2 * a * kFall), strikes = v / a, jerks = strikes + 2 * v / kGravity;
  double worst = 0;
  for (int frame = 1; frame < 100; ++frame) {
    world.step();
    const double t = frame / 60.0, after = 0.4 * v - a * (t - jerks);
    const double ofLight = t < strikes ? a * t : t < jerks ? v - kGravity * (t - strikes) : -after;
    const double ofHeavy = t < strikes ? -a * t : t < jerks ? 0 : after;
    worst = std::max({worst, std::abs(world.state(light).velocity.y() - ofLight),
                      std::abs(world.state(heavy).velocity.y() - ofHeavy)});
  }
  EXPECT_LT(worst, kSeen);
  report("Atwood machine that strikes the floor and is jerked up: speeds", worst, kSeen, "m/s");
}

// A movable pulley: the load counts twice on the rope. a of the load = g (mb - 2 ma) / (mb + 4 ma).
TEST(Pulley, MovableOneCountsTwice) {
  Ropes r = overPulleys(1, 3, JointType::pulley, {}, 2);
  run(r.world, 0.5);
  EXPECT_NEAR(r.world.state(r.b).velocity.y(), -kGravity * (3 - 2) / (3 + 4) * 0.5, 1e-9);
}

// Three strands by a route that runs over the load: a third of its weight balances it.
TEST(Pulley, RouteOverThePartMakesATackle) {
  World world;
  const BodyId a = world.addBody(solid(Sphere{0.1}, 2, {{0, -1, 0}}));
  const BodyId b = world.addBody(solid(Sphere{0.1}, 6, {{1, -2, 0}}));
  JointDef rope = joint(JointType::pulley, a, Vec3::Zero(), b, Vec3::Zero());
  rope.form.route = {
      {RouteOn::world, {0, 0, 0}}, {RouteOn::world, {1, 0, 0}}, {RouteOn::b, {0, 0, 0}}, {RouteOn::world, {1, 0, 0}}};
  const JointId id = world.addJoint(rope);
  run(world, 2);
  EXPECT_LT(world.state(b).velocity.norm(), 1e-9);
  EXPECT_NEAR(world.reading(id).effort[0], -2 * kGravity, 1e-7);
}

TEST(Pulley, SlackRopeDoesNotPush) {
  Ropes r = overPulleys(2, 2, JointType::pulley, {});
  r.world.setVelocity(r.a, {0, 3, 0}, Vec3::Zero());
  r.world.setVelocity(r.b, {0, 3, 0}, Vec3::Zero());
  run(r.world, 0.2);
  EXPECT_NEAR(r.world.state(r.b).velocity.y(), 3 - kGravity * 0.2, 1e-9);
}

// A load on one end, the other held by the world.
struct Hoist {
  World world;
  BodyId load;
  JointId winch;
};
Hoist hoist(double mass, double speed, double cap) {
  Hoist h;
  h.load = h.world.addBody(solid(Box{Vec3::Constant(0.2)}, mass, {{1, -3, 0}}));
  JointDef def = joint(JointType::winch, kWorld, Vec3(0, 0, 0), h.load, Vec3::Zero());
  def.form.route = {{RouteOn::world, {1, 0, 0}}};
  def.axes[0].speed = speed;
  def.axes[0].cap = cap;
  h.winch = h.world.addJoint(def);
  return h;
}

TEST(Winch, LiftsAtItsSpeedAndCarriesTheWeight) {
  Hoist h = hoist(40, -0.5, 1000);
  run(h.world, 3);
  // While it gathers speed under the cap, the rope slips by v^2 / 2a.
  const double slip = 0.25 / (2 * (1000 / 40.0 - kGravity));
  EXPECT_NEAR(h.world.state(h.load).pose.position.y(), -3 + 1.5 - slip, 1e-4);
  EXPECT_NEAR(h.world.state(h.load).velocity.y(), 0.5, 1e-6);
  EXPECT_NEAR(h.world.reading(h.winch).effort[0], -40 * kGravity, 1e-3);
  EXPECT_NEAR(h.world.reading(h.winch).work[0], 40 * kGravity * (1.5 - slip) + 0.5 * 40 * 0.25, 0.2);
}

TEST(Winch, LowersNoFasterThanItGivesOut) {
  Hoist h = hoist(40, 0.25, 1000);
  run(h.world, 2);
  // It falls until it meets the rope at twice its speed, and slips by v^2 / 2a while the cap brakes it.
  EXPECT_LT(h.world.state(h.load).pose.position.y(), -3.5 + 1e-6);
  EXPECT_GT(h.world.state(h.load).pose.position.y(), -3.5 - 0.0625 / (2 * (1000 / 40.0 - kGravity)));
  EXPECT_NEAR(h.world.reading(h.winch).effort[0], -40 * kGravity, 1e-3);
}

TEST(Winch, SlipsUnderItsCap) {
  Hoist h = hoist(40, -0.5, 200);
  run(h.world, 0.5);
  EXPECT_NEAR(h.world.state(h.load).velocity.y(), -(kGravity - 200 / 40.0) * 0.5, 1e-6);
  EXPECT_TRUE(h.world.reading(h.winch).activity[0] & kMotorAtCap);
}

TEST(Winch, TakesInNoFurtherThanItsShortest) {
  Hoist h = hoist(40, -0.5, 0);
  AxisDef axis = h.world.joint(h.winch).axes[0];
  axis.low = 3.5;  // of 4 m
  h.world.setAxis(h.winch, 0, axis);
  run(h.world, 2);
  EXPECT_NEAR(h.world.state(h.load).pose.position.y(), -2.5, 1e-9);
  EXPECT_NEAR(h.world.state(h.load).velocity.y(), 0, 1e-9);
  EXPECT_NEAR(h.world.reading(h.winch).effort[0], -40 * kGravity, 1e-6);
  axis = h.world.joint(h.winch).axes[0];
  axis.speed = 0.25;
  h.world.setAxis(h.winch, 0, axis);
  run(h.world, 1);
  EXPECT_NEAR(h.world.state(h.load).pose.position.y(), -2.75, 1e-9) << "and out again";
}

TEST(Winch, SaysWhatItsRopeCannotBe) {
  Hoist h = hoist(40, 0, 0);
  for (double AxisDef::*number : {&AxisDef::friction, &AxisDef::stopStiffness, &AxisDef::restitution}) {
    AxisDef axis = h.world.joint(h.winch).axes[0];
    axis.*number = 0.5;
    EXPECT_THROW(h.world.setAxis(h.winch, 0, axis), WorldError);
  }
}

struct Wheels {
  World world;
  BodyId a, b;
  JointId mesh;
};

Wheels spurGears(double ratio) {
  Wheels w{World({.gravity = Vec3::Zero()}), 0, 0, 0};
  w.a = w.world.addBody(
      solid(Cylinder{0.1, 0.02}, 2, {{0, 0, 0}, alongX(Vec3::UnitZ()) * alongX(Vec3::UnitY()).conjugate()}));
  w.b = w.world.addBody(
      solid(Cylinder{0.2, 0.02}, 5, {{0.3, 0, 0}, alongX(Vec3::UnitZ()) * alongX(Vec3::UnitY()).conjugate()}));
  for (const BodyId id : {w.a, w.b})
    w.world.addJoint(
        joined(w.world, JointType::hinge, kWorld, id, {w.world.state(id).pose.position, alongX(Vec3::UnitZ())}));
  JointDef mesh = joined(w.world, JointType::gear, w.a, w.b, {Vec3::Zero(), alongX(Vec3::UnitZ())});
  mesh.frameA.position = mesh.frameB.position = Vec3::Zero();
  mesh.form.ratio = ratio;
  w.mesh = w.world.addJoint(mesh);
  return w;
}

// Torque T on one wheel: angular acceleration T / (Ia + ratio^2 Ib).
TEST(Gear, SharesInertiaByTheSquareOfTheRatio) {
  Wheels w = spurGears(-0.5);
  w.world.addTorque(w.a, {0, 0, 1.5});
  run(w.world, 2);
  const double ia = 0.5 * 2 * 0.01, ib = 0.5 * 5 * 0.04, alpha = 1.5 / (ia + 0.25 * ib);
  EXPECT_NEAR(w.world.state(w.a).angularVelocity.z(), alpha * 2, 1e-6 * alpha);
  EXPECT_NEAR(w.world.state(w.b).angularVelocity.z(), -alpha, 1e-6 * alpha);
  EXPECT_LT(std::abs(w.world.reading(w.mesh).position[0]), 1e-7);
}

// A planet on a turning arm round a fixed sun: it turns (1 + Ns/Np) times for each turn of the arm.
TEST(Gear, PlanetRollsRoundASunThatStands) {
  World world({.gravity = Vec3::Zero()});
  const Quat upright = alongX(Vec3::UnitZ());
  const BodyId arm = world.addBody(solid(Box{{0.3, 0.02, 0.02}}, 1, {{0.15, 0, 0}}));
  const BodyId planet = world.addBody(solid(Sphere{0.1}, 1, {{0.3, 0, 0}}));
  world.addJoint(joined(world, JointType::hinge, kWorld, arm, {Vec3::Zero(), upright}));
  world.addJoint(joined(world, JointType::hinge, arm, planet, {{0.3, 0, 0}, upright}));
  JointDef mesh;
  mesh.type = JointType::gear;
  mesh.b = planet;
  mesh.frameA.rotation = upright;
  mesh.frameB.rotation = upright;
  mesh.form.ratio = -2;  // sun of 40 teeth, planet of 20
  world.addJoint(mesh);
  const double rate = 2;
  world.setVelocity(arm, rate * Vec3::UnitZ().cross(Vec3(0.15, 0, 0)), {0, 0, rate});
  world.setVelocity(planet, rate * Vec3::UnitZ().cross(Vec3(0.3, 0, 0)), {0, 0, 3 * rate});
  run(world, 10);
  const double now = world.state(arm).angularVelocity.z();
  EXPECT_NEAR(now, rate, 1e-9);
  EXPECT_NEAR(world.state(planet).angularVelocity.z(), 3 * now, 1e-9);
}

TEST(Gear, BevelTurnsAboutCrossedAxles) {
  World world({.gravity = Vec3::Zero()});
  const BodyId a = world.addBody(solid(Sphere{0.1}, 1, {{0, 0, 0}}));
  const BodyId b = world.addBody(solid(Sphere{0.1}, 2, {{0.2, 0, 0.2}}));
  world.addJoint(joined(world, JointType::hinge, kWorld, a, {Vec3::Zero(), alongX(Vec3::UnitX())}));
  world.addJoint(joined(world, JointType::hinge, kWorld, b, {{0.2, 0, 0.2}, alongX(Vec3::UnitZ())}));
  JointDef mesh;
  mesh.type = JointType::gear;
  mesh.a = a, mesh.b = b;
  mesh.frameB.rotation = alongX(Vec3::UnitZ());
  mesh.form.ratio = 1.5;
  world.addJoint(mesh);
  world.addTorque(a, {0.1, 0, 0});
  run(world, 2);
  const double i = 0.4 * 0.01, alpha = 0.1 / (i + 2.25 * 2 * i);
  // Second order in the substep: the hinges' side moments over the inertias, times h^2.
  const double error = 0.1 / i / 480 / 480;
  EXPECT_NEAR(world.state(a).angularVelocity.x(), 2 * alpha, error);
  EXPECT_NEAR(world.state(b).angularVelocity.z(), 3 * alpha, error);
}

// Rack: x'' = T r / (I + m r^2).
TEST(Rack, FollowsThePinion) {
  World world({.gravity = Vec3::Zero()});
  const BodyId pinion = world.addBody(solid(Sphere{0.1}, 3));
  const BodyId bar = world.addBody(solid(Box{{1, 0.02, 0.02}}, 4, {{0, -0.05, 0}}));
  world.addJoint(joined(world, JointType::hinge, kWorld, pinion, {Vec3::Zero(), alongX(Vec3::UnitZ())}));
  world.addJoint(joined(world, JointType::slider, kWorld, bar, {{0, -0.05, 0}, Quat::Identity()}));
  JointDef mesh;
  mesh.type = JointType::rack;
  mesh.a = pinion, mesh.b = bar;
  mesh.frameA.rotation = alongX(Vec3::UnitZ());
  mesh.form.radius = 0.05;
  world.addJoint(mesh);
  world.addTorque(pinion, {0, 0, 0.2});
  run(world, 2);
  const double i = 0.4 * 3 * 0.01, a = 0.2 * 0.05 / (i + 4 * 0.0025);
  EXPECT_NEAR(world.state(bar).velocity.x(), 2 * a, 1e-6);
  EXPECT_NEAR(world.state(bar).pose.position.x(), 2 * a, 1e-6);
}

// A nut that its weight drives down an upright screw without friction: a = g / (1 + I (2 pi / lead)^2 / m).
TEST(Screw, NutSpinsDown) {
  World world;
  const BodyId nut = world.addBody(solid(Sphere{0.1}, 2));
  JointDef screw = joined(world, JointType::screw, kWorld, nut, {Vec3::Zero(), alongX(Vec3::UnitY())});
  screw.form.lead = 0.2;
  const JointId id = world.addJoint(screw);
  run(world, 1);
  const double i = 0.4 * 2 * 0.01, a = kGravity / (1 + i * std::pow(2 * kPi / 0.2, 2) / 2);
  EXPECT_NEAR(world.state(nut).velocity.y(), -a, 1e-8);
  EXPECT_NEAR(world.state(nut).pose.position.y(), -a / 2, 1e-8);
  EXPECT_NEAR(world.reading(id).position[2], -a / 2 * 2 * kPi / 0.2, 1e-6);  // beyond a turn
}

// A spring of k under a mass: settles m g / k lower; its axle still steers and spins.
TEST(Wheel, SuspensionCarriesAndAxleSpins) {
  World world;
  const BodyId body = world.addBody(solid(Box{{1, 0.2, 1}}, 50, {{0, 1, 0}}));
  const BodyId wheel = world.addBody(solid(Sphere{0.3}, 10, {{0, 0.5, 0}}));
  world.addJoint(joint(JointType::fixed, kWorld, {0, 1, 0}, body, Vec3::Zero()));
  JointDef def = joined(world, JointType::wheel, body, wheel, {{0, 0.5, 0}, Quat::Identity()});
  def.axes[0].stiffness = 4000, def.axes[0].damping = 300;
  def.axes[2].speed = 12, def.axes[2].cap = 5;
  const JointId id = world.addJoint(def);
  run(world, 1);
  const double spinUp = 5 / (0.4 * 10 * 0.09);
  EXPECT_NEAR(world.reading(id).rate[2], std::min(12.0, spinUp), 1e-6);
  run(world, 5);
  EXPECT_NEAR(world.reading(id).position[0], -10 * kGravity / 4000, 1e-6);
  EXPECT_NEAR(world.reading(id).rate[2], 12, 1e-9);
  EXPECT_NEAR(world.reading(id).position[2], 12 * 6 - 12 * 12 / spinUp / 2, 0.02);
  EXPECT_NEAR(world.reading(id).position[1], 0, 1e-9);  // steering is locked unless asked for
}

// A rod on a limb joint to the ceiling leans until its cone stops it; there the joint carries m g l sin(lean).
TEST(Limb, ConeHoldsAtItsRimInEveryDirection) {
  for (const double direction : {0.0, 0.7, kPi / 2}) {
    const Vec3 pull(std::cos(direction), 0, std::sin(direction));
    World world({.gravity = 9.81 * pull});
    const BodyId rod = world.addBody([] {
      BodyDef def = solid(Cylinder{0.02, 1}, 3, {{0, -0.5, 0}});
      def.angularDamping = 4;
      return def;
    }());
    // The limb's x axis points down the rod, y along the world's x.
    Mat3 axes;
    axes << Vec3(0, -1, 0), Vec3(1, 0, 0), Vec3(0, -1, 0).cross(Vec3(1, 0, 0));
    JointDef def = joined(world, JointType::limb, kWorld, rod, {Vec3::Zero(), Quat(axes)});
    def.form.coneY = 0.5, def.form.coneZ = 0.9;
    const JointId id = world.addJoint(def);
    double beyond = -1;
    for (int i = 0; i < 600; ++i) {
      world.step();
      beyond = std::max(beyond, world.reading(id).position[3]);
    }
    EXPECT_LT(beyond, 1e-6) << "direction " << direction;
    EXPECT_NEAR(world.reading(id).position[3], 0, 1e-5) << "direction " << direction;
    const double y = world.reading(id).position[1] / 0.5, z = world.reading(id).position[2] / 0.9;
    EXPECT_NEAR(y * y + z * z, 1, 1e-4) << "direction " << direction;
  }
}

TEST(Limb, TwistIsLimitedWhileItSwings) {
  World world;
  const BodyId rod = world.addBody(solid(Cylinder{0.05, 1}, 3, {{0, -0.5, 0}}));
  Mat3 axes;
  axes << Vec3(0, -1, 0), Vec3(1, 0, 0), Vec3(0, 0, 1);
  JointDef def = joined(world, JointType::limb, kWorld, rod, {Vec3::Zero(), Quat(axes)});
  def.axes[0].low = -0.4, def.axes[0].high = 0.3;
  const JointId id = world.addJoint(def);
  world.setVelocity(rod, {0.5, 0, 0.3}, Vec3(0, 0, 0.5).cross(Vec3::Zero()) + Vec3(0.6, 2, -1));
  double most = -9, least = 9;
  for (int i = 0; i < 600; ++i) {
    world.step();
    most = std::max(most, world.reading(id).position[0]), least = std::min(least, world.reading(id).position[0]);
  }
  EXPECT_LE(most, 0.3 + 1e-6);
  EXPECT_GE(least, -0.4 - 1e-6);
  EXPECT_GT(most - least, 0.1);
}

// Locked in all six it is a weld, and says what it carries.
TEST(SixAxis, LockedItIsAWeld) {
  World world;
  const BodyId beam = world.addBody(solid(Box{{1, 0.1, 0.1}}, 8, {{0.5, 0, 0}}));
  JointDef def = joined(world, JointType::sixAxis, kWorld, beam, {});
  for (AxisDef& axis : def.axes) axis.low = axis.high = 0;
  const JointId id = world.addJoint(def);
  run(world, 2);
  EXPECT_LT((world.state(beam).pose.position - Vec3(0.5, 0, 0)).norm(), 1e-9);
  EXPECT_NEAR(world.reading(id).force.y(), 8 * kGravity, 1e-6);
  EXPECT_NEAR(world.reading(id).torque.z(), 8 * kGravity * 0.5, 1e-6);
}

// Six springs: the free oscillation of each axis has sqrt(k/m)/2 pi.
TEST(SixAxis, SpringOnEveryAxisKeepsItsFrequency) {
  for (int k = 0; k < 6; ++k) {
    World world({.gravity = Vec3::Zero()});
    const BodyId ball = world.addBody(solid(Sphere{0.5}, 2));
    JointDef def = joined(world, JointType::sixAxis, kWorld, ball, {});
    for (AxisDef& axis : def.axes) axis.low = axis.high = 0;
    def.axes[k] = {};
    def.axes[k].frequency = 2;
    const JointId id = world.addJoint(def);
    const Vec3 kick = Vec3::Unit(k % 3);
    world.setVelocity(ball, k < 3 ? kick : Vec3(0, 0, 0), k < 3 ? Vec3(0, 0, 0) : kick);
    int crossings = 0;
    double last = 1e-9, at = 0;
    for (int i = 0; i < 300; ++i) {
      world.step();
      const double x = world.reading(id).position[k];
      if (last < 0 && x >= 0) ++crossings, at = world.time() - world.settings().frame * x / (x - last);
      last = x;
    }
    EXPECT_NEAR(crossings / at, 2, 0.002) << "axis " << k;
  }
}

}  // namespace
}  // namespace calm::physics
