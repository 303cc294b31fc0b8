// SPDX-License-Identifier: GPL-3.0-or-later
// Running and reading with the window: cues, hands, traces, sweeps, kept runs, effort.
#include <QComboBox>
#include <QDir>
#include <QElapsedTimer>
#include <QFile>
#include <QTemporaryDir>
#include <QThreadPool>
#include <cmath>

#include "app/effort/panel.h"
#include "app/runs/panel.h"
#include "app/sweep/panel.h"
#include "app/traces/panel.h"
#include "app/view/hands_strip.h"
#include "rig/edits.h"
#include "run/restart.h"
#include "window/fixture.h"

namespace calm::app {
namespace {

class RunningTest : public WindowTest {
 protected:
  // A crate on the ground, and one that hangs beside it.
  rig::Rig firstRig() const override {
    rig::Rig rig;
    rig.stage.duration = 3;
    const auto crate = [&](const char* name, const Vec3& at) {
      rig::Part part;
      part.name = name;
      part.shape = Box{{0.6, 0.6, 0.6}};
      part.heft = rig::Mass{20};
      part.pose.position = at;
      return rig::addPart(rig, part);
    };
    crate("low crate", {0, 0.3, 0});
    const rig::Id high = crate("high crate", {1.5, 1.5, 0});
    const rig::Id hook = rig::addJoint(rig, JointType::hinge, rig::kNone, high, {1.5, 2.4, 0}, Vec3::UnitZ());
    rig.joint(hook)->name = "hook";
    rig::Expectation holds;
    holds.of = hook;
    rig.expectations.push_back(holds);
    return rig;
  }
  Ledger& ledger() { return *window.ledger(); }
  const rig::Rig& rig() { return session.rig(); }
  void choose(const QString& box, const QString& text) {
    auto* combo = named<QComboBox>(box);
    ASSERT_NE(combo, nullptr);
    const int at = combo->findText(text);
    ASSERT_GE(at, 0) << text.toStdString() << " is no choice of " << box.toStdString();
    combo->setCurrentIndex(at);
  }
  QTemporaryDir folder_;
  QString at(const char* name) { return folder_.filePath(name); }
};

TEST_F(RunningTest, ACueIsMadeOnTheLaneMovedAndRemoved) {
  const QPoint place = ledger().cuePlace(1);
  QTest::mouseDClick(ledger().viewport(), Qt::LeftButton, {}, place);
  ASSERT_NE(window.maker(), nullptr);
  choose("What", "impulse");
  choose("Part", "low crate");
  type("Along x", "60");
  type("Along y", "0");
  pressMake();
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_NEAR(rig().cues[0].when.at, 1, 0.02);
  EXPECT_EQ(rig().cues[0].part, idNamed("low crate"));
  EXPECT_EQ(rig().cues[0].vector, Vec3(60, 0, 0));
  EXPECT_EQ(session.selected(), rig().cues[0].id) << "it is on the Card";
  // Its energy: 60 N s on 20 kg, less what friction takes in the frame.
  session.setPlayhead(2);
  EXPECT_NEAR(session.frame()->cues[0].energy, 60 * 60 / 40.0, 6);

  const QPoint from = ledger().cuePlace(rig().cues[0].when.at), to = ledger().cuePlace(2);
  QTest::mousePress(ledger().viewport(), Qt::LeftButton, {}, from);
  for (int i = 1; i <= 4; ++i) QTest::mouseMove(ledger().viewport(), from + (to - from) * i / 4);
  QTest::mouseRelease(ledger().viewport(), Qt::LeftButton, {}, to);
  finishRun();
  EXPECT_NEAR(rig().cues[0].when.at, 2, 0.02);
  EXPECT_NEAR(session.playhead(), 2, 1e-9) << "what came before is as it was";
  key(Qt::Key_Z, Qt::ControlModifier);
  finishRun();
  EXPECT_NEAR(rig().cues[0].when.at, 1, 0.02);
  session.select({rig().cues[0].id});
  QTest::mouseClick(named<QPushButton>("Remove the cue"), Qt::LeftButton);
  EXPECT_TRUE(rig().cues.empty());
}

TEST_F(RunningTest, ACueIsDrawnAlongTheLane) {
  const QPoint from = ledger().cuePlace(0.5), to = ledger().cuePlace(2);
  QTest::mousePress(ledger().viewport(), Qt::LeftButton, {}, from);
  for (int i = 1; i <= 4; ++i) QTest::mouseMove(ledger().viewport(), from + (to - from) * i / 4);
  QTest::mouseRelease(ledger().viewport(), Qt::LeftButton, {}, to);
  ASSERT_NE(window.maker(), nullptr);
  EXPECT_EQ(named<QComboBox>("What")->currentText(), "push");
  type("Along x", "300 N");
  pressMake();
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_NEAR(rig().cues[0].when.at, 0.5, 0.02);
  EXPECT_NEAR(rig().cues[0].lasts, 1.5, 0.02);
}

TEST_F(RunningTest, TheRunIsShownSlowlyWhereAsked) {
  choose("Play speed", "1/10");
  session.setPlayhead(0);
  session.setPlaying(true);
  // Read when it moves: between two moves a busy machine may paint for long.
  QElapsedTimer waited;
  waited.start();
  double shown = 0, asked = 0;  // s
  QObject watcher;
  QObject::connect(&session, &Session::changed, &watcher, [&] {
    if (session.playhead() != shown) shown = session.playhead(), asked = waited.elapsed() / 10000.0;
  });
  QTest::qWait(600);
  session.setPlaying(false);
  EXPECT_GT(shown, 0);
  EXPECT_NEAR(shown, asked, 0.03);
}

TEST_F(RunningTest, AConditionIsTypedAndTheSelectedCueChanged) {
  session.select({idNamed("hook")});
  key(Qt::Key_Q);
  ASSERT_NE(window.maker(), nullptr);
  choose("What", "cut");
  choose("When", "a reading falls below");
  choose("Of", "low crate");
  choose("Reading", "y");
  type("Value", "35 cm");
  type("Then after", "0.5 s");
  pressMake();
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_EQ(rig().cues[0].act, rig::Cue::Act::cut);
  EXPECT_NEAR(rig().cues[0].when.value, 0.35, 1e-12);
  ASSERT_TRUE(session.recording()->partedAt(0));
  EXPECT_NEAR(*session.recording()->partedAt(0), 0.5, 0.02);
  key(Qt::Key_Q);
  ASSERT_NE(window.maker(), nullptr);
  EXPECT_EQ(named<QComboBox>("When")->currentText(), "a reading falls below");
  EXPECT_EQ(named<QLineEdit>("Value")->text(), "350 mm");
  type("Then after", "1 s");
  pressMake();
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_NEAR(*session.recording()->partedAt(0), 1, 0.02);
}

TEST_F(RunningTest, ACueOnAnAxisShowsWhatItChangesAndKeepsNoMore) {
  session.select({idNamed("hook")});
  key(Qt::Key_Q);
  choose("What", "axis");
  choose("Motor", "runs");
  type("At speed", "2 rad/s");
  type("High stop", "none");
  pressMake();
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_EQ(rig().cues[0].axis.values().size(), 2u);
  EXPECT_NEAR(rig().cues[0].axis.value(&AxisDef::speed).value_or(0), 2, 1e-9);
  EXPECT_EQ(rig().cues[0].axis.value(&AxisDef::high), kNoLimit);
  key(Qt::Key_Q);
  EXPECT_EQ(named<QComboBox>("Motor")->currentText(), "runs");
  EXPECT_EQ(named<QLineEdit>("High stop")->text(), "none");
  EXPECT_EQ(named<QLineEdit>("Low stop")->text(), "") << "as it is";
  type("High stop", "");
  type("Low stop", "-20 deg");
  pressMake();
  finishRun();
  EXPECT_NEAR(rig().cues[0].axis.value(&AxisDef::speed).value_or(0), 2, 1e-5) << "it was shown";
  EXPECT_FALSE(rig().cues[0].axis.value(&AxisDef::high));
  EXPECT_NEAR(rig().cues[0].axis.value(&AxisDef::low).value_or(0), -20 * M_PI / 180, 1e-9);
}

TEST_F(RunningTest, AWrongCueSaysWhatIsWrong) {
  key(Qt::Key_Q);
  choose("What", "push");
  type("Within", "0 s");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
  type("Within", "1 s");
  EXPECT_TRUE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
}

TEST_F(RunningTest, AHandAtWorkBecomesACueThatRepeatsIt) {
  session.setPlayhead(0.5);
  rig::Cue pull;
  pull.act = rig::Cue::Act::pull;
  pull.part = idNamed("low crate");
  pull.cap = 400;
  ASSERT_TRUE(session.beginHand(pull, {0, 0.3, 0}));
  for (int i = 0; i < 12; ++i) {
    QTest::qWait(30);
    session.moveHand({0.02 * i, 0.3 + 0.1 * i, 0});
  }
  const std::size_t frames = session.recording()->size();
  const auto held = session.sharedRecording();
  session.endHand("grab low crate");
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_GT(rig().cues[0].track.size(), 5u);
  ASSERT_GE(frames, 40u);
  const Vec3 before = held->frame(frames - 1).parts[0].pose.position;
  EXPECT_EQ(before, session.recording()->frame(frames - 1).parts[0].pose.position) << "to the last bit";
  EXPECT_GT(before.y(), 0.35);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_TRUE(rig().cues.empty());
}

TEST_F(RunningTest, HandsInTheView) {
  if (!viewIsThere()) return;
  session.setPlayhead(0.2);
  const auto pixelOf = [&](const Vec3& at) { return window.view()->camera().project(at)->toPoint(); };
  const QPoint crate = pixelOf(session.frame()->parts[0].pose.position);
  key(Qt::Key_5);
  EXPECT_TRUE(named<QPushButton>("Grab")->isChecked());
  QTest::mousePress(window.view(), Qt::LeftButton, {}, crate);
  ASSERT_TRUE(session.handing());
  for (int i = 1; i <= 8; ++i) {
    QTest::qWait(30);
    QTest::mouseMove(window.view(), crate - QPoint(0, 12 * i));
  }
  QTest::mouseRelease(window.view(), Qt::LeftButton, {}, crate - QPoint(0, 96));
  EXPECT_FALSE(session.handing());
  finishRun();
  ASSERT_EQ(rig().cues.size(), 1u);
  EXPECT_EQ(rig().cues[0].act, rig::Cue::Act::pull);
  EXPECT_EQ(rig().cues[0].part, idNamed("low crate"));
  session.setPlaying(false);
  session.setPlayhead(0.5);
  key(Qt::Key_7);
  type("Hand's strength", "4 kg");
  QTest::mouseClick(window.view(), Qt::LeftButton, {}, crate);
  finishRun();
  ASSERT_EQ(rig().cues.size(), 2u);
  EXPECT_EQ(rig().cues[1].act, rig::Cue::Act::ball);
  EXPECT_EQ(rig().cues[1].mass, 4);
  EXPECT_NEAR(rig().cues[1].when.at, 0.5, 1e-9);
  key(Qt::Key_8);
  QTest::mouseClick(window.view(), Qt::LeftButton, {}, crate);
  finishRun();
  ASSERT_EQ(rig().cues.size(), 3u);
  EXPECT_EQ(rig().cues[2].act, rig::Cue::Act::gust);
  session.setPlaying(false);
  session.setPlayhead(0.1);
  key(Qt::Key_6);
  QTest::mousePress(window.view(), Qt::LeftButton, {}, crate);
  EXPECT_TRUE(session.handing());
  QTest::qWait(100);
  QTest::mouseRelease(window.view(), Qt::LeftButton, {}, crate);
  finishRun();
  ASSERT_EQ(rig().cues.size(), 4u);
  EXPECT_EQ(rig().cues[3].act, rig::Cue::Act::probe);
  key(Qt::Key_Escape);
  EXPECT_TRUE(named<QPushButton>("Select")->isChecked());
  EXPECT_EQ(session.selected(), rig().cues[3].id) << "Escape put the hand away, no more";
}

TEST_F(RunningTest, TracesShowReadingsTheirFrequenciesAndGoToFiles) {
  session.select({idNamed("hook")});
  key(Qt::Key_V);
  ASSERT_EQ(window.lower(), Window::Lower::traces);
  TracesPanel& traces = *window.traces();
  ASSERT_EQ(traces.readings().size(), 1u) << "of what is selected";
  EXPECT_TRUE(traces.told().contains("196.2 N")) << traces.told().toStdString();
  choose("Trace of", "low crate");
  choose("Trace", "speed");
  QTest::mouseClick(named<QPushButton>("Add trace"), Qt::LeftButton);
  ASSERT_EQ(traces.readings().size(), 2u);
  choose("Trace", "y");
  QTest::mouseClick(named<QPushButton>("Add trace"), Qt::LeftButton);
  EXPECT_EQ(traces.readings().size(), 2u) << "a third kind of quantity does not fit";
  EXPECT_TRUE(session.lastFault().contains("Two kinds"));
  traces.pressAt(1, false);
  EXPECT_NEAR(session.playhead(), 1, 1e-9);
  traces.pressAt(2.5, true);
  EXPECT_TRUE(traces.told().contains("1.500 s between")) << traces.told().toStdString();
  for (const char* name : {"t.png", "t.svg", "t.pdf", "t.csv"}) {
    EXPECT_TRUE(traces.exportTo(at(name))) << name;
    EXPECT_GT(QFileInfo(at(name)).size(), 500) << name;
  }
  QFile table(at("t.csv"));
  ASSERT_TRUE(table.open(QFile::ReadOnly));
  const QStringList lines = QString::fromUtf8(table.readAll()).trimmed().split('\n');
  EXPECT_EQ(lines[0], "time_s,\"force of hook\",\"speed of low crate\"");
  EXPECT_EQ(lines.size(), 1 + 181);
  EXPECT_FALSE(traces.exportTo(at("t.doc")));
  QTest::mouseClick(traces.findChildren<QPushButton*>()[1], Qt::LeftButton);
  EXPECT_TRUE(traces.showsFrequencies());
  EXPECT_TRUE(traces.told().contains("Hz"));
  key(Qt::Key_V);
  EXPECT_EQ(window.lower(), Window::Lower::ledger);
}

TEST_F(RunningTest, ASweepRunsInTheBackgroundAndAPointBecomesTheRig) {
  key(Qt::Key_Z);
  ASSERT_EQ(window.lower(), Window::Lower::sweep);
  SweepPanel& sweep = *window.sweep();
  const auto fill = [&](const QString& field, const QString& text) { type(field, text); };
  fill("Vary setting", "mass of high crate");
  fill("Vary from", "10 kg");
  fill("Vary to", "30 kg");
  fill("Vary points", "5");
  named<QComboBox>("Outcome's reading")->setCurrentText("force of hook");
  choose("Outcome", "end");
  QTest::mouseClick(named<QPushButton>("Run the sweep"), Qt::LeftButton);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !sweep.isRunning(); }, 60000));
  ASSERT_EQ(sweep.points().size(), 5u);
  for (std::size_t i = 0; i < 5; ++i)
    EXPECT_NEAR(sweep.points()[i].outcomes[0], (10 + 5.0 * double(i)) * 9.81, 1e-3) << "the weight";
  sweep.openPoint(3);
  finishRun();
  EXPECT_NEAR(rig().part(idNamed("high crate"))->mass(), 25, 1e-9);
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_NEAR(rig().part(idNamed("high crate"))->mass(), 20, 1e-9);
  // Two settings make a map; what is wrong is told.
  fill("And setting", "friction of low crate");
  fill("And from", "0.1");
  fill("And to", "0.5");
  fill("And points", "3");
  QTest::mouseClick(named<QPushButton>("Run the sweep"), Qt::LeftButton);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !sweep.isRunning(); }, 60000));
  EXPECT_EQ(sweep.points().size(), 15u);
  fill("And setting", "colour of low crate");
  sweep.start();
  EXPECT_FALSE(sweep.isRunning());
  EXPECT_TRUE(session.lastFault().contains("colour")) << session.lastFault().toStdString();
  fill("And setting", "");
  fill("Vary points", "400");
  sweep.start();
  EXPECT_TRUE(sweep.isRunning());
  sweep.cancel();
  ASSERT_TRUE(QTest::qWaitFor([&] { return !sweep.isRunning(); }, 60000));
  EXPECT_LT(sweep.points().size(), 400u);
}

