// SPDX-License-Identifier: GPL-3.0-or-later
// Assembling by pointer and keys: handles, dials, copies, joints between many, advice, finding, and what is never lost.
#include "window/assembling.h"

#include <gmock/gmock.h>

#include <QComboBox>
#include <QDir>
#include <QSpinBox>

#include "app/advice/panel.h"
#include "app/dials/axis_dial.h"
#include "app/find/panel.h"
#include "app/make/import.h"
#include "app/recovery.h"
#include "app/view/view.h"
#include "rig/file.h"

namespace calm::app {
namespace {

TEST_F(Assembling, AStopIsDraggedOnItsDial) {
  select({"pintle"});
  auto* dial = named<AxisDial>("Stops of turn");
  ASSERT_NE(dial, nullptr);
  const std::string before = rig::formatRig(session.rig());
  drag(dial, dial->at(60 * kDegree), dial->at(90 * kDegree));
  EXPECT_NEAR(saved().joint(idNamed("pintle"))->axes[0].high, 90 * kDegree, 2 * kDegree);
  EXPECT_NEAR(pintle().low, -10 * kDegree, 1e-9) << "the other stop stays";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_TRUE(rig::formatRig(session.rig()) == before);
}

TEST_F(Assembling, AStopDraggedPastTheBottomIsTakenAway) {
  select({"pintle"});
  auto* dial = named<AxisDial>("Stops of turn");
  ASSERT_NE(dial, nullptr);
  QTest::mousePress(dial, Qt::LeftButton, {}, dial->at(60 * kDegree).toPoint());
  for (const double a : {100, 140, 170, 190})
    QTest::mouseMove(dial, dial->at(std::remainder(a * kDegree, 360 * kDegree)).toPoint());
  QTest::mouseRelease(dial, Qt::LeftButton, {}, dial->at(-170 * kDegree).toPoint());
  EXPECT_EQ(pintle().high, kNoLimit);
}

TEST_F(Assembling, NumbersAreTypedWithUnitsAndBadOnesAreRefused) {
  select({"pintle"});
  enter("High stop of turn", "45");
  EXPECT_NEAR(pintle().high, 45 * kDegree, 1e-9) << "bare angles are degrees";
  enter("High stop of turn", "1 rad");
  EXPECT_NEAR(pintle().high, 1, 1e-9);
  enter("High stop of turn", "soon");
  EXPECT_NEAR(pintle().high, 1, 1e-9);
  EXPECT_TRUE(session.lastFault().contains("soon")) << session.lastFault().toStdString();
  enter("High stop of turn", "-40 deg");
  EXPECT_NEAR(pintle().high, 1, 1e-9) << "below the low stop";
  QTest::mouseClick(named<QPushButton>("Motor, friction, spring of turn"), Qt::LeftButton);
  enter("Motor strength of turn", "2 kN m");
  EXPECT_NEAR(pintle().cap, 2000, 1e-9);
  enter("Motor speed of turn", "30 rpm");
  EXPECT_NEAR(saved().joint(idNamed("pintle"))->axes[0].speed, 3.14159265, 1e-6);
}

TEST_F(Assembling, NamesAreGivenByPattern) {
  select({"crate 3", "crate 1", "crate 2"});
  enter("Names", "fish box");
  EXPECT_TRUE(session.lastFault().contains("#")) << session.lastFault().toStdString();
  enter("Names", "crate # of fish");
  const rig::Rig rig = saved();
  int found = 0;
  for (const rig::Part& p : rig.parts)
    for (int i = 1; i <= 3; ++i) found += p.name == "crate " + std::to_string(i) + " of fish";
  EXPECT_EQ(found, 3);
}

TEST_F(Assembling, TheRangeIsTriedByHandAndTeachesTheStops) {
  select({"pintle"});
  QTest::mouseClick(named<QPushButton>("Try the range of turn"), Qt::LeftButton);
  auto* dial = named<AxisDial>("Stops of turn");
  ASSERT_NE(dial, nullptr);
  const QPointF inside =
      (dial->at(30 * kDegree) * 2 + dial->at(-150 * kDegree)) / 3;  // on the needle's way, off the rim
  drag(dial, inside, inside);
  ASSERT_EQ(session.preview().moved.size(), 1u);
  EXPECT_EQ(session.preview().moved[0].name, "leaf");
  EXPECT_GT((session.preview().moved[0].pose.position - session.rig().part(idNamed("leaf"))->pose.position).norm(),
            0.2);
  QTest::mouseClick(named<QPushButton>("High here, turn"), Qt::LeftButton);
  EXPECT_NEAR(pintle().high, 30 * kDegree, 2 * kDegree);
  QApplication::processEvents();
  EXPECT_TRUE(session.preview().moved.empty()) << "the rig itself has not moved";
}

TEST_F(Assembling, SettingsGoToAllSelectedJoints) {
  session.edit("two more", [&](rig::Rig& rig) {
    for (const char* crate : {"crate 1", "crate 2"})
      for (const rig::Part& p : std::vector(rig.parts))
        if (p.name == crate) rig::addJoint(rig, JointType::hinge, rig::kNone, p.id, p.pose.position, Vec3::UnitY());
  });
  std::set<rig::Id> hinges;
  for (const rig::Joint& j : session.rig().joints) hinges.insert(j.id);
  session.select(hinges);
  enter("High stop of turn", "30 deg");
  for (const rig::Joint& j : saved().joints) EXPECT_NEAR(j.axes[0].high, 30 * kDegree, 1e-9) << j.name;
  auto* box = named<QComboBox>("Joint type");
  ASSERT_NE(box, nullptr);
  box->setCurrentIndex(box->findText("fixed"));
  emit box->activated(box->currentIndex());
  for (const rig::Joint& j : session.rig().joints) EXPECT_EQ(j.type, JointType::fixed) << j.name;
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().joints[0].type, JointType::hinge) << "one step for all";
}

TEST_F(Assembling, APartIsMovedTurnedAndSizedByItsHandles) {
  if (!viewIsThere()) return;
  View& view = *window.view();
  view.camera().face(0, 0);
  select({"crate 2"});
  const auto handle = [&](GripHandle::Kind kind, int axis) {
    for (const GripHandle& h : view.grip().handles(view.camera()))
      if (h.kind == kind && h.axis == axis && h.side > 0) return *view.camera().project(h.at);
    ADD_FAILURE() << "no such handle";
    return QPointF();
  };
  const auto part = [&] { return *session.rig().part(idNamed("crate 2")); };
  const Vec3 before = part().pose.position;
  const QPointF arrow = handle(GripHandle::Kind::move, 1);
  drag(&view, arrow, arrow - QPointF(0, 90));
  const double lifted = part().pose.position.y() - before.y();
  const double meant = 90 * view.camera().metresPerPixel(before);
  EXPECT_NEAR(lifted, meant, 0.15 * meant) << "as far as the pointer went, or to the next snap";
  EXPECT_NEAR(part().pose.position.x(), before.x(), 1e-9);

  // An exact number, typed while the arrow is held.
  const QPointF along = handle(GripHandle::Kind::move, 0);
  QTest::mousePress(&view, Qt::LeftButton, {}, along.toPoint());
  QTest::mouseMove(&view, (along + QPointF(20, 0)).toPoint());
  QTest::keyClicks(&view, "12.5 cm");
  QTest::keyClick(&view, Qt::Key_Return);
  QTest::mouseRelease(&view, Qt::LeftButton, {}, along.toPoint());
  EXPECT_NEAR(part().pose.position.x() - before.x(), 0.125, 1e-9);

  const QPointF bow = handle(GripHandle::Kind::turn, 2);
  QTest::mousePress(&view, Qt::LeftButton, {}, bow.toPoint());
  QTest::mouseMove(&view, (bow + QPointF(-9, -3)).toPoint());
  QTest::keyClicks(&view, "30");
  QTest::keyClick(&view, Qt::Key_Return);
  QTest::mouseRelease(&view, Qt::LeftButton, {}, bow.toPoint());
  EXPECT_NEAR(Eigen::AngleAxisd(part().pose.rotation).angle(), 30 * kDegree, 1e-9);

  const QPointF knob = handle(GripHandle::Kind::size, 0);
  QTest::mousePress(&view, Qt::LeftButton, {}, knob.toPoint());
  QTest::mouseMove(&view, (knob + QPointF(15, 0)).toPoint());
  QTest::keyClicks(&view, "0.6");
  QTest::keyClick(&view, Qt::Key_Return);
  QTest::mouseRelease(&view, Qt::LeftButton, {}, knob.toPoint());
  EXPECT_NEAR(std::get<calm::Box>(saved().part(idNamed("crate 2"))->shape).size.x(), 0.6, 1e-9);

  for (int i = 0; i < 4; ++i) key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_LT((part().pose.position - before).norm(), 1e-12) << "every drag was one step";

  const QPointF again = handle(GripHandle::Kind::move, 0);
  QTest::mousePress(&view, Qt::LeftButton, {}, again.toPoint());
  QTest::mouseMove(&view, (again + QPointF(40, 0)).toPoint());
  QTest::keyClick(&view, Qt::Key_Escape);
  QTest::mouseRelease(&view, Qt::LeftButton, {}, again.toPoint());
  EXPECT_LT((part().pose.position - before).norm(), 1e-12) << "Escape lets all be as it was";
}

TEST_F(Assembling, ABoxSelectsAndHidingPutsOutOfTheWay) {
  if (!viewIsThere()) return;
  View& view = *window.view();
  view.camera().face(0, 0);
  std::set<rig::Id> crates;
  QRectF box;
  for (const char* name : {"crate 1", "crate 2", "crate 3"}) {
    crates.insert(idNamed(name));
    const QPointF at = *view.camera().project(session.rig().part(idNamed(name))->pose.position);
    box = box.united(QRectF(at - QPointF(4, 4), QSizeF(8, 8)));
  }
  QTest::mousePress(&view, Qt::LeftButton, Qt::ControlModifier, box.topLeft().toPoint());
  QTest::mouseMove(&view, box.center().toPoint());
  QTest::mouseMove(&view, box.bottomRight().toPoint());
  QTest::mouseRelease(&view, Qt::LeftButton, Qt::ControlModifier, box.bottomRight().toPoint());
  EXPECT_EQ(session.selection(), crates);
  key(Qt::Key_H);
  EXPECT_EQ(view.hidden(), crates);
  const QPointF second = *view.camera().project(session.rig().part(idNamed("crate 2"))->pose.position);
  EXPECT_NE(view.pickAt(second).part, idNamed("crate 2")) << "what is hidden is not picked";
  key(Qt::Key_H, Qt::ShiftModifier);
  EXPECT_TRUE(view.hidden().empty());
  select({"leaf"});
  key(Qt::Key_I);
  EXPECT_EQ(view.hidden().size(), 4u);
  key(Qt::Key_I);
  EXPECT_TRUE(view.hidden().empty());
}

TEST_F(Assembling, DuplicatesAreRewired) {
  select({"post", "leaf"});
  key(Qt::Key_D, Qt::ControlModifier);
  const rig::Rig rig = saved();
  ASSERT_EQ(rig.joints.size(), 2u);
  EXPECT_EQ(rig.partName(rig.joints[1].a.part), "post 2");
  EXPECT_EQ(rig.partName(rig.joints[1].b.part), "leaf 2");
  EXPECT_NEAR(rig.joints[1].axes[0].high, 60 * kDegree, 1e-9);
  EXPECT_EQ(session.selection().size(), 2u) << "the copies are selected";
}

TEST_F(Assembling, CopiesAreMadeInARowAndMirrored) {
  select({"crate 3"});
  key(Qt::Key_R, Qt::ControlModifier);
  named<QSpinBox>("Copies")->setValue(4);
  type("Step z", "50 cm");
  EXPECT_EQ(session.preview().moved.size(), 4u);
  pressMake();
  EXPECT_EQ(saved().parts.size(), 9u);
  select({"post", "leaf"});
  key(Qt::Key_R, Qt::ControlModifier);
  named<QComboBox>("How")->setCurrentIndex(1);
  pressMake();
  const AxisDef& mirrored = session.rig().joints.back().axes[0];
  EXPECT_NEAR(mirrored.low, -60 * kDegree, 1e-9) << "stops are turned round";
  EXPECT_NEAR(mirrored.high, 10 * kDegree, 1e-9);
}

TEST_F(Assembling, ManyAreJoinedAtOnce) {
  select({"crate 1", "crate 2", "crate 3"});
  key(Qt::Key_J, Qt::ShiftModifier);
  pressMake();
  ASSERT_EQ(session.rig().joints.size(), 3u);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().joints.size(), 1u);
  select({"crate 1", "crate 2", "crate 3"});
  key(Qt::Key_J, Qt::ShiftModifier);
  named<QComboBox>("Join")->setCurrentIndex(2);
  type("Gap at most", "5 cm");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled()) << "they are 10 cm apart";
  type("Gap at most", "11 cm");
  EXPECT_EQ(window.maker()->findChild<QLabel*>("outcome")->text(), "Makes 2 joints.");
  pressMake();
  EXPECT_EQ(saved().joints.size(), 3u);
}

