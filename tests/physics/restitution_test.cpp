// SPDX-License-Identifier: GPL-3.0-or-later
// What bounces keeps or loses what its restitution says, whatever the instant, the place and the joints of the touch.
#include <gtest/gtest.h>

#include <random>

#include "engine/shape/hull.h"
#include "physics/rigs.h"

namespace calm::physics {
namespace {

BodyDef bouncing(BodyDef def, double restitution, double friction = 0) {
  def.restitution = restitution;
  def.friction = friction;
  return def;
}

Quat about(double angle) {
  return Quat(Eigen::AngleAxisd(angle, Vec3::UnitZ()));
}

// Two rods on a hinge, which is 1 m above the ground; each hangs from it at its angle to the vertical.
void addRods(World& world, double angleA, double angleB, double restitution, double friction) {
  const auto rod = [&](double angle) {
    const Vec3 along(std::sin(angle), -std::cos(angle), 0);
    return world.addBody(
        bouncing(tangible(Capsule{0.02, 0.5}, 1, {Vec3(0, 1, 0) + 0.25 * along, about(angle)}), restitution, friction));
  };
  const BodyId a = rod(angleA), b = rod(angleB);
  JointDef hinge = joint(JointType::hinge, a, {0, 0.25, 0}, b, {0, 0.25, 0});
  const Quat across = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  hinge.frameA.rotation = about(-angleA) * across;
  hinge.frameB.rotation = about(-angleB) * across;
  world.addJoint(hinge);
}

enum class Thing { box, capsule, cylinder, rods };
std::ostream& operator<<(std::ostream& out, Thing thing) {
  constexpr const char* kNames[] = {"box", "capsule", "cylinder", "rods"};
  return out << kNames[static_cast<int>(thing)];
}

class Thrown : public testing::TestWithParam<Thing> {
 protected:
  // One of them, thrown at random.
  void throwInto(World& world, double restitution, double friction) {
    const auto random = [this] { return std::uniform_real_distribution<>(-1, 1)(random_); };
    if (GetParam() == Thing::rods)
      return addRods(world, -1.6 + 0.3 * random(), 1.4 + 0.4 * random(), restitution, friction);
    const Pose pose = {{0, 0.75 + 0.15 * random(), 0}, Quat(random(), random(), random(), random()).normalized()};
    const Shape shapes[] = {Box{{0.4, 0.1, 0.2}}, Capsule{0.05, 0.4}, Cylinder{0.1, 0.3}};
    BodyDef def = bouncing(tangible(shapes[static_cast<int>(GetParam())], 1, pose), restitution, friction);
    def.angularVelocity = 8 * Vec3(random(), random(), random());
    def.velocity = 2 * Vec3(random(), random(), random());
    world.addBody(def);
  }

