// SPDX-License-Identifier: GPL-3.0-or-later
// The Card's instruments beside the stops' dials: cone, spring, motor.
#include "app/dials/cone_dial.h"
#include "app/dials/plots.h"
#include "window/assembling.h"

namespace calm::app {
namespace {

class Dials : public Assembling {
 protected:
  void put(const std::function<void(rig::Joint&)>& change) {
    ASSERT_TRUE(session.edit("set up", [&](rig::Rig& rig) { change(*rig.joint(idNamed("pintle"))); }));
    finishRun();
    select({"pintle"});
  }
};

TEST_F(Dials, ALimbsConeIsDraggedByItsRim) {
  put([](rig::Joint& j) {
    j.type = JointType::limb;
    j.axes = {};
    j.form.coneY = j.form.coneZ = 40 * kDegree;
  });
  auto* cone = named<ConeDial>("Cone");
  ASSERT_NE(cone, nullptr);
  drag(cone, cone->at(40 * kDegree, 0), cone->at(70 * kDegree, 0));
  rig::Rig now = saved();
  EXPECT_NEAR(now.joint(idNamed("pintle"))->form.coneY, 70 * kDegree, 2 * kDegree);
  EXPECT_NEAR(now.joint(idNamed("pintle"))->form.coneZ, 40 * kDegree, 1e-9) << "the other radius stays";
  key(Qt::Key_Z, Qt::ControlModifier);
  EXPECT_NEAR(session.rig().joint(idNamed("pintle"))->form.coneY, 40 * kDegree, 1e-9);
}

TEST_F(Dials, ASpringIsGivenByEitherPairOfNumbers) {
  put([](rig::Joint& j) { j.axes[0].frequency = 1.5, j.axes[0].dampingRatio = 0.3; });
  EXPECT_TRUE(named<StepPlot>("Step response")->words().startsWith("1.5 Hz, damping ratio 0.3"));
  named<QPushButton>("Give it by stiffness, turn")->click();
  const AxisDef before = pintle();
  EXPECT_EQ(before.frequency, 0);
  EXPECT_GT(before.stiffness, 0);
  // The same spring: (stiffness over inertia) is the square of the frequency, whatever the leaf weighs.
  EXPECT_NEAR(before.damping / before.stiffness, 2 * 0.3 / (2 * M_PI * 1.5), 1e-9);
  named<QPushButton>("Give it by frequency, turn")->click();
  EXPECT_NEAR(pintle().frequency, 1.5, 1e-9);
  EXPECT_NEAR(pintle().dampingRatio, 0.3, 1e-9);
  EXPECT_EQ(pintle().stiffness, 0);
}

TEST_F(Dials, AMotorIsTestedWhileItsButtonIsHeldAndTheRigStaysAsItIs) {
  put([](rig::Joint& j) { j.axes[0].speed = 0, j.axes[0].cap = 4000; });
  const std::string before = rig::formatRig(session.rig());
  EXPECT_TRUE(named<EnvelopePlot>("Motor envelope")->words().contains("4 kN m"));
  auto* on = named<QPushButton>("Hold: on, turn");
  QTest::mousePress(on, Qt::LeftButton);
  EXPECT_TRUE(session.onTrial());
  ASSERT_TRUE(QTest::qWaitFor([&] { return session.recording()->endTime() > 0.5; }, 10000));
  const std::size_t frame = session.recording()->indexAt(0.5);
  EXPECT_NEAR(session.recording()->frame(frame).joints[0].position[0], 0.5, 0.05) << "one radian a second";
  QTest::mouseRelease(on, Qt::LeftButton);
  EXPECT_FALSE(session.onTrial());
  finishRun();
  EXPECT_EQ(rig::formatRig(session.rig()), before);
  EXPECT_NEAR(session.recording()->frame(frame).joints[0].position[0], 0, 1e-6) << "the rig's own run is back";
}

}  // namespace
}  // namespace calm::app
