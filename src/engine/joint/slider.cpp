// SPDX-License-Identifier: GPL-3.0-or-later
// Slider: b moves along a's x axis and does not turn.
#include "engine/joint/joint.h"

namespace calm {

void evaluateSlider(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA, axesB = b.axes * g.axesB;
  rows.along(axesA.col(1), axesA.col(1).dot(gap));
  rows.along(axesA.col(2), axesA.col(2).dot(gap));
  rows.perpendicular(axesA.col(1), axesB.col(0));
  rows.perpendicular(axesA.col(2), axesB.col(0));
  rows.perpendicular(axesA.col(2), axesB.col(1));
}

}  // namespace calm
