// SPDX-License-Identifier: GPL-3.0-or-later
// Joints by hand in the View, measuring, choosing, grouping, sharing and doing again.
#include <QCheckBox>
#include <QComboBox>

#include "app/find/panel.h"
#include "app/view/view.h"
#include "window/assembling.h"

namespace calm::app {
namespace {

class Choosing : public Assembling {
 protected:
  QPointF seen(const Vec3& at) {
    const auto pixel = window.view()->camera().project(at);
    EXPECT_TRUE(pixel.has_value());
    return pixel.value_or(QPointF());
  }
  JointHandle jointHandle(JointHandle::Kind kind, int end = 0) {
    for (const JointHandle& h : window.view()->jointGrip().handles(window.view()->camera()))
      if (h.kind == kind && h.end == end) return h;
    ADD_FAILURE() << "no such handle";
    return {};
  }
  void press(QPointF at, Qt::KeyboardModifiers modifiers = {}) {
    QTest::mousePress(window.view(), Qt::LeftButton, modifiers, at.toPoint());
  }
  void moveTo(const QPointF& at) { QTest::mouseMove(window.view(), at.toPoint()); }
  void release(const QPointF& at, Qt::KeyboardModifiers modifiers = {}) {
    QTest::mouseRelease(window.view(), Qt::LeftButton, modifiers, at.toPoint());
  }
  Pose frameOf(const rig::Rig& rig, const char* joint) { return rig::restFrame(rig, rig.joint(idNamed(joint))->b); }
};

TEST_F(Choosing, APivotIsDraggedAndSnapsToACorner) {
  if (!viewIsThere()) return;
  select({"pintle"});
  const Vec3 corner(0.12, 1.6, 0.03);  // of the leaf
  const QPointF from = seen(jointHandle(JointHandle::Kind::pivot).at), to = seen(corner);
  press(from);
  moveTo((from + to) / 2);
  moveTo(to);
  EXPECT_TRUE(session.preview().pivot.has_value()) << "shown before it is done";
  release(to);
  const rig::Rig now = saved();
  EXPECT_LT((frameOf(now, "pintle").position - corner).norm(), 1e-9);
  EXPECT_LT((rig::restFrame(now, now.joint(idNamed("pintle"))->a).position - corner).norm(), 1e-9);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_NEAR(frameOf(session.rig(), "pintle").position.y(), 1, 1e-9);
}

TEST_F(Choosing, AnAxisIsDraggedOntoTheWorlds) {
  if (!viewIsThere()) return;
  select({"pintle"});
  const Vec3 pivot = jointHandle(JointHandle::Kind::pivot).at;
  const QPointF from = seen(jointHandle(JointHandle::Kind::axis).at);
  const double length = (jointHandle(JointHandle::Kind::axis).at - pivot).norm();
  const QPointF to = seen(pivot + length * Vec3::UnitX()) + QPointF(2, -2);
  press(from);
  moveTo((from + to) / 2);
  moveTo(to);
  release(to);
  EXPECT_LT((frameOf(saved(), "pintle").rotation * Vec3::UnitX() - Vec3::UnitX()).norm(), 1e-9);
}

TEST_F(Choosing, AnEndIsTiedToAnotherPartByDragging) {
  if (!viewIsThere()) return;
  select({"pintle"});
  const QPointF from = seen(jointHandle(JointHandle::Kind::end, 1).at), to = seen({0.5, 0.2, 1.5});
  press(from);
  moveTo((from + to) / 2);
  moveTo(to);
  release(to);
  const rig::Rig now = saved();
  EXPECT_EQ(now.joint(idNamed("pintle"))->b.part, idNamed("crate 1"));
  EXPECT_LT((frameOf(now, "pintle").position - Vec3(0.1, 1, 0)).norm(), 1e-9) << "the pivot stays";
}

TEST_F(Choosing, AStrokeJoinsWhatItCrossesAndARingIsClosedByComingBack) {
  if (!viewIsThere()) return;
  const QPointF one = seen({0.5, 0.2, 1.5}), two = seen({1, 0.2, 1.5}), three = seen({1.5, 0.2, 1.5});
  press(one, Qt::AltModifier);
  for (const QPointF& p : {(one + two) / 2, two, (two + three) / 2, three}) moveTo(p);
  release(three, Qt::AltModifier);
  rig::Rig now = saved();
  ASSERT_EQ(now.joints.size(), 3u);
  EXPECT_EQ(now.joints[1].type, JointType::ball);
  EXPECT_EQ(now.joints[1].a.part, idNamed("crate 1"));
  EXPECT_EQ(now.joints[1].b.part, idNamed("crate 2"));
  EXPECT_EQ(session.selection().size(), 2u) << "the new joints are selected";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().joints.size(), 1u);
  press(one, Qt::AltModifier);
  for (const QPointF& p : {two, three, two, one}) moveTo(p);
  release(one, Qt::AltModifier);
  EXPECT_EQ(saved().joints.size(), 4u) << "and the last to the first";
  press(two, Qt::AltModifier);
  moveTo(three);
  QTest::keyClick(window.view(), Qt::Key_Escape);
  release(three, Qt::AltModifier);
  EXPECT_EQ(session.rig().joints.size(), 4u) << "Escape lets go";
}

TEST_F(Choosing, TheRulerMeasuresBetweenFeatures) {
  if (!viewIsThere()) return;
  key(Qt::Key_M);
  ASSERT_TRUE(window.view()->measure().isOn());
  for (const Vec3& at : {Vec3(0.5, 0.2, 1.5), Vec3(1.5, 0.2, 1.5)}) {
    moveTo(seen(at));
    QTest::mouseClick(window.view(), Qt::LeftButton, {}, seen(at).toPoint());
  }
  EXPECT_EQ(window.view()->measure().reading(), "1 m; x 1 m, y 0 m, z 0 m");
  EXPECT_TRUE(session.selection().empty()) << "measuring selects nothing";
  key(Qt::Key_M);
  EXPECT_FALSE(window.view()->measure().isOn());
}

TEST_F(Choosing, KeysChangeWhatIsSeenAndPicked) {
  if (!viewIsThere()) return;
  View& view = *window.view();
  key(Qt::Key_N);
  key(Qt::Key_X, Qt::ShiftModifier);
  key(Qt::Key_BracketRight);
  EXPECT_TRUE(view.showsNames());
  EXPECT_TRUE(view.seesThrough());
  EXPECT_NEAR(view.signSize(), 1.4, 1e-9);
  view.grab();  // draws all that without a fault
  const QPointF pivot = seen({0.1, 1, 0});
  EXPECT_EQ(view.pickAt(pivot).joint, idNamed("pintle"));
  key(Qt::Key_F);
  EXPECT_EQ(view.pickAt(pivot).joint, rig::kNone) << "parts only";
  key(Qt::Key_F);
  EXPECT_EQ(view.pickAt(seen({0.5, 0.2, 1.5})).part, rig::kNone) << "joints only";
  key(Qt::Key_F);
  EXPECT_EQ(view.pickAt(seen({0.5, 0.2, 1.5})).part, idNamed("crate 1"));
}

TEST_F(Choosing, SelectionGrowsAlongTheRailAndTakesWhatIsAlike) {
  select({"leaf"});
  key(Qt::Key_G);
  EXPECT_EQ(session.selection(), (std::set<rig::Id>{idNamed("leaf"), idNamed("pintle")}));
  key(Qt::Key_G, Qt::ShiftModifier);
  EXPECT_EQ(session.selection(), (std::set<rig::Id>{idNamed("leaf"), idNamed("pintle"), idNamed("post")}));
  select({"crate 1"});
  key(Qt::Key_T);
  EXPECT_EQ(session.selection().size(), 4u) << "the crates and the leaf are dynamic boxes, the post is not";
}

TEST_F(Choosing, TagsAreTypedAndFound) {
  select({"crate 1", "crate 3"});
  enter("Tags", "wet, left");
  rig::Rig now = saved();
  EXPECT_EQ(now.part(idNamed("crate 3"))->tags, (std::set<std::string>{"left", "wet"}));
  session.select({});
  key(Qt::Key_Slash);
  type("Find", "tag wet");
  QTest::keyClick(named<QLineEdit>("Find"), Qt::Key_Return);
  EXPECT_EQ(session.selection(), (std::set<rig::Id>{idNamed("crate 1"), idNamed("crate 3")}));
}

TEST_F(Choosing, PartsAreGroupedAndLetGo) {
  select({"crate 1", "crate 2"});
  key(Qt::Key_G, Qt::ControlModifier);
  rig::Rig now = saved();
  ASSERT_EQ(now.groups.size(), 1u);
  EXPECT_EQ(now.part(idNamed("crate 2"))->group, now.groups[0].id);
  EXPECT_EQ(session.selected(), now.groups[0].id);
  key(Qt::Key_G, Qt::ControlModifier | Qt::ShiftModifier);
  EXPECT_TRUE(saved().groups.empty());
  EXPECT_EQ(session.rig().parts.size(), 5u);
}

TEST_F(Choosing, ASettingIsDoneAgainToOthers) {
  select({"crate 1"});
  enter("Friction", "0.8");
  select({"crate 2", "crate 3"});
  window.setFocus();
  key(Qt::Key_R);
  const rig::Rig now = saved();
  EXPECT_EQ(now.part(idNamed("crate 2"))->friction, 0.8);
  EXPECT_EQ(now.part(idNamed("crate 3"))->friction, 0.8);
  EXPECT_EQ(now.part(idNamed("leaf"))->friction, 0.5);
}

TEST_F(Choosing, SettingsAreSharedWithTheOtherSelectedJoints) {
  session.edit("second gate", [&](rig::Rig& rig) {
    const rig::Id joint =
        rig::addJoint(rig, JointType::hinge, idNamed("post"), idNamed("crate 1"), {-0.3, 1, 0}, Vec3::UnitY());
    rig.joint(joint)->name = "twin";
  });
  select({"pintle", "twin"});
  key(Qt::Key_S);
  named<QComboBox>("From")->setCurrentText("pintle");
  named<QCheckBox>("The other way round where mirrored")->click();
  pressMake();
  const AxisDef twin = saved().joint(idNamed("twin"))->axes[0];
  EXPECT_NEAR(twin.low, -60 * kDegree, 1e-12);
  EXPECT_NEAR(twin.high, 10 * kDegree, 1e-12);
}

TEST_F(Choosing, AJointsAlternativesAreOneKeyAway) {
  select({"crate 1", "crate 2"});
  key(Qt::Key_J);
  auto* panel = window.maker();
  ASSERT_NE(panel, nullptr);
  panel->setFocus();
  QTest::keyClick(panel, Qt::Key_T);
  QTest::keyClick(panel, Qt::Key_X);
  QTest::keyClick(panel, Qt::Key_X);
  QTest::keyClick(panel, Qt::Key_W);
  QTest::keyClick(panel, Qt::Key_Return);
  const rig::Rig now = saved();
  ASSERT_EQ(now.joints.size(), 2u);
  EXPECT_EQ(now.joints[1].type, JointType::hinge) << "the type after ball";
  EXPECT_LT((rig::restFrame(now, now.joints[1].a).position - Vec3(0.5, 0.2, 1.5)).norm(), 1e-9) << "the first's centre";
  EXPECT_LT((rig::restFrame(now, now.joints[1].a).rotation * Vec3::UnitX() - Vec3::UnitY()).norm(), 1e-9);
}

TEST_F(Choosing, ARigOfANewerVersionIsOnlyLookedAt) {
  std::string text = rig::formatRig(gateRig());
  text.replace(text.find("\"version\": 1"), 12, "\"version\": 7");
  rig::writeWholeFile(folder_.filePath("later.rig.json").toStdString(), text);
  ASSERT_TRUE(session.open(folder_.filePath("later.rig.json")));
  EXPECT_TRUE(session.lastFault().contains("newer")) << "it says so";
  EXPECT_EQ(session.rig().parts.size(), 5u);
  EXPECT_FALSE(session.edit("change", [](rig::Rig& rig) { rig.name = "mine"; }));
  EXPECT_FALSE(session.save(folder_.filePath("later.rig.json")));
  finishRun();
  EXPECT_TRUE(session.hasFrames()) << "and run";
}

}  // namespace
}  // namespace calm::app