TEST_F(Assembling, APartIsCutIntoJoinedPieces) {
  select({"leaf"});
  key(Qt::Key_C);
  named<QSpinBox>("Pieces")->setValue(5);
  pressMake();
  const rig::Rig rig = saved();
  EXPECT_EQ(rig.parts.size(), 5u + 4u);
  EXPECT_EQ(rig.joints.size(), 1u + 4u);
}

TEST_F(WindowTest, ALinesChoicesStayOpen) {
  const rig::Id id = idNamed("hoist chain");
  const auto line = [&] { return std::get<rig::Line>(session.rig().group(id)->form); };
  session.select({id});
  enter("Links", "30");
  EXPECT_EQ(line().links, 30);
  std::size_t joints = 0;
  for (const rig::Joint& j : session.rig().joints) joints += j.group == id;
  EXPECT_EQ(joints, 31u) << "both ends are still tied";
  EXPECT_NE(session.rig().joint(idNamed("hoist chain 14"))->breakForce, std::nullopt) << "its strength was set by hand";
  enter("Length", "1 mm");
  EXPECT_EQ(line().links, 30);
  EXPECT_GT(line().length, 0.1) << "too short for its ends";
  EXPECT_EQ(named<QLineEdit>("Length")->text(), "2 m") << "the Card shows what is";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(line().links, 40);
}