TEST_F(RunningTest, RunsAreKeptSavedOpenedAndPinned) {
  key(Qt::Key_U);
  RunsPanel& runs = *window.runs();
  ASSERT_TRUE(runs.isVisible());
  type("Run's name", "first");
  QTest::mouseClick(runs.findChildren<QPushButton*>()[1], Qt::LeftButton);
  ASSERT_EQ(session.kept().size(), 1u);
  EXPECT_EQ(session.kept()[0]->name(), "first");
  runs.save(session.kept()[0], at("first.h5"));
  ASSERT_TRUE(QTest::qWaitFor([&] { return !runs.isBusy(); }, 60000));
  EXPECT_TRUE(QFile::exists(at("first.h5")));
  session.forget(0);
  EXPECT_TRUE(session.kept().empty());
  runs.open(at("first.h5"));
  ASSERT_TRUE(QTest::qWaitFor([&] { return session.kept().size() == 1; }, 60000));
  EXPECT_EQ(session.kept()[0]->name(), "first");
  QTest::mouseClick(named<QPushButton>("Pin: first"), Qt::LeftButton);
  EXPECT_EQ(session.pinned(Pinned::toCompare), session.kept()[0]);
  runs.open(at("none.h5"));
  ASSERT_TRUE(QTest::qWaitFor([&] { return session.lastFault().contains("none.h5"); }, 60000));
  key(Qt::Key_Escape);
  EXPECT_FALSE(runs.isVisible());
}

