// SPDX-License-Identifier: GPL-3.0-or-later
// The free axes of each type.
#include "engine/joint/joint.h"

namespace calm {

void travelAlong(int column, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Vec3 axis = a.axes * g.axesA.col(column);
  rows.along(axis, axis.dot(gap));
}

void turnAboutX(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 y = b.axes * g.axesB.col(1);
  rows.turn(axesA.col(0), winding.unwrap(std::atan2(axesA.col(2).dot(y), axesA.col(1).dot(y))));
}

AxisCount axesOf(JointType type) {
  switch (type) {
    case JointType::fixed:
    case JointType::ball:
      return {0, 0};
    case JointType::hinge:
    case JointType::gear:
      return {0, 1};
    case JointType::slider:
    case JointType::distance:
    case JointType::spring:
    case JointType::pulley:
    case JointType::winch:
    case JointType::rack:
      return {1, 0};
    case JointType::cylinder:
      return {1, 1};
    case JointType::universal:
      return {0, 2};
    case JointType::planar:
    case JointType::screw:
      return {2, 1};
    case JointType::limb:
      return {0, 4};
    case JointType::wheel:
      return {1, 2};
    case JointType::sixAxis:
      return {3, 3};
  }
  return {0, 0};
}

std::string faultOf(JointType type, const AxisDef& axis) {
  if (type == JointType::winch) {
    if (axis.friction > 0) return "a winch has no friction: its motor cap says what its rope bears before it slips";
    if (axis.stopStiffness > 0 || axis.stopDamping > 0) return "the rope of a winch cannot stretch: its stops are hard";
    if (axis.restitution > 0) return "the rope of a winch does not bounce when it goes taut";
  }
  return faultOf(axis);
}

bool isLockedByNature(JointType type, int axis) {
  switch (type) {
    case JointType::gear:
    case JointType::rack:
      return axis == 0;
    case JointType::wheel:  // steering
    case JointType::screw:  // the thread
      return axis == 1;
    default:
      return false;
  }
}

void evaluateCoordinate(JointType type, int k, const JointGeometry& g, const Body& a, const Body& b, Winding& winding,
                        RowBlock& rows) {
  switch (type) {
    case JointType::fixed:
    case JointType::ball:
      return;
    case JointType::hinge:
      return turnAboutX(g, a, b, winding, rows);
    case JointType::slider:
      return travelAlong(0, g, a, b, rows);
    case JointType::distance:
    case JointType::spring:
      return lengthOf(g, a, b, rows);
    case JointType::pulley:
    case JointType::winch:
      return ropeLength(g, a, b, rows);
    case JointType::cylinder:
      return k == 0 ? travelAlong(0, g, a, b, rows) : turnAboutX(g, a, b, winding, rows);
    case JointType::universal:
      return k == 0 ? turnAboutX(g, a, b, winding, rows) : turnAboutYOfB(g, a, b, winding, rows);
    case JointType::planar:
      return k < 2 ? travelAlong(k + 1, g, a, b, rows) : turnAboutX(g, a, b, winding, rows);
    case JointType::screw:
      if (k == 0) return travelAlong(0, g, a, b, rows);
      return k == 1 ? threadOfScrew(g, a, b, winding, rows) : turnAboutX(g, a, b, winding, rows);
    case JointType::limb:
      if (k == 3) return leanBeyondCone(g, a, b, rows);
      return k == 0 ? twist(g, a, b, winding, rows) : swing(k, g, a, b, rows);
    case JointType::wheel:
      if (k == 0) return travelAlong(1, g, a, b, rows);
      return k == 1 ? steerOfWheel(g, a, b, winding, rows) : spinOfWheel(g, a, b, winding, rows);
    case JointType::sixAxis:
      if (k < 3) return travelAlong(k, g, a, b, rows);
      return k == 3 ? twist(g, a, b, winding, rows) : swing(k - 3, g, a, b, rows);
    case JointType::gear:
      return meshOfGear(g, a, b, winding, rows);
    case JointType::rack:
      return meshOfRack(g, a, b, winding, rows);
  }
}

}  // namespace calm
