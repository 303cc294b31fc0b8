// SPDX-License-Identifier: GPL-3.0-or-later
// Many contacts: swept side by side, found among pairs that are kept from frame to frame.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A tower of equal boxes, each a little beside the one below.
std::vector<BodyId> addTower(World& world, const Vec3& at, int boxes) {
  std::vector<BodyId> tower;
  for (int i = 0; i < boxes; ++i) {
    const Vec3 middle = at + Vec3(0.01 * i, 0.15 + 0.302 * i, 0.007 * i);
    tower.push_back(world.addBody(tangible(Box{Vec3::Constant(0.3)}, 5, {middle})));
  }
  return tower;
}

// Near enough to be one island, too far to touch: each lane goes its own way, whatever goes on in the others.
TEST(Heap, TowersSideBySideAreEachAsIfAlone) {
  World together, alone;
  together.addBody(ground(0.6));
  alone.addBody(ground(0.6));
  std::vector<std::vector<BodyId>> towers;
  for (int i = 0; i < 11; ++i) towers.push_back(addTower(together, {0.42 * i, 0, 0}, 9 - i % 3));
  const std::vector<BodyId> one = addTower(alone, Vec3::Zero(), 9);
  for (int i = 0; i < 120; ++i) together.step(), alone.step();
  for (int i = 0; i < 11; i += 3)
    for (std::size_t k = 0; k < one.size(); ++k) {
      const Vec3 moved = together.state(towers[i][k]).pose.position - Vec3(0.42 * i, 0, 0);
      // Sweeps end at 1e-5 m/s of change; a lane goes on with the slowest of its neighbours.
      EXPECT_LE((moved - alone.state(one[k]).pose.position).norm(), 1e-5 * 2) << "tower " << i << " box " << k;
    }
}

// Newton's second law for a heap as a whole, frame by frame, while it settles: what the ground gives it is what its
// momentum changes by, and its weight.
TEST(Heap, GetsFromTheGroundWhatItsMomentumAndWeightAskFor) {
  World world;
  const BodyId floor = world.addBody(ground(0.6));
  for (int i = 0; i < 9; ++i) addTower(world, {0.32 * (i % 3), 0, 0.32 * (i / 3)}, 6);
  const double frame = world.settings().frame, weight = 54 * 5 * kGravity;
  for (int i = 0; i < 120; ++i) {
    const Vec3 before = world.momentum();
    world.step();
    Vec3 force = Vec3::Zero();
    for (const TouchReading& t : world.touches())
      if (t.a == floor || t.b == floor) force += (t.a == floor ? 1 : -1) * t.force;
    const Vec3 asked = (world.momentum() - before) / frame + Vec3(0, weight, 0);
    EXPECT_LE((force - asked).norm(), 1e-9 * weight) << "frame " << i;
  }
}

// However many contacts there are, what is stacked comes to rest, slower than a millimetre a second, and falls asleep.
TEST(Heap, OfHundredsComesToRest) {
  World world({.sleepAfter = 0.25});
  world.addBody(ground(0.6));
  std::vector<BodyId> boxes;
  for (int i = 0; i < 49; ++i) {
    const std::vector<BodyId> tower = addTower(world, {0.42 * (i % 7), 0, 0.42 * (i / 7)}, 9);
    boxes.insert(boxes.end(), tower.begin(), tower.end());
  }
  const auto asleep = [&](BodyId id) { return world.isAsleep(id); };
  while (world.time() < 3 && !std::all_of(boxes.begin(), boxes.end(), asleep)) world.step();
  report("441 boxes in towers fall asleep after", world.time(), 1.5, "s");
  EXPECT_LE(world.time(), 1.5);
}