 private:
  std::mt19937 random_{7};
};

// Without friction and with a restitution of one, an impact has nothing that could take energy.
TEST_P(Thrown, KeepsItsEnergyWithoutFriction) {
  constexpr int kThrows = 100;
  constexpr double kNeeded = 0.01;
  double worst = 0;
  for (int i = 0; i < kThrows; ++i) {
    World world;
    world.addBody(bouncing(ground(), 1));
    throwInto(world, 1, 0);
    const double before = world.energy().total();
    for (int frame = 0; frame < 60; ++frame) world.step();
    worst = std::max(worst, std::abs(world.energy().total() / before - 1));
  }
  report("thrown and bouncing for 1 s, worst change of energy of 100", 100 * worst, 100 * kNeeded, "%");
  EXPECT_LE(worst, kNeeded);
}

// With friction Newton's law of restitution may bring energy (Kane and Levinson, "Dynamics: theory and applications",
// 1985): never here.
TEST_P(Thrown, NeverGainsWithFriction) {
  constexpr int kThrows = 30;
  constexpr double kNeeded = 2e-3;
  double worst = 0;
  for (const double restitution : {1.0, 0.6, 0.0})
    for (const double friction : {0.3, 1.0})
      for (int i = 0; i < kThrows; ++i) {
        World world;
        world.addBody(bouncing(ground(), restitution, friction));
        throwInto(world, restitution, friction);
        const double all = world.energy().total();
        double last = all;
        for (int frame = 0; frame < 90; ++frame) {
          world.step();
          const double now = world.energy().total();
          worst = std::max(worst, (now - last) / all);
          last = now;
        }
      }
  report("thrown and rubbing, largest gain of energy in a frame", 100 * worst, 100 * kNeeded, "%");
  EXPECT_LE(worst, kNeeded);
}
INSTANTIATE_TEST_SUITE_P(Things, Thrown, testing::Values(Thing::box, Thing::capsule, Thing::cylinder, Thing::rods));

// A ball dropped from any height comes back to it, also where it touches in the last moment of a step, free or on a
// rail.
TEST(Dropped, ComesBackFromAnyHeight) {
  double worst = 0, height = 0;
  for (const bool onRail : {false, true})
    for (int i = 0; i < 1000; ++i) {
      World world;
      world.addBody(bouncing(ground(), 1));
      const double drop = 0.3 + 4e-4 * i;
      const BodyId ball = world.addBody(bouncing(tangible(Sphere{0.05}, 1, {{0, 0.05 + drop, 0}}), 1));
      if (onRail) {
        JointDef rail = joint(JointType::slider, kWorld, {0, 0.05 + drop, 0}, ball, Vec3::Zero());
        rail.frameA.rotation = rail.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
        world.addJoint(rail);
      }
      const double before = world.energy().total();
      for (int frame = 0; frame < 50; ++frame) world.step();
      const double change = std::abs(world.energy().total() / before - 1);
      if (change > worst) worst = change, height = drop;
    }
  report("dropped from 1000 heights, worst change of energy", worst, 1e-5, "");
  EXPECT_LE(worst, 1e-5) << "from " << height << " m";
}

struct Stopped {
  const char* name;
  // Makes it such that it strikes a stop with a restitution of one; returns the energy that the strike turns round, J.
  double (*make)(World& world, double reach);
  double needed = 1e-3;  // share of that
};
std::ostream& operator<<(std::ostream& out, const Stopped& stopped) {
  return out << stopped.name;
}

JointDef hingeAcross(BodyId a, const Vec3& onA, BodyId b, const Vec3& onB) {
  JointDef hinge = joint(JointType::hinge, a, onA, b, onB);
  hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  hinge.axes[0].restitution = 1;
  return hinge;
}

double onRail(World& world, double reach) {
  const BodyId weight = world.addBody(solid(Sphere{0.05}, 1));
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), weight, Vec3::Zero());
  rail.frameA.rotation = rail.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  rail.axes[0].low = -reach, rail.axes[0].restitution = 1;
  world.addJoint(rail);
  return kGravity * reach;
}

double onHinge(World& world, double reach) {
  const BodyId bar = world.addBody(solid(Box{{1, 0.05, 0.05}}, 1, {{0.5, 0, 0}}));
  JointDef hinge = hingeAcross(kWorld, Vec3::Zero(), bar, {-0.5, 0, 0});
  hinge.axes[0].low = -2 * reach;
  world.addJoint(hinge);
  return kGravity * std::sin(2 * reach) / 2;
}

double onTwoHinges(World& world, double reach) {
  const BodyId upper = world.addBody(solid(Box{{0.5, 0.05, 0.05}}, 1, {{0.25, 0, 0}}));
  const BodyId lower = world.addBody(solid(Box{{0.5, 0.05, 0.05}}, 1, {{0.75, 0, 0}}));
  world.addJoint(hingeAcross(kWorld, Vec3::Zero(), upper, {-0.25, 0, 0}));
  JointDef knee = hingeAcross(upper, {0.25, 0, 0}, lower, {-0.25, 0, 0});
  knee.axes[0].low = -reach, knee.axes[0].high = reach;
  world.addJoint(knee);
  return kGravity;
}

double onRope(World& world, double reach) {
  const BodyId weight = world.addBody(solid(Sphere{0.05}, 1));
  JointDef rope = joint(JointType::distance, kWorld, Vec3::Zero(), weight, Vec3::Zero());
  rope.axes[0].low = 0, rope.axes[0].high = reach, rope.axes[0].restitution = 1;
  world.addJoint(rope);
  return kGravity * reach;
}

