// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/edits.h"

#include <gtest/gtest.h>

#include "rig/history.h"
#include "rig/kits/line.h"

namespace calm::rig {
namespace {

Part boxAt(const Vec3& at, Role role = Role::dynamic) {
  Part p;
  p.name = "crate";
  p.role = role;
  p.pose.position = at;
  return p;
}

TEST(Edits, PartsGetFreeNamesAndNewIds) {
  Rig rig;
  const Id a = addPart(rig, boxAt({0, 0, 0})), b = addPart(rig, boxAt({2, 0, 0}));
  EXPECT_NE(a, b);
  EXPECT_EQ(rig.part(a)->name, "crate");
  EXPECT_EQ(rig.part(b)->name, "crate 2");
}

TEST(Edits, JointSitsInTheMiddleOfTheGap) {
  Rig rig;
  const Id a = addPart(rig, boxAt({0, 0, 0})), b = addPart(rig, boxAt({1.5, 0.2, 0}));
  const Vec3 pivot = likelyPivot(rig, a, b);
  EXPECT_NEAR(pivot.x(), 0.75, 1e-9);
  const Id id = addJoint(rig, JointType::hinge, a, b, pivot, likelyAxis(rig, a, b));
  EXPECT_LE((restPivot(rig, *rig.joint(id)) - pivot).norm(), 1e-12);
  EXPECT_TRUE(faultsOf(rig).empty());
}

TEST(Edits, ImpossibleJointsAreRefusedAndLeaveNothing) {
  Rig rig;
  const Id a = addPart(rig, boxAt({0, 0, 0})), wall = addPart(rig, boxAt({2, 0, 0}, Role::fixed));
  EXPECT_THROW(addJoint(rig, JointType::ball, a, a, {0, 0, 0}, Vec3::UnitX()), std::invalid_argument);
  EXPECT_THROW(addJoint(rig, JointType::ball, kNone, wall, {0, 0, 0}, Vec3::UnitX()), std::invalid_argument);
  EXPECT_THROW(addJoint(rig, JointType::ball, a, 99, {0, 0, 0}, Vec3::UnitX()), std::invalid_argument);
  EXPECT_TRUE(rig.joints.empty());
}

TEST(Edits, RemovingAPartTakesItsJoints) {
  Rig rig;
  const Id a = addPart(rig, boxAt({0, 0, 0})), b = addPart(rig, boxAt({2, 0, 0}));
  addJoint(rig, JointType::ball, a, b, {1, 0, 0}, Vec3::UnitX());
  remove(rig, {a});
  EXPECT_TRUE(rig.joints.empty());
  EXPECT_EQ(rig.parts.size(), 1u);
}

TEST(Edits, NamesStayUniqueAndWhole) {
  Rig rig;
  const Id a = addPart(rig, boxAt({0, 0, 0}));
  addPart(rig, boxAt({2, 0, 0}));
  EXPECT_THROW(rename(rig, a, "crate 2"), std::invalid_argument);
  EXPECT_THROW(rename(rig, a, ""), std::invalid_argument);
  rename(rig, a, "bollard");
  EXPECT_EQ(rig.part(a)->name, "bollard");
}

TEST(History, UndoesRedoesAndMergesDrags) {
  History history;
  history.apply("add", [](Rig& r) { addPart(r, boxAt({0, 0, 0})); });
  for (int i = 1; i <= 5; ++i)
    history.apply(
        "drag", [i](Rig& r) { r.parts[0].pose.position.x() = i; }, "drag crate");
  EXPECT_EQ(history.now().parts[0].pose.position.x(), 5);
  EXPECT_EQ(history.undoName(), "drag");
  history.undo();
  EXPECT_EQ(history.now().parts[0].pose.position.x(), 0);
  EXPECT_EQ(history.redoName(), "drag");
  history.redo();
  EXPECT_EQ(history.now().parts[0].pose.position.x(), 5);
  history.undo();
  history.undo();
  EXPECT_FALSE(history.canUndo());
  EXPECT_TRUE(history.now().parts.empty());
}

TEST(History, AFailedEditChangesNothing) {
  History history;
  EXPECT_THROW(history.apply("bad",
                             [](Rig& r) {
                               addPart(r, boxAt({0, 0, 0}));
                               throw std::invalid_argument("no");
                             }),
               std::invalid_argument);
  EXPECT_TRUE(history.now().parts.empty());
  EXPECT_FALSE(history.canUndo());
}

TEST(History, KnowsWhatIsSaved) {
  History history;
  EXPECT_FALSE(history.unsaved());
  history.apply("add", [](Rig& r) { addPart(r, boxAt({0, 0, 0})); });
  EXPECT_TRUE(history.unsaved());
  history.markSaved();
  EXPECT_FALSE(history.unsaved());
  history.undo();
  EXPECT_TRUE(history.unsaved());
}

// --- The Line kit ---

LineChoices slackLine() {
  LineChoices c;
  c.from = {{0, 2, 0}, kNone, true};
  c.to = {{1.2, 1.7, 0.4}, kNone, true};
  c.length = 2;
  c.links = 31;
  return c;
}

// In the discrete catenary the tangents of the slopes rise by equal steps, since every link weighs the same.
TEST(LineKit, SlackLineHangsInADiscreteCatenary) {
  const LineChoices c = slackLine();
  const std::vector<Vec3> corners = lineCorners(c, Vec3(0, -9.81, 0));
  ASSERT_EQ(corners.size(), 32u);
  EXPECT_LE((corners.front() - c.from.point).norm(), 1e-12);
  EXPECT_LE((corners.back() - c.to.point).norm(), 1e-9);
  std::vector<double> tangents;
  for (int i = 0; i < c.links; ++i) {
    const Vec3 link = corners[i + 1] - corners[i];
    EXPECT_NEAR(link.norm(), c.length / c.links, 1e-9);
    tangents.push_back(link.y() / std::hypot(link.x(), link.z()));
  }
  const double step = tangents[1] - tangents[0];
  EXPECT_GT(step, 0);
  for (int i = 2; i < c.links; ++i) EXPECT_NEAR(tangents[i] - tangents[i - 1], step, 1e-6 * step);
}

TEST(LineKit, TautLineIsStraight) {
  LineChoices c = slackLine();
  c.length = (c.to.point - c.from.point).norm();
  const std::vector<Vec3> corners = lineCorners(c, Vec3(0, -9.81, 0));
  for (std::size_t i = 0; i < corners.size(); ++i)
    EXPECT_LE((corners[i] - (c.from.point + (c.to.point - c.from.point) * (double(i) / c.links))).norm(), 1e-12);
}

TEST(LineKit, EndsAboveOneAnotherHangInALoop) {
  LineChoices c = slackLine();
  c.to.point = {0, 1, 0};
  const std::vector<Vec3> corners = lineCorners(c, Vec3(0, -9.81, 0));
  double lowest = 2;
  for (const Vec3& p : corners) {
    EXPECT_TRUE(p.allFinite());
    lowest = std::min(lowest, p.y());
  }
  EXPECT_NEAR(lowest, 0.5, 0.05);
}

TEST(LineKit, MakesLinksAndJointsTiedToItsEnds) {
  Rig rig;
  const Id crate = addPart(rig, boxAt({1.2, 1.2, 0.4}));
  LineChoices c = slackLine();
  c.to.part = crate;
  const Id line = makeLine(rig, c);
  EXPECT_EQ(rig.parts.size(), 1u + 31);
  EXPECT_EQ(rig.joints.size(), 32u);
  EXPECT_EQ(rig.joints.back().b.part, crate);
  EXPECT_TRUE(faultsOf(rig).empty());
  double mass = 0;
  for (const Part& p : rig.parts)
    if (p.group == line) mass += p.mass();
  EXPECT_NEAR(mass, c.massPerMetre * c.length, 1e-12);
  for (const Joint& j : rig.joints)
    EXPECT_LE((restFrame(rig, j.a).position - restFrame(rig, j.b).position).norm(), 1e-9) << j.name;
  remove(rig, {line});
  EXPECT_EQ(rig.parts.size(), 1u);
  EXPECT_TRUE(rig.joints.empty());
  EXPECT_TRUE(rig.groups.empty());
}

TEST(LineKit, IsMadeAnewAfterOtherChoicesAndKeepsWhatWasSetByHand) {
  Rig rig;
  Part p;
  p.name = "float";
  p.pose.position = {1.2, 1.8, 0};
  const Id buoy = addPart(rig, p);
  LineChoices c;
  c.from.point = {0, 2, 0};
  c.to = {{1, 2, 0}, buoy, true};
  c.length = 1.4, c.links = 8;
  const Id line = makeLine(rig, c);
  const auto linkOf = [&](int n) {
    int k = 0;
    for (const Part& q : rig.parts)
      if (q.group == line && ++k == n) return q.id;
    return kNone;
  };
  rig.joints[3].breakForce = 700;
  rig.part(linkOf(3))->friction = 0.9;
  const Id fourth = rig.joints[3].id, third = linkOf(3);
  p.name = "lamp";
  p.pose.position = {1, 1, 0};
  const Id lamp = addPart(rig, p);
  const Id hook = addJoint(rig, JointType::ball, linkOf(8), lamp, {1, 1.5, 0}, Vec3::UnitX());

  LineChoices now = choicesOf(rig, line);
  EXPECT_NEAR((now.to.point - c.to.point).norm(), 0, 1e-9);
  EXPECT_EQ(now.to.part, buoy);
  now.links = 12, now.thickness = 0.03;
  remakeLine(rig, line, now);
  EXPECT_TRUE(faultsOf(rig).empty());
  EXPECT_EQ(std::get<Line>(rig.group(line)->form).links, 12);
  EXPECT_EQ(std::count_if(rig.parts.begin(), rig.parts.end(), [&](const Part& q) { return q.group == line; }), 12);
  EXPECT_EQ(rig.joint(fourth)->breakForce, 700);
  EXPECT_EQ(linkOf(3), third) << "what stays keeps its id";
  EXPECT_EQ(rig.part(third)->friction, 0.9);
  EXPECT_EQ(std::get<Capsule>(rig.part(third)->shape).radius, 0.015);

  now.links = 5;
  const Vec3 hung = restFrame(rig, rig.joint(hook)->a).position;
  remakeLine(rig, line, now);
  EXPECT_TRUE(faultsOf(rig).empty());
  EXPECT_EQ(rig.part(rig.joint(hook)->a.part)->group, line) << "what hung on a link that is gone hangs on the nearest";
  EXPECT_LT((restFrame(rig, rig.joint(hook)->a).position - hung).norm(), 1e-9);
  double worst = 0;
  for (const Joint& j : rig.joints)
    if (j.group == line) worst = std::max(worst, (restFrame(rig, j.a).position - restFrame(rig, j.b).position).norm());
  EXPECT_LT(worst, 1e-9);
  now.length = 0.2;
  const Rig before = rig;
  EXPECT_THROW(remakeLine(rig, line, now), std::invalid_argument) << "too short for its ends";
  EXPECT_EQ(rig.parts.size(), before.parts.size());
}

TEST(LineKit, RefusesWhatCannotBe) {
  const auto fault = [](auto change) {
    LineChoices c = slackLine();
    change(c);
    return faultOf(c);
  };
  EXPECT_EQ(faultOf(slackLine()), "");
  EXPECT_NE(fault([](LineChoices& c) { c.length = 0.5; }).find("apart"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.links = 0; }).find("links"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.massPerMetre = -1; }).find("mass"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.thickness = std::nan(""); }).find("thickness"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.thickness = 0.5; }).find("thick"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.to.point = c.from.point; }).find("same point"), std::string::npos);
  EXPECT_NE(fault([](LineChoices& c) { c.from.tied = c.to.tied = false; }).find("tied"), std::string::npos);
}

}  // namespace
}  // namespace calm::rig