// A mat of hinged planks: more contacts than are solved with the joints' answer known, swept in turn with the joints.
TEST(Heap, OfJointedPartsLiesStill) {
  World world;
  const BodyId floor = world.addBody(ground(0.6));
  constexpr int kPlanks = 24;
  std::vector<BodyId> planks;
  for (int i = 0; i < kPlanks; ++i) {
    planks.push_back(world.addBody(tangible(Box{{0.18, 0.05, 0.5}}, 2, {Vec3(0.2 * i, 0.0252, 0)})));
    if (i == 0) continue;
    JointDef def = joint(JointType::hinge, planks[i - 1], {0.1, 0, 0}, planks[i], {-0.1, 0, 0});
    def.frameA.rotation = def.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    world.addJoint(def);
  }
  Residual worst;
  for (int i = 0; i < 120; ++i) {
    const Residual r = world.step();
    if (i >= 60) worst.include(r);
  }
  EXPECT_GT(world.contacts().size(), 80u);
  EXPECT_LE(worst.linear, 1e-5);
  double force = 0, fastest = 0;
  for (const ContactReading& c : world.contacts())
    if (c.a == floor) force += c.force.y();
  for (const BodyId id : planks) fastest = std::max(fastest, world.state(id).velocity.norm());
  EXPECT_NEAR(force, kPlanks * 2 * kGravity, 0.01 * kPlanks * 2 * kGravity);
  EXPECT_LE(fastest, 1e-3);
}

// Few contacts are solved as one dense system, many in lanes: the same row of sliding boxes stops where it should in
// both, v^2 / (2 mu g) from where it began.
TEST(Heap, BoxesSlideAsFarInLanesAsByThemselves) {
  for (const int boxes : {1, 40}) {
    World world;
    world.addBody(ground(0.5));
    std::vector<BodyId> row;
    for (int i = 0; i < boxes; ++i) {
      // Near each other, so that they are one island, all under way together.
      BodyDef def = tangible(Box{{0.2, 0.1, 0.2}}, 1, {Vec3(0, 0.05, 0.203 * i)});
      def.velocity = Vec3(1, 0, 0);
      row.push_back(world.addBody(def));
    }
    for (int i = 0; i < 60; ++i) world.step();
    const double way = 1 / (2 * 0.5 * kGravity);
    for (const BodyId id : row) EXPECT_NEAR(world.state(id).pose.position.x(), way, 1e-3 * way) << boxes << " boxes";
  }
}

// A manifold that follows its bodies leaves an edge where they do: a box without friction tips over a table's edge when
// its middle is past it, no matter how slowly it came there.
TEST(Heap, ABoxTipsOverAnEdgeWhenItsMiddleIsPast) {
  for (const double speed : {0.05, 0.5}) {
    World world;
    BodyDef table;
    table.role = Role::fixed;
    table.shapes = {{Box{Vec3::Ones()}, {}}};
    table.friction = 0;
    world.addBody(table);
    BodyDef def = tangible(Box{{0.2, 0.1, 0.2}}, 1, {Vec3(0.3, 0.55, 0)});
    def.friction = 0;
    def.velocity = Vec3(speed, 0, 0);
    const BodyId box = world.addBody(def);
    double tips = -1;
    for (int i = 0; i < 600 && tips < 0; ++i) {
      world.step();
      if (std::abs(world.state(box).angularVelocity.z()) > 0.02) tips = world.state(box).pose.position.x();
    }
    // It is noticed a frame late, and when the turning has grown.
    EXPECT_GE(tips, 0.5 - 1e-3) << speed << " m/s";
    EXPECT_LE(tips, 0.5 + speed / 60 + 0.003) << speed << " m/s";
  }
}

// Pairs that have been apart for long are found when one of them comes: slowly, fast, or by turning alone.
TEST(Heap, WhatWasApartForLongIsMetWhenItComes) {
  for (const double speed : {0.3, 30.0}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef wall;
    wall.role = Role::fixed;
    wall.shapes = {{Box{{0.1, 4, 4}}, {}}};
    world.addBody(wall);
    const BodyId ball = world.addBody(tangible(Box{Vec3::Constant(0.1)}, 1, {Vec3(0.15, 0, 0)}));
    for (int i = 0; i < 200; ++i) world.step();
    EXPECT_NEAR(world.state(ball).pose.position.x(), 0.15, 1e-12);
    world.applyImpulse(ball, Vec3(-speed, 0, 0), world.state(ball).pose.position);
    for (int i = 0; i < 60; ++i) world.step();
    EXPECT_GE(world.state(ball).pose.position.x(), 0.1 - 1e-4) << speed << " m/s";
  }
  // A bar turns about its middle until its end meets a post.
  World world({.gravity = Vec3::Zero()});
  BodyDef post;
  post.role = Role::fixed;
  post.shapes = {{Box{Vec3::Constant(0.1)}, {}}};
  post.pose.position = Vec3(0, 0.45, 0);
  world.addBody(post);
  BodyDef def = tangible(Box{{1, 0.02, 0.1}}, 1);
  def.angularVelocity = Vec3(0, 0, 0.5);
  const BodyId bar = world.addBody(def);
  world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), bar, Vec3::Zero()));
  double steepest = 0;
  for (int i = 0; i < 300; ++i) {
    world.step();
    const Vec3 along = world.state(bar).pose.rotation * Vec3::UnitX();
    steepest = std::max(steepest, std::atan2(along.y(), along.x()));
  }
  // Its upper side meets the post's lower corner (0.05, 0.4): asin(0.05/r) short of a quarter, less half its thickness.
  const double r = std::hypot(0.05, 0.4), meets = std::atan2(0.4, 0.05) - std::asin(0.01 / r);
  EXPECT_NEAR(steepest, meets, 2e-3);
}

