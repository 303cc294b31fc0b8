// SPDX-License-Identifier: GPL-3.0-or-later
// Hinge: the pivots coincide and b's x axis stays at right angles to a's y and z axes.
#include "engine/joint/joint.h"

namespace calm {

void evaluateHinge(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  pivotRows(g, a, b, rows);
  const Vec3 axisB = b.axes * g.axesB.col(0);
  rows.perpendicular(a.axes * g.axesA.col(1), axisB);
  rows.perpendicular(a.axes * g.axesA.col(2), axisB);
}

}  // namespace calm
