// SPDX-License-Identifier: GPL-3.0-or-later
// Drives the real window: clicks, drags, keys, and what ends up on disk.
#include "app/window.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <QApplication>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTemporaryDir>
#include <QTest>

#include "app/advice/panel.h"
#include "app/card/card.h"
#include "app/card/strength_gauge.h"
#include "app/ledger/ledger.h"
#include "app/make/maker.h"
#include "app/view/view.h"
#include "rig/demos.h"
#include "rig/edits.h"
#include "rig/file.h"
#include "window/fixture.h"

namespace calm::app {
namespace {

TEST_F(WindowTest, SpaceRunsAndPausesAndScrubbingShowsAnyMoment) {
  key(Qt::Key_Space);
  EXPECT_TRUE(session.playing());
  EXPECT_TRUE(QTest::qWaitFor([&] { return session.playhead() > 0.05; }, 20000)) << "the playhead moves on";
  key(Qt::Key_Space);
  EXPECT_FALSE(session.playing());
  const QPoint at(window.ledger()->xAt(5), 12);
  QTest::mouseClick(window.ledger()->viewport(), Qt::LeftButton, {}, at);
  EXPECT_NEAR(session.playhead(), 5, 0.05);
  const double before = session.playhead();
  key(Qt::Key_Period);
  EXPECT_NEAR(session.playhead(), before + 1.0 / 60, 1.0 / 60);
  key(Qt::Key_Home);
  EXPECT_EQ(session.playhead(), 0);
}

TEST_F(WindowTest, LedgerFoldsTheChainAndNamesItsWorstLink) {
  const auto& rows = window.ledger()->rows();
  ASSERT_EQ(rows.size(), 2u);
  EXPECT_EQ(rows[1].kind, LedgerRow::Kind::group);
  EXPECT_EQ(rows[1].joints.size(), 41u);
  window.ledger()->setUnfolded(rows[1].id, true);
  EXPECT_EQ(window.ledger()->rows().size(), 43u);
}

TEST_F(WindowTest, ClickingALaneSelectsTheJointAndGoesToTheMoment) {
  window.ledger()->setUnfolded(idNamed("hoist chain"), true);
  const int row = rowNamed("hoist chain 3");
  ASSERT_GE(row, 0);
  const QRect lane = window.ledger()->laneRect(row);
  QTest::mouseClick(window.ledger()->viewport(), Qt::LeftButton, {},
                    QPoint(window.ledger()->xAt(2), lane.center().y()));
  EXPECT_EQ(session.selected(), idNamed("hoist chain 3"));
  EXPECT_NEAR(session.playhead(), 2, 0.05);
}

TEST_F(WindowTest, ClickingInTheViewSelectsInTheLedgerToo) {
  if (!window.view()) return;  // said in another test
  const Pose stone = session.frame()->parts[3].pose;
  const auto at = window.view()->camera().project(stone.apply(Vec3(0, -0.2, 0)));
  ASSERT_TRUE(at);
  QTest::mouseClick(window.view(), Qt::LeftButton, {}, at->toPoint());
  EXPECT_EQ(session.selected(), idNamed("stone block"));
  const rig::Id joint = idNamed("hoist chain 20");
  session.select({joint});
  EXPECT_GE(rowNamed("hoist chain 20"), 0) << "a selected joint of a folded line is shown";
}

TEST_F(WindowTest, DraggingTheGaugeSetsAStrengthAndTheJointParts) {
  session.select({idNamed("hoist chain 7")});
  auto* gauge = named<StrengthGauge>("Break force gauge");
  ASSERT_NE(gauge, nullptr);
  const QPoint from = gauge->handleAt(9000).toPoint(), to = gauge->handleAt(5000).toPoint();
  QTest::mousePress(gauge, Qt::LeftButton, {}, from);
  QTest::mouseMove(gauge, to);
  bool foretold = false;
  for (QLabel* label : window.card()->findChildren<QLabel*>()) foretold |= label->text().contains("would part at");
  EXPECT_TRUE(foretold) << "the Card says before the run when it would part";
  QTest::mouseRelease(gauge, Qt::LeftButton, {}, to);
  const auto strength = session.rig().joint(idNamed("hoist chain 7"))->breakForce;
  ASSERT_TRUE(strength);
  EXPECT_NEAR(*strength, 5000, 120);
  finishRun();
  bool parted = false;
  for (std::size_t j = 0; j < session.rig().joints.size(); ++j) parted |= session.recording()->partedAt(j).has_value();
  EXPECT_TRUE(parted);
  EXPECT_FALSE(window.ledger()->partings().isEmpty());
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().joint(idNamed("hoist chain 7"))->breakForce, 9000);
}

TEST_F(WindowTest, TypedStrengthTakesUnitsAndRefusesNonsense) {
  session.select({idNamed("hoist chain 2")});
  type("Break force", "12 kN");
  QTest::keyClick(named<QLineEdit>("Break force"), Qt::Key_Return);
  EXPECT_EQ(session.rig().joint(idNamed("hoist chain 2"))->breakForce, 12000);
  type("Break force", "soft");
  QTest::keyClick(named<QLineEdit>("Break force"), Qt::Key_Return);
  EXPECT_EQ(session.rig().joint(idNamed("hoist chain 2"))->breakForce, 12000);
  EXPECT_TRUE(window.findChild<QLabel*>("message")->text().contains("soft"));
}

TEST_F(WindowTest, AddsAPartByTypingAndUndoesIt) {
  const std::size_t before = session.rig().parts.size();
  key(Qt::Key_P);
  ASSERT_NE(window.maker(), nullptr);
  type("Name", "bollard");
  named<QComboBox>("Shape")->setCurrentIndex(2);
  type("Radius", "15 cm");
  type("Length", "0.8");
  type("Centre x", "2");
  EXPECT_TRUE(session.preview().part) << "shown before it is made";
  pressMake();
  ASSERT_EQ(session.rig().parts.size(), before + 1);
  const rig::Part& p = session.rig().parts.back();
  EXPECT_EQ(p.name, "bollard");
  EXPECT_DOUBLE_EQ(std::get<calm::Capsule>(p.shape).radius, 0.15);
  EXPECT_EQ(window.maker(), nullptr);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().parts.size(), before);
  key(Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
  EXPECT_EQ(session.rig().parts.size(), before + 1);
}

TEST_F(WindowTest, ABadSizeIsNamedAndCannotBeMade) {
  key(Qt::Key_P);
  type("Width", "0");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
  type("Width", "wide");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
  key(Qt::Key_Escape);
  EXPECT_EQ(window.maker(), nullptr);
}

TEST_F(WindowTest, JoinsTwoPartsPickedInTheView) {
  rig::Rig rig;
  for (const double x : {-0.5, 0.6}) {
    rig::Part p;
    p.name = x < 0 ? "post" : "gate";
    p.role = x < 0 ? Role::fixed : Role::dynamic;
    p.shape = calm::Box{{0.5, 1, 0.2}};
    p.pose.position = {x, 1, 0};
    rig::addPart(rig, p);
  }
  session.show(rig);
  finishRun();
  key(Qt::Key_J);
  named<QComboBox>("Type")->setCurrentIndex(1);
  if (window.view()) {
    window.view()->frameAll();
    QTest::qWait(50);
    for (const double x : {-0.5, 0.6})
      QTest::mouseClick(window.view(), Qt::LeftButton, {}, window.view()->camera().project({x, 0.8, 0.1})->toPoint());
  } else {
    named<QComboBox>("First")->setCurrentIndex(1);
    named<QComboBox>("Second")->setCurrentIndex(2);
  }
  EXPECT_TRUE(session.preview().pivot) << "the pivot is shown before it is made";
  pressMake();
  ASSERT_EQ(session.rig().joints.size(), 1u);
  const rig::Joint& j = session.rig().joints[0];
  EXPECT_EQ(j.type, JointType::hinge);
  EXPECT_EQ(j.a.part, idNamed("post"));
  EXPECT_EQ(j.b.part, idNamed("gate"));
  EXPECT_NEAR(rig::restPivot(session.rig(), j).x(), 0.05, 1e-6) << "the middle of the gap";
}

TEST_F(WindowTest, DrawsALineAndSavesItWhole) {
  key(Qt::Key_L);
  type("From x", "2");
  type("To x", "3.5");
  type("Length", "2.4");
  EXPECT_GT(session.preview().line.size(), 2u);
  pressMake();
  ASSERT_EQ(session.rig().groups.size(), 2u);
  QTemporaryDir folder;
  const QString path = folder.filePath("two lines.rig.json");
  ASSERT_TRUE(session.save(path));
  EXPECT_FALSE(session.unsaved());
  EXPECT_TRUE(rig::formatRig(rig::loadRig(path.toStdString())) == rig::formatRig(session.rig()));
}

TEST_F(WindowTest, DeleteRenameAndRefusals) {
  session.select({idNamed("hoist chain 10")});
  window.card()->beginRename();
  QTest::keyClicks(named<QLineEdit>("Name"), "weak link");
  QTest::keyClick(named<QLineEdit>("Name"), Qt::Key_Return);
  EXPECT_NE(idNamed("weak link"), rig::kNone);
  session.select({idNamed("weak link")});
  window.view() ? window.view()->setFocus() : window.setFocus();
  key(Qt::Key_Delete);
  EXPECT_EQ(idNamed("weak link"), rig::kNone);
  EXPECT_EQ(session.rig().joints.size(), 40u);
  EXPECT_TRUE(QTest::qWaitFor([&] { return session.hasFrames(); }, 60000)) << "it runs without that joint";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().joints.size(), 41u);
}