TEST_F(Assembling, AKitStandsWhereItIsAskedForAndItsChoicesStayOpen) {
  key(Qt::Key_K);
  ASSERT_NE(window.maker(), nullptr);
  auto* kind = named<QComboBox>("Kit");
  kind->setCurrentText("ladder");
  kind->setCurrentText("door");
  type("Name", "sluice");
  type("Stands at x", "3 m");
  type("Leaf width", "80 cm");
  EXPECT_TRUE(window.maker()->findChild<QLabel*>("outcome")->text().contains("At the handle")) << "effort is foretold";
  type("Hinges", "none");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
  type("Hinges", "3");
  pressMake();
  rig::Rig now = saved();
  ASSERT_EQ(now.groups.size(), 1u);
  EXPECT_EQ(std::get<rig::Door>(now.groups[0].form).hinges, 3);
  const rig::Id leaf = idNamed("sluice leaf");
  EXPECT_NEAR(now.part(leaf)->pose.position.x(), 3.4, 0.1);
  // The new group is selected, its choices are on the Card.
  enter("Leaf width", "1.2 m");
  now = saved();
  EXPECT_EQ(std::get<calm::Box>(now.part(leaf)->shape).size.x(), 1.2);
  enter("Leaf width", "wide");
  EXPECT_EQ(std::get<calm::Box>(session.rig().part(leaf)->shape).size.x(), 1.2);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(std::get<calm::Box>(session.rig().part(leaf)->shape).size.x(), 0.8);
}

