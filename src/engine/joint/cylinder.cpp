// SPDX-License-Identifier: GPL-3.0-or-later
// Cylinder: b moves along a's x axis and turns about it.
#include "engine/joint/joint.h"

namespace calm {

void evaluateCylinder(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 axisB = b.axes * g.axesB.col(0);
  rows.along(axesA.col(1), axesA.col(1).dot(gap));
  rows.along(axesA.col(2), axesA.col(2).dot(gap));
  rows.perpendicular(axesA.col(1), axisB);
  rows.perpendicular(axesA.col(2), axisB);
}

}  // namespace calm
