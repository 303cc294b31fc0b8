// SPDX-License-Identifier: GPL-3.0-or-later
// Three whole tasks as a newcomer does them, by pointer and keys alone, with the clicks and keys counted.
#include <QComboBox>
#include <QElapsedTimer>
#include <QSpinBox>

#include "app/view/view.h"
#include "window/assembling.h"

namespace calm::app {
namespace {

class Tasks : public Assembling {
 protected:
  void SetUp() override {
    Assembling::SetUp();
    clock_.start();
  }
  void TearDown() override {
    std::printf("[ effort ] %s: %d clicks and drags, %d keys, %.1f s by machine\n",
                testing::UnitTest::GetInstance()->current_test_info()->name(), clicks_, keys_,
                clock_.elapsed() / 1000.0);
  }
  void press(Qt::Key k, Qt::KeyboardModifiers modifiers = {}) {
    ++keys_;
    QWidget* focused = QApplication::focusWidget();
    QTest::keyClick(focused ? focused : &window, k, modifiers);
    QApplication::processEvents();
  }
  QPoint seen(const Vec3& at) { return window.view()->camera().project(at).value_or(QPointF()).toPoint(); }
  void click(const Vec3& at) {
    ++clicks_;
    QTest::mouseClick(window.view(), Qt::LeftButton, {}, seen(at));
  }
  void dragIn(const QPoint& from, const QPoint& to) {
    ++clicks_;
    QTest::mousePress(window.view(), Qt::LeftButton, {}, from);
    QTest::mouseMove(window.view(), (from + to) / 2);
    QTest::mouseMove(window.view(), to);
    QTest::mouseRelease(window.view(), Qt::LeftButton, {}, to);
  }
  // Into a field that the pointer goes to.
  void fill(const QString& name, const QString& text) {
    ++clicks_;
    keys_ += static_cast<int>(text.size());
    type(name, text);
  }
  void make() {
    ++clicks_;
    pressMake();
  }

  int clicks_ = 0, keys_ = 0;
  QElapsedTimer clock_;
};

// The crates are the moving parts; the chain ends in a shackle that is hinged to the third.
TEST_F(Tasks, AChainOfFiftyLinksBetweenTwoMovingPartsWithAShackle) {
  if (!viewIsThere()) return;
  press(Qt::Key_P);
  fill("Name", "shackle");
  ++clicks_;
  named<QComboBox>("Shape")->setCurrentText("capsule");
  fill("Radius", "2cm");
  fill("Length", "12cm");
  click({1.5, 0.4, 1.5});  // on top of the third crate
  make();
  const Vec3 shackle = session.rig().part(idNamed("shackle"))->pose.position;
  press(Qt::Key_J);  // the shackle is selected: it is the first
  press(Qt::Key_T);  // a hinge
  click({1.6, 0.2, 1.7});
  press(Qt::Key_Return);
  press(Qt::Key_L);
  click({0.5, 0.4, 1.5});
  click(shackle);
  auto* count = named<QSpinBox>("Links");
  count->setFocus();
  count->selectAll();
  QTest::keyClicks(count, "50");
  clicks_ += 1, keys_ += 2;
  make();
  const rig::Rig now = saved();
  ASSERT_EQ(now.groups.size(), 1u);
  const rig::Id chain = now.groups[0].id;
  std::size_t links = 0;
  for (const rig::Part& p : now.parts) links += p.group == chain;
  EXPECT_EQ(links, 50u);
  rig::Id first = rig::kNone, last = rig::kNone;
  for (const rig::Joint& j : now.joints) {
    if (j.group != chain) continue;
    if (first == rig::kNone) first = j.a.part;
    last = j.b.part;
  }
  EXPECT_EQ(first, idNamed("crate 1"));
  EXPECT_EQ(last, idNamed("shackle"));
  const rig::Joint& pin = now.joints[1];
  EXPECT_EQ(pin.type, JointType::hinge);
  EXPECT_EQ(pin.a.part, idNamed("shackle"));
  EXPECT_EQ(pin.b.part, idNamed("crate 3"));
}

TEST_F(Tasks, AGateWithTwoHingesStopsAndACloser) {
  press(Qt::Key_K);
  fill("Opens to", "110");
  fill("Closer, shut", "6");
  make();
  const rig::Rig now = saved();
  std::size_t hinges = 0;
  for (const rig::Joint& j : now.joints) hinges += j.group != rig::kNone && j.type == JointType::hinge;
  EXPECT_EQ(hinges, 2u);
  const auto& stops = std::find_if(now.joints.begin(), now.joints.end(), [](const rig::Joint& j) {
                        return j.group != rig::kNone && j.type == JointType::hinge;
                      })->axes[0];
  EXPECT_NEAR(stops.high, 110 * kDegree, 1e-9);
  EXPECT_EQ(stops.low, 0);
  EXPECT_NEAR(-stops.target * stops.stiffness, 6, 1e-9) << "the closer's torque when shut";
}

TEST_F(Tasks, ADuplicatedSubAssemblyWithEverythingRewired) {
  if (!viewIsThere()) return;
  click({1.2, 1.2, 0.03});                // the leaf
  press(Qt::Key_G, Qt::ShiftModifier);    // all that hangs together with it
  press(Qt::Key_D, Qt::ControlModifier);  // again
  const rig::Rig now = saved();
  ASSERT_EQ(now.parts.size(), 7u);
  ASSERT_EQ(now.joints.size(), 2u);
  const rig::Joint& copy = now.joints[1];
  EXPECT_NE(copy.a.part, now.joints[0].a.part);
  EXPECT_NE(copy.b.part, now.joints[0].b.part);
  EXPECT_EQ(now.partName(copy.a.part), "post 2");
  EXPECT_EQ(now.partName(copy.b.part), "leaf 2");
  EXPECT_EQ(copy.axes[0].high, now.joints[0].axes[0].high);
}

}  // namespace
}  // namespace calm::app
