// SPDX-License-Identifier: GPL-3.0-or-later
// Copies with their joints, joints between many, conversion, re-pairing and cutting.
#include "rig/joining.h"

#include <gtest/gtest.h>

#include <numbers>

#include "rig/copies.h"
#include "rig/edits.h"
#include "rig/posing.h"
#include "run/compile.h"

namespace calm::rig {
namespace {

Id add(Rig& rig, const std::string& name, const Shape& shape, const Vec3& at, Role role = Role::dynamic) {
  Part p;
  p.name = name;
  p.shape = shape;
  p.pose.position = at;
  p.role = role;
  return addPart(rig, p);
}

// A post with a leaf on a hinge with stops, and a hook that hangs from the world over it.
struct Gate {
  Rig rig;
  Id post, leaf, hinge, hook, sling;
  Gate() {
    post = add(rig, "post", Box{{0.2, 2, 0.2}}, {0, 1, 0}, Role::fixed);
    leaf = add(rig, "leaf", Box{{1.6, 1.2, 0.06}}, {0.92, 1, 0});
    hinge = addJoint(rig, JointType::hinge, post, leaf, {0.1, 1, 0}, Vec3::UnitY());
    rig.joint(hinge)->axes[0].low = -0.5, rig.joint(hinge)->axes[0].high = 1.5, rig.joint(hinge)->axes[0].speed = 1;
    rig.joint(hinge)->axes[0].cap = 3;
    hook = add(rig, "hook", Sphere{0.1}, {1, 3, 0});
    sling = addJoint(rig, JointType::ball, kNone, hook, {1, 3.4, 0}, Vec3::UnitX());
  }
};

double misfitOf(const Rig& rig, Id joint) {
  const Joint& j = *rig.joint(joint);
  return (restFrame(rig, j.a).position - restFrame(rig, j.b).position).norm();
}

TEST(Copies, AreJoinedAmongThemselves) {
  Gate g;
  const Pose moved{Vec3(4, 0, 1), Quat(Eigen::AngleAxisd(0.7, Vec3::UnitY()))};
  const Copies copies = copyMoved(g.rig, {g.post, g.leaf, g.hook}, moved);
  const Joint& hinge = *g.rig.joint(copies.at(g.hinge));
  EXPECT_EQ(hinge.a.part, copies.at(g.post));
  EXPECT_EQ(hinge.b.part, copies.at(g.leaf));
  EXPECT_EQ(hinge.axes[0].high, 1.5);
  EXPECT_LT(misfitOf(g.rig, hinge.id), 1e-12);
  const Joint& sling = *g.rig.joint(copies.at(g.sling));
  EXPECT_EQ(sling.a.part, kNone);
  EXPECT_LT((restFrame(g.rig, sling.a).position - moved.apply({1, 3.4, 0})).norm(), 1e-12)
      << "the world's pivot moves along";
  EXPECT_TRUE(faultsOf(g.rig).empty());
  EXPECT_EQ(g.rig.joint(g.hinge)->b.part, g.leaf) << "the original stays";
}

TEST(Copies, LeaveOutJointsToWhatStays) {
  Gate g;
  const Copies copies = copyMoved(g.rig, {g.leaf}, {Vec3(0, 0, 2), Quat::Identity()});
  EXPECT_EQ(copies.count(g.hinge), 0u);
  EXPECT_EQ(g.rig.parts.size(), 4u);
}

TEST(Copies, NumberOnFromTheOriginal) {
  Rig rig;
  const Id first = add(rig, "pile 1", Sphere{0.1}, {0, 1, 0});
  copyInRow(rig, {first}, 3, {1, 0, 0});
  EXPECT_EQ(rig.parts.back().name, "pile 4");
  EXPECT_NEAR(rig.parts.back().pose.position.x(), 3, 1e-12);
  EXPECT_THROW(copyInRow(rig, {first}, 0, {1, 0, 0}), std::invalid_argument);
  EXPECT_THROW(copyInRow(rig, {}, 1, {1, 0, 0}), std::invalid_argument);
}

// What runs in a mirror is the mirror image of what runs: the strictest test of turned stops and motors.
TEST(Mirror, RunsAsTheImageOfTheOriginal) {
  for (const JointType type : {JointType::hinge, JointType::slider, JointType::cylinder, JointType::universal,
                               JointType::planar, JointType::limb, JointType::wheel, JointType::sixAxis}) {
    Rig rig;
    rig.stage.groundHeight.reset();
    rig.stage.gravity = {0.7, -9.81, 0};  // within the mirror's plane and along it
    const Id post = add(rig, "post", Box{{0.2, 0.3, 0.4}}, {0, 2, 0.5}, Role::fixed);
    Part arm;
    arm.name = "arm";
    arm.shape = Box{{0.8, 0.1, 0.2}};
    arm.pose = {Vec3(0.5, 2, 0.6), Quat(Eigen::AngleAxisd(0.3, Vec3(1, 2, 3).normalized()))};
    arm.angularVelocity = {0.5, 1, -0.4};
    arm.velocity = {0.1, 0.2, 0.3};
    const Id leaf = addPart(rig, arm);
    const Id j = addJoint(rig, type, post, leaf, {0.1, 2, 0.55}, Vec3(0.2, 1, 0.1).normalized());
    for (int k = 0; k < axesOf(type).all(); ++k) {
      AxisDef& axis = rig.joint(j)->axes[k];
      if (type == JointType::limb && k == 3) continue;
      axis.low = -0.15 - 0.05 * k, axis.high = 0.3 + 0.05 * k;
      axis.target = 0.1, axis.frequency = 1.5, axis.dampingRatio = 0.2;
      axis.speed = 0.4, axis.cap = 2;
    }
    const Copies copies = copyMirrored(rig, {post, leaf}, {0, 0, 0}, Vec3::UnitZ());
    run::CompiledRig run = run::compile(rig);
    double worst = 0;
    for (int i = 0; i < 60; ++i) {
      run.step();
      const Vec3 a = run.world.state(run.bodies[1]).pose.position, b = run.world.state(run.bodies[3]).pose.position;
      worst = std::max(worst, (Vec3(a.x(), a.y(), -a.z()) - b).norm());
    }
    EXPECT_LT(worst, 1e-6) << word(type);
    ASSERT_EQ(copies.count(j), 1u);
  }
}

TEST(Mirror, SaysWhatHasNoImage) {
  Gate g;
  EXPECT_THROW(copyMirrored(g.rig, {g.leaf, g.hinge}, Vec3::Zero(), Vec3::UnitX()), std::invalid_argument)
      << "its post would have to be mirrored, too";
  const Id a = add(g.rig, "wheel a", Cylinder{0.1, 0.02}, {5, 1, 0}),
           b = add(g.rig, "wheel b", Cylinder{0.1, 0.02}, {5.2, 1, 0});
  const Id gear = addJoint(g.rig, JointType::gear, a, b, {5.1, 1, 0}, Vec3::UnitZ());
  try {
    copyMirrored(g.rig, {a, b, gear}, Vec3::Zero(), Vec3::UnitX());
    ADD_FAILURE() << "a gear was mirrored";
  } catch (const std::invalid_argument& e) {
    EXPECT_NE(std::string(e.what()).find("gear"), std::string::npos) << e.what();
  }
}

TEST(Joining, AlongTheRowAndRoundTheRing) {
  Rig rig;
  std::set<Id> row, ring;
  for (const int i : {3, 0, 4, 1, 2}) row.insert(add(rig, "pile", Box{{0.2, 0.2, 0.2}}, {0.3 * i, 1, 0}));
  const std::vector<Id> order = alongTheirLine(rig, row);
  for (std::size_t i = 0; i + 1 < order.size(); ++i)
    EXPECT_NEAR((rig.part(order[i])->pose.position - rig.part(order[i + 1])->pose.position).norm(), 0.3, 1e-9);
  EXPECT_EQ(joinInOrder(rig, JointType::ball, order).size(), 4u);
  EXPECT_THROW(joinInOrder(rig, JointType::ball, order), std::invalid_argument) << "they are joined already";
  for (const int i : {2, 5, 0, 3, 1, 4}) {
    const double a = i * std::numbers::pi / 3;
    ring.insert(add(rig, "float", Sphere{0.2}, {10 + std::cos(a), 1, std::sin(a)}));
  }
  EXPECT_EQ(joinInOrder(rig, JointType::ball, roundTheirRing(rig, ring), true).size(), 6u);
  for (std::size_t j = 4; j < rig.joints.size(); ++j) {
    const Joint& joint = rig.joints[j];
    EXPECT_NEAR((rig.part(joint.a.part)->pose.position - rig.part(joint.b.part)->pose.position).norm(), 1, 1e-9)
        << "neighbours in the ring";
  }
}

TEST(Joining, NeighboursWithinAGapAndACap) {
  Rig rig;
  std::set<Id> grid;
  for (int i = 0; i < 9; ++i) grid.insert(add(rig, "tile", Box{{0.3, 0.1, 0.3}}, {0.31 * (i % 3), 1, 0.31 * (i / 3)}));
  EXPECT_EQ(neighbours(rig, grid, 0.011, 10).size(), 12u) << "side by side, not across corners";
  EXPECT_EQ(neighbours(rig, grid, 0.02, 10).size(), 20u) << "corners, too";
  for (const auto& [a, b] : neighbours(rig, grid, 0.011, 1)) EXPECT_NE(a, b);
  EXPECT_LE(neighbours(rig, grid, 0.011, 1).size(), 4u);
  EXPECT_EQ(joinNeighbours(rig, JointType::fixed, grid, 0.011, 10).size(), 12u);
  EXPECT_TRUE(neighbours(rig, grid, 0.011, 10).empty()) << "what is joined is not counted again";
}

TEST(Joining, ConvertsInPlace) {
  Gate g;
  g.rig.joint(g.hinge)->breakForce = 900;
  convert(g.rig, g.hinge, JointType::fixed);
  const Joint& j = *g.rig.joint(g.hinge);
  EXPECT_EQ(j.type, JointType::fixed);
  EXPECT_EQ(j.breakForce, 900);
  EXPECT_EQ(j.axes[0].cap, 0);
  EXPECT_LT((restPivot(g.rig, j) - Vec3(0.1, 1, 0)).norm(), 1e-12);
}

TEST(Joining, MovesAnEndToAnotherPart) {
  Gate g;
  const Id other = add(g.rig, "post b", Box{{0.2, 2, 0.2}}, {0, 1, 1}, Role::fixed);
  moveEnd(g.rig, g.hinge, 0, other);
  EXPECT_EQ(g.rig.joint(g.hinge)->a.part, other);
  EXPECT_LT(misfitOf(g.rig, g.hinge), 1e-12);
  EXPECT_THROW(moveEnd(g.rig, g.hinge, 0, g.leaf), std::invalid_argument) << "both ends on one part";
  EXPECT_EQ(g.rig.joint(g.hinge)->a.part, other) << "and nothing changed";
}

TEST(Cut, KeepsMassAndJoints) {
  Gate g;
  const double mass = g.rig.part(g.leaf)->mass();
  const std::vector<Id> pieces = cut(g.rig, g.leaf, 4, JointType::hinge);
  ASSERT_EQ(pieces.size(), 4u);
  double sum = 0;
  for (const Id id : pieces) sum += g.rig.part(id)->mass();
  EXPECT_NEAR(sum, mass, 1e-9 * mass);
  EXPECT_EQ(g.rig.joints.size(), 2u + 3u);
  EXPECT_EQ(g.rig.joint(g.hinge)->b.part, pieces[0]) << "the hinge stays with the piece at the post";
  EXPECT_LT(misfitOf(g.rig, g.hinge), 1e-12);
  EXPECT_THROW(cut(g.rig, g.hook, 3, JointType::ball), std::invalid_argument) << "balls cannot be cut";
}

TEST(Place, KeepsJointsWhereTheOtherPartHasThem) {
  Gate g;
  place(g.rig, {{g.leaf, {Vec3(1, 1.1, 0.2), Quat(Eigen::AngleAxisd(0.2, Vec3::UnitY()))}}});
  EXPECT_LT(misfitOf(g.rig, g.hinge), 1e-12);
  EXPECT_LT((restPivot(g.rig, *g.rig.joint(g.hinge)) - Vec3(0.1, 1, 0)).norm(), 1e-12);
}

// Moved on by hand, the joint's own coordinate says so, for every type and axis that can be tried.
TEST(Posing, MovesTheCoordinateByWhatIsAsked) {
  for (const JointType type : {JointType::hinge, JointType::slider, JointType::cylinder, JointType::universal,
                               JointType::planar, JointType::limb, JointType::wheel, JointType::sixAxis})
    for (int k = 0; k < axesOf(type).all(); ++k) {
      if (type == JointType::limb && k == 3) continue;
      Rig rig;
      const Id post = add(rig, "post", Box{{0.2, 1, 0.2}}, {0, 1, 0}, Role::fixed);
      const Id arm = add(rig, "arm", Box{{0.6, 0.1, 0.1}}, {0.4, 1, 0});
      const Id tip = add(rig, "tip", Sphere{0.1}, {0.8, 1, 0});
      const Id joint = addJoint(rig, type, post, arm, {0.1, 1, 0}, Vec3(1, 0.2, 0.1).normalized());
      addJoint(rig, JointType::fixed, arm, tip, {0.7, 1, 0}, Vec3::UnitX());
      const auto poses = posedAt(rig, joint, k, 0.2);
      EXPECT_EQ(poses.size(), 2u) << "what hangs on it goes along";
      for (const auto& [id, pose] : poses) rig.part(id)->pose = pose;
      EXPECT_NEAR(*restCoordinate(rig, *rig.joint(joint), k), 0.2, 1e-9) << word(type) << ", axis " << k;
      const Joint& moved = *rig.joint(joint);
      const double gap = (restFrame(rig, moved.a).position - restFrame(rig, moved.b).position).norm();
      EXPECT_LT(gap, type == JointType::hinge ? 1e-12 : 0.2 + 1e-9) << word(type) << " came apart";
    }
}

TEST(Posing, RefusesWhatIsHeldOnBothSides) {
  Gate g;
  const Id wall = add(g.rig, "wall", Box{{0.2, 2, 0.2}}, {2, 1, 0}, Role::fixed);
  addJoint(g.rig, JointType::hinge, wall, g.leaf, {1.8, 1, 0}, Vec3::UnitY());
  EXPECT_THROW(posedAt(g.rig, g.hinge, 0, 0.1), std::invalid_argument);
}

TEST(LikelyAxis, IsWhatTheShapesSuggest) {
  Gate g;
  EXPECT_NEAR(std::abs(likelyAxis(g.rig, g.post, g.leaf).y()), 1, 1e-9) << "a door turns about its upright edge";
  Rig rig;
  const Id body = add(rig, "body", Box{{1, 0.4, 0.6}}, {0, 1, 0});
  Part wheel;
  wheel.shape = Cylinder{0.2, 0.1};
  wheel.pose = {Vec3(0.3, 0.8, 0.4), Quat(Eigen::AngleAxisd(std::numbers::pi / 2, Vec3::UnitX()))};
  const Id id = addPart(rig, wheel);
  EXPECT_NEAR(std::abs(likelyAxis(rig, body, id).z()), 1, 1e-9) << "a wheel turns about its own axis";
}

}  // namespace
}  // namespace calm::rig