TEST_F(WindowTest, AFileThatCannotBeReadLeavesTheRig) {
  const std::string before = rig::formatRig(session.rig());
  QTemporaryDir folder;
  QFile bad(folder.filePath("bad.rig.json"));
  ASSERT_TRUE(bad.open(QIODevice::WriteOnly));
  bad.write("{\"format\": \"calm-tether-rig\", \"version\": 1, \"parts\": [{\"id\": 1, \"name\": \"x\"}]}");
  bad.close();
  EXPECT_FALSE(session.open(bad.fileName()));
  EXPECT_TRUE(session.lastFault().contains("parts[0]")) << session.lastFault().toStdString();
  EXPECT_FALSE(session.save(folder.filePath("no/such/folder/x.rig.json")));
  EXPECT_TRUE(rig::formatRig(session.rig()) == before);
}

TEST_F(WindowTest, APartTiedToNothingIsShownLooseAndNamed) {
  session.edit("add", [](rig::Rig& rig) {
    rig::Part p;
    p.name = "bollard 3";
    p.pose.position = {3, 0.5, 0};
    rig::addPart(rig, p);
  });
  EXPECT_EQ(window.ledger()->rows().back().kind, LedgerRow::Kind::loose);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !session.advising(); }, 20000));
  ASSERT_FALSE(session.advice().empty());
  EXPECT_THAT(session.advice().front().text, testing::HasSubstr("bollard 3"));
  key(Qt::Key_A);
  const AdvicePanel& list = *window.findChild<AdvicePanel*>();
  ASSERT_TRUE(list.isVisible());
  EXPECT_TRUE(window.rect().contains(list.geometry())) << "the list is not whole on the window";
}