double onSpring(World& world, double reach) {
  BodyDef def = solid(Sphere{0.05}, 1);
  def.velocity.x() = 3;
  const BodyId weight = world.addBody(def);
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), weight, Vec3::Zero());
  rail.axes[0].low = -reach / 3, rail.axes[0].high = reach / 3, rail.axes[0].restitution = 1;
  rail.axes[0].stiffness = 20;
  world.addJoint(rail);
  return 4.5;
}

Vec3 thrown(double reach) {
  return {std::sin(40 * reach), std::cos(23 * reach), std::sin(71 * reach)};
}

// Its pivot is off the weight's middle: what strikes turns it, too.
double onRopeInSpace(World& world, double reach) {
  BodyDef def = solid(Box{{0.1, 0.4, 0.15}}, 1, {0.3 * thrown(reach)});
  def.velocity = 2 * thrown(reach + 1);
  const BodyId weight = world.addBody(def);
  JointDef rope = joint(JointType::distance, kWorld, Vec3::Zero(), weight, {0.02, 0.2, 0});
  rope.axes[0].high = 1, rope.axes[0].restitution = 1;
  world.addJoint(rope);
  return kGravity;
}

double onSixAxes(World& world, double reach) {
  BodyDef def = solid(Box{{0.1, 0.4, 0.15}}, 1);
  def.velocity = 2 * thrown(reach);
  def.angularVelocity = 2 * thrown(reach + 1);
  const BodyId weight = world.addBody(def);
  JointDef cage = joint(JointType::sixAxis, kWorld, Vec3::Zero(), weight, Vec3::Zero());
  for (int k = 0; k < 6; ++k) cage.axes[k].low = -0.3, cage.axes[k].high = 0.35, cage.axes[k].restitution = 1;
  world.addJoint(cage);
  return kGravity * 0.65;
}

double onAChain(World& world, double reach) {
  BodyId last = kWorld;
  Vec3 on = Vec3::Zero();
  for (int i = 0; i < 6; ++i) {
    const BodyId link = world.addBody(solid(Box{{0.2, 0.03, 0.03}}, 0.2, {{0.2 * i + 0.1, 0, 0}}));
    JointDef knee = hingeAcross(last, on, link, {-0.1, 0, 0});
    if (i > 0) knee.axes[0].low = -reach / (1 + 0.1 * i), knee.axes[0].high = reach;
    world.addJoint(knee);
    last = link;
    on = Vec3(0.1, 0, 0);
  }
  return kGravity;
}

class ElasticStop : public testing::TestWithParam<Stopped> {};

// Wherever the stop is, and with that the moment of a step at which it is struck, it gives back what came.
TEST_P(ElasticStop, GivesBackWhatCame) {
  const double needed = GetParam().needed;
  double worst = 0, where = 0;
  for (int i = 0; i < 500; ++i) {
    World world;
    const double reach = 0.3 + 8e-4 * i, turned = GetParam().make(world, reach);
    const double before = world.energy().total();
    for (int frame = 0; frame < 72; ++frame) world.step();
    const double change = std::abs(world.energy().total() - before) / turned;
    if (change > worst) worst = change, where = reach;
  }
  report(std::string("elastic stop ") + GetParam().name + ", worst change of energy of 500", 100 * worst, 100 * needed,
         "%");
  EXPECT_LE(worst, needed) << "reach " << where;
}

INSTANTIATE_TEST_SUITE_P(Cases, ElasticStop,
                         testing::Values(Stopped{"on a rail", onRail}, Stopped{"of a hinge", onHinge},
                                         Stopped{"of a knee", onTwoHinges}, Stopped{"of a rope", onRope},
                                         Stopped{"against a spring", onSpring},
                                         Stopped{"of a rope in space", onRopeInSpace, 0.01},
                                         Stopped{"of six axes", onSixAxes}, Stopped{"of a chain", onAChain, 0.01}));

