// SPDX-License-Identifier: GPL-3.0-or-later
// Universal: the pivots coincide and b's y axis stays at right angles to a's x axis, the two shafts' cross.
#include "engine/joint/joint.h"

namespace calm {

void evaluateUniversal(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  pivotRows(g, a, b, rows);
  rows.perpendicular(a.axes * g.axesA.col(0), b.axes * g.axesB.col(1));
}

// Angle about b's y axis from a's x to b's x: the second bend.
void turnAboutYOfB(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesB = b.axes * g.axesB;
  const Vec3 x = a.axes * g.axesA.col(0);
  rows.turn(axesB.col(1), winding.unwrap(std::atan2(axesB.col(2).dot(x), axesB.col(0).dot(x))));
}

}  // namespace calm