TEST_F(RunningTest, AMomentBecomesTheStartAndMotionIsBaked) {
  session.edit("push", [&](rig::Rig& r) { r.parts[1].velocity = {1, 0, 0}; });
  finishRun();
  session.setPlayhead(1);
  const Vec3 there = session.frame()->parts[1].pose.position;
  key(Qt::Key_Home, Qt::ShiftModifier);
  finishRun();
  EXPECT_EQ(rig().parts[1].pose.position, there);
  EXPECT_GT(rig().parts[1].velocity.norm(), 0.01);
  key(Qt::Key_Z, Qt::ControlModifier);
  finishRun();
  EXPECT_EQ(rig().parts[1].pose.position, Vec3(1.5, 1.5, 0));
  session.select({idNamed("high crate")});
  key(Qt::Key_B);
  finishRun();
  EXPECT_EQ(rig().parts[1].role, Role::kinematic);
  ASSERT_TRUE(rig().parts[1].motion);
  session.setPlayhead(1);
  EXPECT_LT((session.frame()->parts[1].pose.position - there).norm(), 1e-6);
  key(Qt::Key_B, Qt::ShiftModifier);
  finishRun();
  EXPECT_EQ(rig().parts[1].role, Role::dynamic);
}

TEST_F(RunningTest, EffortIsToldAndSetOnTheStage) {
  session.select({});
  enter("Substeps a frame", "4");
  finishRun();
  EXPECT_EQ(rig().stage.substeps, 4);
  enter("Separation at most", "0.05 mm");
  finishRun();
  EXPECT_NEAR(rig().stage.separationBudget, 5e-5, 1e-12);
  enter("Separation at most", "nonsense");
  EXPECT_TRUE(session.lastFault().contains("nonsense"));
  EXPECT_NEAR(rig().stage.separationBudget, 5e-5, 1e-12);
  enter("A run lasts", "2 s");
  finishRun();
  EXPECT_EQ(session.recording()->size(), 121u);
  key(Qt::Key_D);
  EffortPanel& effort = *window.effort();
  ASSERT_TRUE(effort.isVisible());
  EXPECT_TRUE(effort.findChild<QLabel*>("quality")->text().contains("within the 50 um"))
      << effort.findChild<QLabel*>("quality")->text().toStdString();
  for (auto* b : effort.findChildren<QPushButton*>())
    if (b->text() == "Measure") QTest::mouseClick(b, Qt::LeftButton);
  ASSERT_TRUE(QTest::qWaitFor([&] { return !effort.isMeasuring(); }, 60000));
  EXPECT_EQ(effort.growth().size(), 3u);
  EXPECT_TRUE(effort.findChild<QLabel*>("growth")->text().contains("real time"));
}