// All that is kept from frame to frame is part of a saved state.
TEST(Heap, ASettlingHeapSavedAsBytesStepsOnIdentically) {
  World world;
  world.addBody(ground(0.6));
  for (int i = 0; i < 40; ++i) {
    const Vec3 at(0.31 * (i % 3) + 0.01 * i, 0.2 + 0.33 * (i / 9), 0.31 * (i / 3 % 3) - 0.007 * i);
    world.addBody(tangible(Box{Vec3::Constant(0.3)}, 2, {at}));
  }
  for (int i = 0; i < 45; ++i) world.step();
  World restored = world, copy = world;
  for (int i = 0; i < 7; ++i) restored.step();  // somewhere else
  restored.restoreState(world.saveState());
  for (int i = 0; i < 60; ++i) world.step(), restored.step(), copy.step();
  EXPECT_EQ(world.saveState(), restored.saveState());
  EXPECT_EQ(world.saveState(), copy.saveState());
}

// The load of the present instant in a rod that leans out as it is carried round: m w^2 times its middle's distance,
// and its weight. The pivot rests, or rides on a disc that keys turn.
TEST(PresentLoad, OfARodCarriedRound) {
  constexpr double kLength = 0.5, kRate = 6;
  for (const double radius : {0.0, 0.4}) {
    // The lean at which gravity and the centrifugal field balance about the pivot.
    double low = 0.3, high = 1.57;
    for (int i = 0; i < 100; ++i) {
      const double lean = (low + high) / 2;
      const double out = kRate * kRate * (radius / 2 + kLength / 3 * std::sin(lean)) * std::cos(lean);
      (out > kGravity / 2 * std::sin(lean) ? low : high) = lean;
    }
    const double lean = low;
    World world;
    BodyDef disc;
    disc.role = Role::kinematic;
    disc.angularVelocity = Vec3(0, kRate, 0);
    const BodyId holder = world.addBody(disc);
    const Vec3 along(std::sin(lean), -std::cos(lean), 0), pivot(radius, 0, 0);
    BodyDef rod = solid(Capsule{0.01, kLength}, 2, {pivot + along * kLength / 2, turnBetween(Vec3::UnitY(), along)});
    rod.mass.inertia = Vec3(1, 1e-6, 1).asDiagonal() * Mat3::Identity() * (2 * kLength * kLength / 12);
    rod.angularVelocity = Vec3(0, kRate, 0);
    rod.velocity = rod.angularVelocity.cross(rod.pose.position);
    const BodyId id = world.addBody(rod);
    const JointId pin = world.addJoint(joint(JointType::ball, holder, pivot, id, Vec3(0, -kLength / 2, 0)));
    for (int i = 0; i < 60; ++i) {
      world.step();
      const Vec3 force = world.reading(pin).forceNow;
      const double outward = 2 * kRate * kRate * (radius + kLength / 2 * std::sin(lean));
      EXPECT_NEAR(std::hypot(force.x(), force.z()), outward, 1e-3 * outward) << "radius " << radius << " frame " << i;
      EXPECT_NEAR(force.y(), 2 * kGravity, 1e-3 * outward) << "radius " << radius << " frame " << i;
    }
  }
}

}  // namespace
}  // namespace calm::physics
