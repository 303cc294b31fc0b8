// SPDX-License-Identifier: GPL-3.0-or-later
// Kits that stand at a place, and groups.
#include <gtest/gtest.h>

#include "rig/edits.h"
#include "rig/file.h"
#include "rig/kits/group.h"
#include "rig/kits/placed.h"
#include "run/compile.h"

namespace calm::rig {
namespace {

const Part& partNamed(const Rig& rig, const std::string& name) {
  for (const Part& p : rig.parts)
    if (p.name == name) return p;
  throw std::runtime_error("no part " + name);
}
Joint& jointNamed(Rig& rig, const std::string& name) {
  for (Joint& j : rig.joints)
    if (j.name == name) return j;
  throw std::runtime_error("no joint " + name);
}
double worstMisfit(const Rig& rig) {
  double worst = 0;
  for (const Joint& j : rig.joints)
    worst = std::max(worst, (restFrame(rig, j.a).position - restFrame(rig, j.b).position).norm());
  return worst;
}
Standing standing(const Vec3& at, double heading = 0.4) {
  return {{at, Quat(Eigen::AngleAxisd(heading, Vec3::UnitY()))}, {}};
}
// Steps the rig for a while and gives the world's residual at its worst.
std::unique_ptr<run::CompiledRig> compiled(const Rig& rig) {
  return std::make_unique<run::CompiledRig>(run::compile(rig));
}

TEST(Kits, EachIsSoundFitsTogetherAndHolds) {
  for (const Form& form : {Form(Ring{}), Form(Ladder{}), Form(Door{})}) {
    SCOPED_TRACE(word(form));
    Rig rig;
    Standing at = standing({1, 3, 2});
    if (std::holds_alternative<Ring>(form)) at.holder = kNone;
    makePlaced(rig, form, "thing", at);
    EXPECT_TRUE(faultsOf(rig).empty());
    EXPECT_LT(worstMisfit(rig), 1e-12);
    EXPECT_EQ(rig.parts.front().name.substr(0, 6), "thing ");
    const auto run = compiled(rig);
    double worst = 0;
    for (int i = 0; i < 60; ++i) worst = std::max(worst, run->world.step().linear);
    EXPECT_LT(worst, 1e-5) << "separation within a hundredth of a millimetre, m";
  }
}

TEST(Kits, CountTheirPartsAndJoints) {
  Rig rig;
  Ladder ladder;
  ladder.treads = 3, ladder.linksBetween = 2;
  makePlaced(rig, ladder, "ladder", standing({0, 3, 0}));
  EXPECT_EQ(rig.parts.size(), 3u + 2 * 3 * 2);
  EXPECT_EQ(rig.joints.size(), 2u * 3 * (2 + 1));
  Rig ring;
  Ring r;
  r.links = 9;
  const Id id = makePlaced(ring, r, "ring", standing({0, 1, 0}));
  EXPECT_EQ(ring.parts.size(), 9u);
  EXPECT_EQ(ring.joints.size(), 9u) << "closed upon itself, tied to nothing";
  EXPECT_FALSE(standingOf(ring, id).holder);
}

// The force at the handle that the kit foretells is the one that holds the leaf at that angle.
TEST(DoorKit, EffortAtTheHandleHoldsTheDoor) {
  Door door;
  door.friction = 0, door.latch = 0, door.closerDamping = 12;
  for (const double angle : {0.4, 1.1}) {
    Rig rig;
    rig.stage.gravity = Vec3(0, -9.81, 0);
    makePlaced(rig, door, "door", {});
    for (Part& p : rig.parts) {
      if (p.role != Role::dynamic) continue;
      Push push;
      // In the leaf's own axes, at the handle; its frame is the middle of the leaf.
      push.at = {handleArm(door) - (door.thickness / 2 + 0.005) - door.width / 2, 0, 0};
      push.force = {0, 0, handleEffort(door, angle)};
      push.follows = true;
      p.pushes.push_back(push);
    }
    rig.stage.duration = 60;
    const auto run = compiled(rig);
    for (int i = 0; i < 60 * 60; ++i) run->world.step();
    EXPECT_NEAR(run->world.reading(0).position[0], angle, 1e-4);
  }
}

TEST(DoorKit, StopsAndLatchAreWhereTheyWereAskedFor) {
  Door door;
  door.closerTorque = door.closerStiffness = door.closerDamping = 0;
  door.opens = 1.2;
  for (const double share : {0.95, 1.05}) {
    Rig rig;
    makePlaced(rig, door, "door", {});
    for (Part& p : rig.parts) {
      if (p.role != Role::dynamic) continue;
      Push push;
      push.at = {handleArm(door) - (door.thickness / 2 + 0.005) - door.width / 2, 0, 0};
      push.force = {0, 0, share * door.latch + handleEffort(door, 0)};
      push.follows = true;
      p.pushes.push_back(push);
    }
    const auto run = compiled(rig);
    for (int i = 0; i < 600; ++i) run->world.step();
    const double open = run->world.reading(0).position[0];
    if (share < 1)
      EXPECT_NEAR(open, 0, 1e-6) << "the latch holds";
    else
      EXPECT_NEAR(open, door.opens, 1e-4) << "it lets go and the leaf lies at its stop";
  }
}

TEST(Kits, AreMadeAnewWhereTheyStandAndKeepWhatWasSetByHand) {
  Rig rig;
  const Id id = makePlaced(rig, Door{}, "gate", standing({2, 0, 1}));
  const Id leaf = partNamed(rig, "gate leaf").id;
  rig.part(leaf)->friction = 0.9;
  jointNamed(rig, "gate hinge 1").axes[0].cap = 12;
  jointNamed(rig, "gate hinge 2").breakForce = 5000;
  // All of it moved.
  std::map<Id, Pose> moved;
  const Pose by{Vec3(0, 0, 3), Quat(Eigen::AngleAxisd(0.3, Vec3::UnitY()))};
  for (const Part& p : rig.parts) moved[p.id] = by * p.pose;
  place(rig, moved);
  Door wider = std::get<Door>(rig.group(id)->form);
  wider.width = 1.6, wider.hinges = 3, wider.closerStiffness = 9;
  remakeKit(rig, id, wider);
  EXPECT_TRUE(faultsOf(rig).empty());
  EXPECT_LT(worstMisfit(rig), 1e-9);
  EXPECT_EQ(partNamed(rig, "gate leaf").id, leaf) << "what stays keeps its id";
  EXPECT_EQ(std::get<Box>(rig.part(leaf)->shape).size.x(), 1.6);
  EXPECT_EQ(rig.part(leaf)->friction, 0.9);
  const AxisDef& axis = jointNamed(rig, "gate hinge 1").axes[0];
  EXPECT_EQ(axis.stiffness, 9) << "what nobody set by hand follows the kit";
  EXPECT_EQ(axis.cap, 12) << "what was set by hand stays beside it";
  EXPECT_EQ(jointNamed(rig, "gate hinge 2").breakForce, 5000);
  EXPECT_EQ(jointNamed(rig, "gate hinge 3").breakForce, 5000) << "new ones are like the last";
  const Vec3 foot = standingOf(rig, id).pose.position;
  EXPECT_LT((foot - (by * Pose{Vec3(2, 0, 1), Quat::Identity()}).position).norm(), 1e-9);
}

TEST(Kits, WhatHungOnAMemberThatIsGoneHangsOnTheNearest) {
  Rig rig;
  const Id id = makePlaced(rig, Ladder{}, "ladder", standing({0, 4, 0}, 0));
  Part lamp;
  lamp.name = "lamp";
  lamp.shape = Sphere{0.1};
  lamp.pose.position = {0, 1.5, 0};
  const Id lampId = addPart(rig, lamp);
  const Id hook =
      addJoint(rig, JointType::ball, partNamed(rig, "ladder tread 8").id, lampId, {0, 1.55, 0}, Vec3::UnitX());
  Ladder shorter;
  shorter.treads = 4, shorter.height = 1.2;
  remakeKit(rig, id, shorter);
  EXPECT_TRUE(faultsOf(rig).empty());
  EXPECT_EQ(rig.joint(hook)->a.part, partNamed(rig, "ladder tread 4").id);
  EXPECT_LT(worstMisfit(rig), 1e-9);
}

TEST(Kits, RefuseWhatCannotBe) {
  const auto fault = [](auto form, auto change) {
    change(form);
    return faultOf(Form(form));
  };
  EXPECT_NE(fault(Ring{}, [](Ring& r) { r.links = 2; }).find("three links"), std::string::npos);
  EXPECT_NE(fault(Ring{}, [](Ring& r) { r.thickness = 0.5; }).find("thick"), std::string::npos);
  EXPECT_NE(fault(Ladder{}, [](Ladder& l) { l.treads = 200; }).find("treads"), std::string::npos);
  EXPECT_NE(fault(Ladder{}, [](Ladder& l) { l.treadMass = -1; }).find("Tread mass"), std::string::npos);
  EXPECT_NE(fault(Door{}, [](Door& d) { d.hinges = 0; }).find("Hinges"), std::string::npos);
  EXPECT_NE(fault(Door{}, [](Door& d) { d.closerStiffness = 0; }).find("stiffness"), std::string::npos);
  EXPECT_NE(fault(Door{}, [](Door& d) { d.width = NAN; }).find("Leaf width"), std::string::npos);
  EXPECT_TRUE(fault(Door{}, [](Door& d) { d.latch = d.friction = 0; }).empty());
  Rig rig;
  const Id id = makePlaced(rig, Door{}, "door", {});
  const std::string before = formatRig(rig);
  Door bad;
  bad.height = -1;
  EXPECT_THROW(remakeKit(rig, id, bad), std::invalid_argument);
  EXPECT_EQ(formatRig(rig), before) << "nothing changes when it cannot be made";
}

TEST(Groups, OfEveryKindComeBackFromTheFile) {
  Rig rig;
  makePlaced(rig, Ring{}, "ring", standing({0, 1, 0}));
  makePlaced(rig, Ladder{}, "ladder", standing({2, 3, 0}));
  makePlaced(rig, Door{}, "door", standing({5, 0, 0}));
  groupByHand(rig, {addPart(rig, {}), addPart(rig, {})}, "pair");
  rig.parts.front().tags = {"wet", "left"};
  const std::string text = formatRig(rig);
  const Rig again = parseRig(text, "test");
  EXPECT_EQ(formatRig(again), text);
  ASSERT_EQ(again.groups.size(), 4u);
  EXPECT_EQ(std::get<Door>(again.groups[2].form).width, 1);
  EXPECT_EQ(again.parts.front().tags, (std::set<std::string>{"wet", "left"}));
  std::string bad = text;
  bad.replace(bad.find("\"hinges\": 2"), 11, "\"hinges\": 0");
  EXPECT_THROW(parseRig(bad, "test"), FileError);
}

TEST(Groups, TakePartsWithWhatJoinsThem) {
  Rig rig;
  std::vector<Id> parts;
  for (int i = 0; i < 3; ++i) {
    Part p;
    p.pose.position = Vec3(2.0 * i, 1, 0);
    parts.push_back(addPart(rig, p));
  }
  const Id inside = addJoint(rig, JointType::ball, parts[0], parts[1], {1, 1, 0}, Vec3::UnitX());
  const Id across = addJoint(rig, JointType::ball, parts[1], parts[2], {3, 1, 0}, Vec3::UnitX());
  const Id group = groupByHand(rig, {parts[0], parts[1]}, "pair");
  EXPECT_EQ(rig.joint(inside)->group, group);
  EXPECT_EQ(rig.joint(across)->group, kNone);
  EXPECT_THROW(groupByHand(rig, {}, "none"), std::invalid_argument);
  ungroup(rig, group);
  EXPECT_TRUE(rig.groups.empty());
  EXPECT_EQ(rig.joint(inside)->group, kNone);
  EXPECT_EQ(rig.parts.size(), 3u);
}

}  // namespace
}  // namespace calm::rig