// A cylinder and a stone that tumble towards each other: what is near something fast is struck touch by touch, and what
// turns as it lies then. Here the stone comes down on two corners within a step.
TEST(TumblingPair, KeepsItsEnergy) {
  World world;
  BodyDef floor;
  floor.role = Role::fixed;
  floor.friction = 0;
  floor.shapes = {{Box{{40, 2, 40}}, {{0, -1, 0}, Quat::Identity()}}};
  world.addBody(floor);
  const auto add = [&](const Shape& shape, double mass, const Pose& pose, double speed, const Vec3& spin) {
    BodyDef def = bouncing(tangible(shape, mass, pose), 1);
    def.velocity.x() = speed;
    def.angularVelocity = spin;
    world.addBody(def);
  };
  const std::vector<Vec3> corners{{-0.1, -0.102, 0.122},   {0.128, 0.066, -0.081},   {-0.009, -0.046, -0.115},
                                  {-0.079, -0.133, 0.142}, {-0.079, -0.034, -0.076}, {0.045, 0.019, 0.08},
                                  {-0.147, -0.089, 0.03},  {0.023, 0.097, -0.126},   {-0.039, -0.029, 0.004}};
  add(Cylinder{0.1, 0.2}, 1, {{0, 0.3, 0}, Quat(0.823, -0.173, 0.034, -0.541).normalized()}, 1, {1.269, 0.155, -2.697});
  add(ConvexHull{std::make_shared<HullData>(makeHull(corners))}, 2,
      {{0.6, 0.3, 0.02}, Quat(0.391, -0.528, 0.724, 0.209).normalized()}, -1, {-1.492, -3.285, -0.861});
  const double start = world.energy().total();
  double worst = 0;
  for (int frame = 0; frame < 36; ++frame) {
    world.step();
    worst = std::max(worst, std::abs(world.energy().total() / start - 1));
  }
  report("cylinder and stone tumbling at each other: energy", 100 * worst, 0.5, "%");
  EXPECT_LE(worst, 5e-3);
}

// A slanting rod's end strikes a rough floor almost straight down. Newton's law with a sticking end would send it back
// with more energy than it came with: in its place comes an impact that keeps the energy, by an impulse that friction
// allows.
TEST(SlantingRod, TakesNoEnergyFromRoughFloor) {
  constexpr double kLength = 1, kInertia = 1.0 / 12, kSlant = 0.9, kFriction = 2;
  const Vec3 arm = kLength / 2 * Vec3(-std::sin(kSlant), -std::cos(kSlant), 0);
  int guarded = 0;
  for (const double across : {-0.4, -0.2, 0.2, 0.4}) {
    World world({.gravity = Vec3::Zero()});
    world.addBody(bouncing(ground(), 1, kFriction));
    BodyDef def = bouncing(tangible(Capsule{1e-4, kLength}, 1, {Vec3(0, 0.05, 0) - arm, about(-kSlant)}), 1, kFriction);
    def.mass.inertia = Vec3(kInertia, 1e-4, kInertia).asDiagonal();
    def.velocity = Vec3(across, -2, 0);
    const BodyId rod = world.addBody(def);
    const double before = world.energy().total();
    for (int frame = 0; frame < 6; ++frame) world.step();
    // What a sticking end with Newton's law would ask for: (normal, tangential) of A p = -(v + e v, w).
    Eigen::Matrix2d mobility;
    mobility << 1 + arm.x() * arm.x() / kInertia, -arm.x() * arm.y() / kInertia, -arm.x() * arm.y() / kInertia,
        1 + arm.y() * arm.y() / kInertia;
    const Eigen::Vector2d sticking = mobility.inverse() * Eigen::Vector2d(2 * 2, -across);
    const bool wouldGain = sticking[1] * across > 0;
    guarded += wouldGain;
    const Vec3 impulse = world.state(rod).velocity - def.velocity;
    const double after = world.energy().total();
    EXPECT_LE(after, before * (1 + 1e-6)) << across;
    if (wouldGain) {
      EXPECT_NEAR(after, before, 1e-4 * before) << across;
      EXPECT_LT(impulse.y(), sticking[0]) << across;
    } else {
      EXPECT_NEAR(impulse.y(), sticking[0], 1e-3 * sticking[0]) << across;
      EXPECT_NEAR(impulse.x(), sticking[1], 1e-3 * sticking[0]) << across;
    }
    EXPECT_LE(std::abs(impulse.x()), kFriction * impulse.y() * (1 + 1e-6)) << across;
    const Vec3 end = world.state(rod).velocity + world.state(rod).angularVelocity.cross(arm);
    EXPECT_GE(end.y(), -0.01) << across;
  }
  EXPECT_EQ(guarded, 2);
}

}  // namespace
}  // namespace calm::physics