TEST_F(Assembling, MassIsGivenByValueDensityOrFactorAndItsSpreadByHand) {
  select({"crate 1"});
  enter("Mass", "20 kg");
  enter("Mass", "x 1.5");
  EXPECT_NEAR(saved().part(idNamed("crate 1"))->mass(), 30, 1e-9);
  enter("Density", "500");
  EXPECT_NEAR(saved().part(idNamed("crate 1"))->mass(), 32, 1e-9) << "0.4 m cubed";
  enter("Centre of mass y", "-5 cm");
  enter("Inertia about z, kg m\u00b2", "0.9");
  const rig::Part crate = *saved().part(idNamed("crate 1"));
  EXPECT_EQ(crate.center->y(), -0.05);
  EXPECT_EQ((*crate.inertia)(2, 2), 0.9);
  EXPECT_NEAR((*crate.inertia)(0, 0), 32 * 0.16 / 6, 1e-9) << "the others stay the solid's";
  enter("Mass", "heavy");
  EXPECT_NEAR(session.rig().part(crate.id)->mass(), 32, 1e-9);
  EXPECT_TRUE(session.lastFault().contains("heavy"));
  enter("Inertia about z, kg m\u00b2", "");
  EXPECT_FALSE(saved().part(crate.id)->inertia) << "an empty field gives it back to the solid";
}

