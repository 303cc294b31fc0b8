// SPDX-License-Identifier: GPL-3.0-or-later
// Fixed: the pivots coincide and the axes of the two frames stay parallel.
#include "engine/joint/joint.h"

namespace calm {

void evaluateFixed(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  pivotRows(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA, axesB = b.axes * g.axesB;
  rows.perpendicular(axesA.col(1), axesB.col(0));
  rows.perpendicular(axesA.col(2), axesB.col(0));
  rows.perpendicular(axesA.col(2), axesB.col(1));
}

}  // namespace calm
