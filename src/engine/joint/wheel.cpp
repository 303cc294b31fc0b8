// SPDX-License-Identifier: GPL-3.0-or-later
// Wheel: b's pivot travels along a's y axis (the suspension), b's x axis (the axle) stays at right angles to it. The
// axle steers about a's y axis and the wheel spins about the axle.
#include "engine/joint/joint.h"

namespace calm {

void evaluateWheel(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA;
  rows.along(axesA.col(0), axesA.col(0).dot(gap));
  rows.along(axesA.col(2), axesA.col(2).dot(gap));
  rows.perpendicular(axesA.col(1), b.axes * g.axesB.col(0));
}

// Angle about a's y axis from a's x to the axle.
void steerOfWheel(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 axle = b.axes * g.axesB.col(0);
  rows.turn(axesA.col(1), winding.unwrap(std::atan2(-axesA.col(2).dot(axle), axesA.col(0).dot(axle))));
}

// Angle about the axle from a's y axis to b's.
void spinOfWheel(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesB = b.axes * g.axesB;
  const Vec3 up = a.axes * g.axesA.col(1);
  rows.turn(axesB.col(0), winding.unwrap(std::atan2(-axesB.col(2).dot(up), axesB.col(1).dot(up))));
}

}  // namespace calm