TEST_F(WindowTest, TheViewIsThereOrSaysWhyNot) {
  if (QGuiApplication::platformName() == "offscreen") {
    EXPECT_EQ(window.view(), nullptr);
    EXPECT_NE(window.findChild<QLabel*>("noView"), nullptr);
  } else {
    ASSERT_NE(window.view(), nullptr);
    // Something is drawn: the picture has more than the haze.
    const QImage picture = window.view()->grabFramebuffer();
    std::set<QRgb> colors;
    for (int y = 0; y < picture.height(); y += 7)
      for (int x = 0; x < picture.width(); x += 7) colors.insert(picture.pixel(x, y));
    EXPECT_GT(colors.size(), 30u);
  }
}

TEST_F(WindowTest, WorksAtTheSmallestSize) {
  window.resize(1024, 640);
  QTest::qWait(50);
  EXPECT_EQ(window.size(), QSize(1024, 640));
  EXPECT_GT(window.ledger()->laneRect(0).width(), 200);
}

}  // namespace
}  // namespace calm::app

int main(int argc, char** argv) {
  // Listing the tests, as the build does, needs no display.
  for (int i = 1; i < argc; ++i)
    if (std::string_view(argv[i]) == "--gtest_list_tests") qputenv("QT_QPA_PLATFORM", "offscreen");
  testing::InitGoogleTest(&argc, argv);
  QApplication app(argc, argv);
  QApplication::setStyle("Fusion");
  return RUN_ALL_TESTS();
}
