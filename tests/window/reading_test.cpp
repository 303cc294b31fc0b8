// SPDX-License-Identifier: GPL-3.0-or-later
// Reading a run: what the lanes show and in which order, expectations, and why.
#include <QComboBox>

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
    return laneValue(session, session.quantity(), index, end);
  };
  EXPECT_GT(value("stops", "pintle"), 0.99) << "the gate lies at its stop";
  EXPECT_EQ(value("stops", "rail"), 0) << "it has none";
  EXPECT_LT(value("speed", "pintle"), 0.05);
  EXPECT_GE(value("energy", "hook"), 0);
  EXPECT_EQ(value("drive", "pintle"), 0);
  lanes->setCurrentText("energy");
  const auto pintle = static_cast<std::size_t>(session.rig().joint(idNamed("pintle")) - session.rig().joints.data());
  EXPECT_GT(laneValue(session, Quantity::energy, pintle, 1), 0.9) << "the thrown leaf has the most at first";
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