TEST_F(Assembling, ShiftSizesAllAlike) {
  if (!viewIsThere()) return;
  select({"crate 3"});
  const Camera& camera = window.view()->camera();
  for (const GripHandle& h : window.view()->grip().handles(camera)) {
    if (h.kind != GripHandle::Kind::size || h.axis != 1 || h.side < 0) continue;
    const QPointF from = *camera.project(h.at), to = *camera.project(h.at + Vec3(0, 0.4, 0));
    QTest::mousePress(window.view(), Qt::LeftButton, {}, from.toPoint());
    for (const QPointF& p : {(from + to) / 2, to}) {
      QMouseEvent move(QEvent::MouseMove, p, window.view()->mapToGlobal(p), Qt::NoButton, Qt::LeftButton,
                       Qt::ShiftModifier);
      QApplication::sendEvent(window.view(), &move);
    }
    QTest::mouseRelease(window.view(), Qt::LeftButton, {}, to.toPoint());
    break;
  }
  const rig::Part crate = *saved().part(idNamed("crate 3"));
  const Vec3 size = std::get<calm::Box>(crate.shape).size;
  EXPECT_NEAR(size.y(), 0.8, 0.1);
  EXPECT_NEAR(size.x(), size.y(), 1e-9);
  EXPECT_LT((crate.pose.position - Vec3(1.5, 0.2, 1.5)).norm(), 1e-9) << "about its middle";
}

TEST_F(Assembling, AMeshIsBroughtInWithAStandInThatIsChecked) {
  window.openPanel("import");
  auto* file = named<QLineEdit>("File");
  file->setText(DEMO_FOLDER "/meshes/none.obj");
  emit file->editingFinished();
  auto* panel = qobject_cast<ImportMaker*>(window.maker());
  ASSERT_NE(panel, nullptr);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !panel->isFitting(); }, 20000));
  EXPECT_FALSE(panel->findChild<QPushButton*>("make")->isEnabled()) << "there is no such file";
  file->setText(DEMO_FOLDER "/meshes/fairlead.obj");
  emit file->editingFinished();
  named<QComboBox>("Stand-in")->setCurrentText("convex pieces");
  ASSERT_TRUE(QTest::qWaitFor([&] { return !panel->isFitting(); }, 20000));
  EXPECT_TRUE(panel->findChild<QLabel*>("outcome")->text().startsWith("fairlead: covers 100.0 %")) << "the fit is told";
  EXPECT_EQ(session.preview().reference.size(), 1u) << "the mesh is shown beside its stand-in";
  pressMake();
  const rig::Rig now = saved();
  const rig::Part& part = *now.part(idNamed("fairlead"));
  EXPECT_TRUE(std::holds_alternative<Compound>(part.shape));
  EXPECT_NEAR(part.pose.position.y(), 0.2, 1e-6);
}