TEST_F(RunningTest, TheLedgerZoomsToSubsteps) {
  ledger().setSpan(1, 1.1);
  // The paint asks for them.
  ASSERT_TRUE(QTest::qWaitFor(
      [&] {
        ledger().viewport()->grab();
        return session.detail(60, 66) != nullptr;
      },
      30000));
  const run::Detail& detail = *session.detail(60, 66);
  EXPECT_NEAR(detail.readings[3][0].force, 20 * 9.81, 0.01);
  EXPECT_GE(detail.times.size(), 6u * 8);
}

TEST_F(RunningTest, TheHeadTellsWhetherTheRunWasAsExpected) {
  auto* chip = window.findChild<QPushButton*>("verdicts");
  EXPECT_TRUE(chip->isVisible());
  EXPECT_TRUE(chip->text().contains("as expected"));
  session.edit("weaken", [&](rig::Rig& r) { r.joints[0].breakForce = 100; });
  finishRun();
  EXPECT_TRUE(chip->text().contains("1 of 1 not met")) << chip->text().toStdString();
}

TEST_F(RunningTest, ThePinnedRunStandsInLanesAndTraces) {
  session.pin(Pinned::toCompare);
  session.edit("heavier", [&](rig::Rig& r) { r.parts[1].heft = rig::Mass{60}; });
  finishRun();
  const int row = rowNamed("hook");
  const QRect lane = ledger().laneRect(row);
  ledger().viewport()->repaint();
  const QImage picture = ledger().viewport()->grab().toImage();
  const double scale = picture.devicePixelRatio();
  const auto pixel = [&](int y) { return picture.pixel(int(lane.center().x() * scale), int(y * scale)); };
  EXPECT_NE(pixel(lane.top() + 3), pixel(lane.bottom() - 1)) << "a third of the load is paler";
}

}  // namespace
}  // namespace calm::app
