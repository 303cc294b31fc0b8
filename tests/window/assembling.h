// SPDX-License-Identifier: GPL-3.0-or-later
// A small rig to assemble with: a gate at its post, three crates beside it.
#pragma once

#include <QTemporaryDir>

#include "rig/edits.h"
#include "rig/file.h"
#include "window/fixture.h"

namespace calm::app {

inline constexpr double kDegree = 3.14159265358979323846 / 180;

// A gate on a hinge at its post, beside three crates in a row.
inline rig::Rig gateRig() {
  rig::Rig rig;
  rig.name = "Saltmarsh Quay: gate";
  rig.stage.duration = 1;
  const auto add = [&](const std::string& name, const Vec3& size, const Vec3& at, Role role = Role::dynamic) {
    rig::Part p;
    p.name = name;
    p.shape = calm::Box{size};
    p.pose.position = at;
    p.role = role;
    return rig::addPart(rig, p);
  };
  const rig::Id post = add("post", {0.2, 2, 0.2}, {0, 1, 0}, Role::fixed),
                leaf = add("leaf", {1.6, 1.2, 0.06}, {0.92, 1, 0});
  const rig::Id pintle = rig::addJoint(rig, JointType::hinge, post, leaf, {0.1, 1, 0}, Vec3::UnitY());
  rig.joint(pintle)->name = "pintle";
  rig.joint(pintle)->axes[0].low = -10 * kDegree, rig.joint(pintle)->axes[0].high = 60 * kDegree;
  for (int i = 1; i <= 3; ++i) add("crate " + std::to_string(i), Vec3::Constant(0.4), {0.5 * i, 0.2, 1.5});
  return rig;
}

class Assembling : public WindowTest {
 protected:
  rig::Rig firstRig() const override { return gateRig(); }
  void SetUp() override {
    WindowTest::SetUp();
    session.setPlaying(false);
    session.reset();
  }
  void select(const std::vector<std::string>& names) {
    std::set<rig::Id> ids;
    for (const std::string& n : names) ids.insert(idNamed(n));
    session.select(ids);
    QApplication::processEvents();
  }
  // What is on disk after saving.
  rig::Rig saved() {
    const QString path = folder_.filePath("kept.rig.json");
    EXPECT_TRUE(session.save(path));
    return rig::loadRig(path.toStdString());
  }
  const AxisDef& pintle() { return session.rig().joint(idNamed("pintle"))->axes[0]; }
  void drag(QWidget* widget, const QPointF& from, const QPointF& to) {
    QTest::mousePress(widget, Qt::LeftButton, {}, from.toPoint());
    QTest::mouseMove(widget, ((from + to) / 2).toPoint());
    QTest::mouseMove(widget, to.toPoint());
    QTest::mouseRelease(widget, Qt::LeftButton, {}, to.toPoint());
  }

  QTemporaryDir folder_;
};

}  // namespace calm::app
