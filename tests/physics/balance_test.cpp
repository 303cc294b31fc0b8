// SPDX-License-Identifier: GPL-3.0-or-later
// Readings are forces: on every part, those reported by joints and contacts, with weight, make up the change of
// momentum (Newton), and moments that of angular momentum (Euler).
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A crate on the ground, a beam hinged to it that a spring holds up, a lamp on a rope at the beam's end, a gear pair.
World workshop() {
  World world;
  world.addBody(ground(0.6));
  const BodyId crate = world.addBody(tangible(Box{{1, 0.5, 1}}, 40, {{0, 0.25, 0}}));
  const BodyId beam = world.addBody(solid(Box{{1.6, 0.1, 0.1}}, 8, {{0.8, 1, 0}}));
  const BodyId lamp = world.addBody(solid(Sphere{0.1}, 3, {{1.6, 0.4, 0.1}}));
  const BodyId disc = world.addBody(solid(Cylinder{0.2, 0.05}, 4, {{0, 2, 0}}));
  JointDef hinge = joint(JointType::hinge, crate, {0, 0.75, 0}, beam, {-0.8, 0, 0});
  hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  hinge.axes[0].stiffness = 120, hinge.axes[0].damping = 4, hinge.axes[0].friction = 2;
  world.addJoint(hinge);
  JointDef rope = joint(JointType::distance, beam, {0.8, 0, 0}, lamp, Vec3::Zero());
  rope.axes[0].high = 0.62;
  world.addJoint(rope);
  JointDef strut = joint(JointType::wheel, crate, {0, 1.75, 0}, disc, Vec3::Zero());
  strut.axes[0].stiffness = 800, strut.axes[0].damping = 30;
  strut.axes[2].speed = 5, strut.axes[2].cap = 2;
  world.addJoint(strut);
  world.setVelocity(lamp, {0, 0, 1}, Vec3::Zero());
  return world;
}

TEST(Balance, ForcesOfAFrameMakeUpTheChangeOfMomentum) {
  World world = workshop();
  double worst = 0, largest = 0;
  for (int frame = 0; frame < 180; ++frame) {
    std::vector<Vec3> before(static_cast<std::size_t>(world.bodyCount()));
    for (BodyId id = 2; id < world.bodyCount(); ++id) before[static_cast<std::size_t>(id)] = world.state(id).velocity;
    world.step();
    const double masses[] = {0, 0, 40, 8, 3, 4};
    std::vector<Vec3> sum(static_cast<std::size_t>(world.bodyCount()), Vec3::Zero());
    for (JointId j = 0; j < world.jointCount(); ++j) {
      const Vec3 force = world.reading(j).force;
      sum[static_cast<std::size_t>(world.joint(j).a)] -= force;
      sum[static_cast<std::size_t>(world.joint(j).b)] += force;
    }
    for (const TouchReading& t : world.touches()) {
      sum[static_cast<std::size_t>(t.a)] -= t.force;
      sum[static_cast<std::size_t>(t.b)] += t.force;
    }
    for (BodyId id = 2; id < world.bodyCount(); ++id) {
      const auto i = static_cast<std::size_t>(id);
      const Vec3 change = masses[i] * (world.state(id).velocity - before[i]) / world.settings().frame;
      const Vec3 forces = sum[i] + masses[i] * Vec3(0, -kGravity, 0);
      worst = std::max(worst, (change - forces).norm());
      largest = std::max(largest, forces.norm());
    }
  }
  report("balance of forces", worst, 1e-6 * largest, "N");
  EXPECT_LE(worst, 1e-6 * largest);
}

// At rest also the moments about every centre of mass.
TEST(Balance, MomentsVanishAtRest) {
  World world;
  const BodyId beam = world.addBody(solid(Box{{2, 0.1, 0.1}}, 10, {{1, 0, 0}}));
  const BodyId weight = world.addBody(solid(Sphere{0.1}, 5, {{2, -0.5, 0}}));
  world.addJoint(joint(JointType::fixed, kWorld, Vec3::Zero(), beam, {-1, 0, 0}));
  world.addJoint(joint(JointType::ball, beam, {1, 0, 0}, weight, {0, 0.5, 0}));
  for (int i = 0; i < 60; ++i) world.step();
  // About the beam's centre: the clamp's torque and the moments of both pivots' forces.
  const JointReading &clamp = world.reading(0), &hook = world.reading(1);
  const Vec3 moment = clamp.torque + Vec3(-1, 0, 0).cross(clamp.force) - Vec3(1, 0, 0).cross(hook.force);
  EXPECT_LT(moment.norm(), 1e-6 * clamp.torque.norm());
  EXPECT_NEAR(clamp.torque.z(), kGravity * (10 * 1 + 5 * 2), 1e-5);
}

// Work: what axes put in is what the energy gained, for a motor that lifts and brakes.
TEST(Balance, WorkOfAnAxisIsTheEnergyItGave) {
  World world;
  const BodyId load = world.addBody(solid(Box{Vec3::Constant(0.3)}, 12));
  JointDef rail = joint(JointType::slider, kWorld, Vec3::Zero(), load, Vec3::Zero());
  rail.frameA.rotation = rail.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
  rail.axes[0].speed = 0.8, rail.axes[0].cap = 200;
  const JointId id = world.addJoint(rail);
  const double start = world.energy().total();
  for (int i = 0; i < 120; ++i) world.step();
  const double gained = world.energy().total() - start;
  EXPECT_NEAR(world.reading(id).work[0], gained, 1e-3 * gained);
}

}  // namespace
}  // namespace calm::physics
