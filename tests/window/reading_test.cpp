// SPDX-License-Identifier: GPL-3.0-or-later
// Reading a run: what the lanes show and in which order, expectations, and why.
#include <QComboBox>
#include <QTableWidget>

#include "app/card/card.h"
#include "app/compare/panel.h"
#include "app/view/view.h"
#include "app/why/panel.h"
#include "window/assembling.h"

namespace calm::app {
namespace {

// The gate is thrown open against its stop; a ball and a slider beside it.
class ReadingRuns : public Assembling {
 protected:
  rig::Rig firstRig() const override {
    rig::Rig rig = gateRig();
    rig.stage.duration = 2;
    const auto id = [&](const std::string& name) {
      for (const rig::Part& p : rig.parts)
        if (p.name == name) return p.id;
      return rig::kNone;
    };
    rig.part(id("leaf"))->angularVelocity = {0, 4, 0};
    rig.part(id("leaf"))->velocity = {0, 0, -4 * 0.82};
    const rig::Id hook = rig::addJoint(rig, JointType::ball, rig::kNone, id("crate 1"), {0.5, 0.4, 1.5}, Vec3::UnitX());
    rig.joint(hook)->name = "hook";
    const rig::Id rail = rig::addJoint(rig, JointType::slider, rig::kNone, id("crate 2"), {1, 0.2, 1.5}, Vec3::UnitZ());
    rig.joint(rail)->name = "rail";
    return rig;
  }
  void press(const QString& text) {
    QApplication::processEvents();
    for (QPushButton* b : window.card()->findChildren<QPushButton*>())
      if (b->text() == text && b->isVisible()) return b->click();
    ADD_FAILURE() << "no button " << text.toStdString();
  }
  std::vector<std::string> names() {
    QApplication::processEvents();
    window.ledger()->grab();
    std::vector<std::string> list;
    for (const LedgerRow& r : window.ledger()->rows())
      if (const rig::Joint* j = session.rig().joint(r.id)) list.push_back(j->name);
    return list;
  }
};

TEST_F(ReadingRuns, LanesShowWhatIsChosen) {
  auto* lanes = named<QComboBox>("Lanes");
  const std::size_t end = session.recording()->size() - 1;
  const auto value = [&](const char* quantity, const char* joint) {
    lanes->setCurrentText(quantity);
    window.ledger()->grab();
    const auto index = static_cast<std::size_t>(session.rig().joint(idNamed(joint)) - session.rig().joints.data());
    return laneValue(*session.recording(), session.largest(), session.quantity(), index, end);
  };
  EXPECT_GT(value("stops", "pintle"), 0.99) << "the gate lies at its stop";
  EXPECT_EQ(value("stops", "rail"), 0) << "it has none";
  EXPECT_LT(value("speed", "pintle"), 0.05);
  EXPECT_GE(value("energy", "hook"), 0);
  EXPECT_EQ(value("drive", "pintle"), 0);
  lanes->setCurrentText("energy");
  const auto pintle = static_cast<std::size_t>(session.rig().joint(idNamed("pintle")) - session.rig().joints.data());
  EXPECT_GT(laneValue(*session.recording(), session.largest(), Quantity::energy, pintle, 1), 0.9)
      << "the thrown leaf has the most at first";
}

TEST_F(ReadingRuns, RowsAreOrderedAndFiltered) {
  named<QComboBox>("Order")->setCurrentText("worst");
  EXPECT_EQ(names().front(), "pintle") << "the slam is the largest load";
  named<QComboBox>("Order")->setCurrentText("type");
  EXPECT_EQ(names(), (std::vector<std::string>{"hook", "pintle", "rail"})) << "ball, hinge, slider";
  type("Filter", "crate 2");
  EXPECT_EQ(names(), std::vector<std::string>{"rail"});
  type("Filter", "");
  named<QComboBox>("Order")->setCurrentText("rail");
  EXPECT_EQ(names().size(), 3u);
}

TEST_F(ReadingRuns, TheLanesZoomInTime) {
  Ledger& ledger = *window.ledger();
  const int x = ledger.xAt(0.5);
  QWheelEvent wheel(QPointF(x, 60), ledger.mapToGlobal(QPointF(x, 60)), {}, {0, 600}, Qt::NoButton, Qt::ControlModifier,
                    Qt::NoScrollPhase, false);
  QApplication::sendEvent(ledger.viewport(), &wheel);
  const auto [from, to] = ledger.span();
  EXPECT_LT(to - from, 1.0);
  EXPECT_LT(from, 0.5);
  EXPECT_GT(to, 0.5);
  EXPECT_NEAR(ledger.xAt(0.5), x, 2) << "the moment under the pointer stays there";
  ledger.grab();
  ledger.setSpan(0, 100);
  EXPECT_EQ(ledger.span(), std::pair(0.0, 2.0));
}

TEST_F(ReadingRuns, AnExpectationIsPinnedJudgedAndDropped) {
  select({"pintle"});
  key(Qt::Key_E);
  named<QComboBox>("What")->setCurrentText("reaches");
  named<QComboBox>("Reading")->setCurrentText("turn");
  type("Least", "soon");
  EXPECT_FALSE(window.maker()->findChild<QPushButton*>("make")->isEnabled());
  type("Least", "50 deg");
  EXPECT_TRUE(window.maker()->findChild<QLabel*>("outcome")->text().contains("This run: met"));
  pressMake();
  ASSERT_EQ(saved().expectations.size(), 1u);
  EXPECT_NEAR(saved().expectations[0].low, 50 * kDegree, 1e-9);
  finishRun();
  session.select({});
  QApplication::processEvents();
  auto* words = window.findChild<QLabel*>("expectation");
  ASSERT_NE(words, nullptr);
  EXPECT_TRUE(words->text().contains("met:")) << words->text().toStdString();
  named<QPushButton>("Drop expectation 1")->click();
  EXPECT_TRUE(saved().expectations.empty());
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(session.rig().expectations.size(), 1u);
}

TEST_F(ReadingRuns, ARunIsPinnedAndComparedWithTheNext) {
  auto* panel = window.findChild<ComparePanel*>("comparePanel");
  key(Qt::Key_Y);
  EXPECT_FALSE(panel->isVisible()) << "nothing is pinned yet";
  key(Qt::Key_P, Qt::ShiftModifier);
  ASSERT_NE(session.pinned(Pinned::toCompare), nullptr);
  select({"crate 1"});
  enter("Mass", "x 2");
  finishRun();
  window.setFocus();
  key(Qt::Key_Y);
  ASSERT_TRUE(panel->isVisible());
  auto* table = named<QTableWidget>("Changes");
  bool found = false;
  for (int r = 0; r < table->rowCount(); ++r) {
    if (table->item(r, 0)->text() != "peak force of hook") continue;
    found = true;
    EXPECT_EQ(table->item(r, 3)->text(), "+100.0 %");
  }
  EXPECT_TRUE(found) << "twice the mass, twice the load";
  if (window.view()) window.view()->grab();  // with the ghost
}

TEST_F(ReadingRuns, AStrengthIsTakenFromTwoRuns) {
  select({"hook"});
  press("Must hold here");
  session.edit("heavier", [&](rig::Rig& rig) { rig.part(idNamed("crate 1"))->heft = rig::Mass{4 * 64.0}; });
  finishRun();
  select({"hook"});
  press("Must part here");
  auto* words = window.card()->findChild<QLabel*>("interval");
  EXPECT_TRUE(words->text().contains("safe by 2.00 each way")) << words->text().toStdString();
  press("Take the middle");
  EXPECT_NEAR(*saved().joint(idNamed("hook"))->breakForce, 2 * 64 * 9.81, 0.01 * 64 * 9.81);
}

TEST_F(ReadingRuns, WhyTellsTheCauseAndTakesARemedyThatWasTried) {
  key(Qt::Key_W);
  auto* panel = window.findChild<WhyPanel*>("whyPanel");
  EXPECT_FALSE(panel->isVisible()) << "nothing is selected";
  select({"pintle"});
  key(Qt::Key_W);
  ASSERT_TRUE(panel->isVisible());
  ASSERT_TRUE(QTest::qWaitFor([&] { return !panel->isTrying(); }, 60000));
  ASSERT_FALSE(panel->causes().empty());
  EXPECT_NE(panel->causes()[0].text.find("high stop"), std::string::npos) << panel->causes()[0].text;
  ASSERT_FALSE(panel->causes()[0].remedies.empty());
  const QString best = QString::fromStdString(panel->causes()[0].remedies[0].name);
  named<QPushButton>("Take: " + best)->click();
  EXPECT_GT(saved().joint(idNamed("pintle"))->axes[0].stopStiffness, 0);
  EXPECT_FALSE(panel->isVisible()) << "it was about the rig as it was";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_EQ(pintle().stopStiffness, 0);
}

}  // namespace
}  // namespace calm::app
