// SPDX-License-Identifier: GPL-3.0-or-later
// Planar: b's pivot stays in the plane of a's y and z axes, and b turns only about its normal, x.
#include "engine/joint/joint.h"

namespace calm {

void evaluatePlanar(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 axisB = b.axes * g.axesB.col(0);
  rows.along(axesA.col(0), axesA.col(0).dot(gap));
  rows.perpendicular(axesA.col(1), axisB);
  rows.perpendicular(axesA.col(2), axisB);
}

}  // namespace calm