TEST_F(Assembling, AdviceIsShownAndMendedByOnePress) {
  session.edit("spoil", [&](rig::Rig& rig) { rig.joint(idNamed("pintle"))->axes[0].speed = 1; });
  ASSERT_TRUE(QTest::qWaitFor([&] { return !session.advising(); }, 20000));
  key(Qt::Key_A);
  const auto buttons = [&] {
    QStringList names;
    QApplication::processEvents();
    for (const QPushButton* b : window.findChild<AdvicePanel*>()->findChildren<QPushButton*>())
      if (b->text() == "Mend") names << b->accessibleName();
    return names;
  };
  const QStringList before = buttons();
  ASSERT_EQ(before.size(), 4) << before.join("; ").toStdString();  // three loose crates, one motor
  auto* mend = named<QPushButton>(before.back());
  ASSERT_NE(mend, nullptr);
  QTest::mouseClick(mend, Qt::LeftButton);
  EXPECT_GT(pintle().cap, 0);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !session.advising(); }, 20000));
  EXPECT_EQ(buttons().size(), 3);
  EXPECT_EQ(session.selected(), idNamed("pintle")) << "and shown";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(pintle().cap, 0);
}

TEST_F(Assembling, FindTakesActionsNamesAndRules) {
  key(Qt::Key_Slash);
  auto* words = named<QLineEdit>("Find");
  ASSERT_NE(words, nullptr);
  QTest::keyClicks(words, "crate 2");
  QTest::keyClick(words, Qt::Key_Return);
  EXPECT_EQ(session.selected(), idNamed("crate 2"));
  key(Qt::Key_Slash);
  QTest::keyClicks(words, "hinges with load above 1 N");
  QTest::keyClick(words, Qt::Key_Return);
  EXPECT_EQ(session.selected(), idNamed("pintle"));
  key(Qt::Key_Slash);
  QTest::keyClicks(words, "duplic");
  QTest::keyClick(words, Qt::Key_Return);
  EXPECT_TRUE(session.lastFault().contains("parts")) << "the action ran: only a joint is selected";
  EXPECT_FALSE(parseRule("crate 2"));
  EXPECT_FALSE(parseRule("hinges with load above lots"));
  EXPECT_EQ(parseRule("Hinges with load above 80 %")->loadAbove, 0.8);
}

TEST_F(Assembling, UnsavedWorkIsKeptAndFoundAgain) {
  const QString folder = folder_.filePath("recovery");
  {
    Recovery recovery(session, folder);
    recovery.keep();
    EXPECT_FALSE(QFile::exists(recovery.file())) << "nothing has changed yet";
    session.edit("move", [&](rig::Rig& rig) { rig.part(idNamed("crate 1"))->pose.position.y() = 3; });
    recovery.keep();
    ASSERT_TRUE(QFile::exists(recovery.file()));
    EXPECT_TRUE(Recovery::leftBehind(folder).isEmpty()) << "its owner lives";
    // What a crash would leave: the file of a process that is gone.
    ASSERT_TRUE(QFile::copy(recovery.file(), folder + "/999999999.rig.json"));
    session.save(folder_.filePath("kept.rig.json"));
    recovery.keep();
    EXPECT_FALSE(QFile::exists(recovery.file())) << "all is saved";
  }
  const QStringList left = Recovery::leftBehind(folder);
  ASSERT_EQ(left.size(), 1);
  session.show(rig::jibHoistSlice());
  ASSERT_TRUE(session.recover(left.front()));
  EXPECT_EQ(session.rig().part(idNamed("crate 1"))->pose.position.y(), 3);
  EXPECT_TRUE(session.unsaved());
  EXPECT_TRUE(session.path().isEmpty());
}

}  // namespace
}  // namespace calm::app
