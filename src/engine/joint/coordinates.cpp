// SPDX-License-Identifier: GPL-3.0-or-later
// The free axes of each type.
#include <cmath>

#include "engine/joint/joint.h"

namespace calm {

void evaluateLength(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);

namespace {

// How far b's pivot lies along a's column axis.
void travel(int column, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Vec3 axis = a.axes * g.axesA.col(column);
  rows.along(axis, axis.dot(gap));
}

// Angle about a's x axis from a's y to b's y, which lies at right angles to it: of hinges, and the first bend of a
// universal joint.
void turnAboutX(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 y = b.axes * g.axesB.col(1);
  rows.turn(axesA.col(0), std::atan2(axesA.col(2).dot(y), axesA.col(1).dot(y)));
}

// Angle about b's y axis from a's x to b's x: the second bend of a universal joint.
void turnAboutYOfB(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Mat3 axesB = b.axes * g.axesB;
  const Vec3 x = a.axes * g.axesA.col(0);
  rows.turn(axesB.col(1), std::atan2(axesB.col(2).dot(x), axesB.col(0).dot(x)));
}

}  // namespace

AxisCount axesOf(JointType type) {
  switch (type) {
    case JointType::fixed:
    case JointType::ball:
      return {0, 0};
    case JointType::hinge:
      return {0, 1};
    case JointType::slider:
    case JointType::distance:
      return {1, 0};
    case JointType::cylinder:
      return {1, 1};
    case JointType::universal:
      return {0, 2};
    case JointType::planar:
      return {2, 1};
  }
  return {0, 0};
}

void evaluateCoordinate(JointType type, int k, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  switch (type) {
    case JointType::fixed:
    case JointType::ball:
      return;
    case JointType::hinge:
      return turnAboutX(g, a, b, rows);
    case JointType::slider:
      return travel(0, g, a, b, rows);
    case JointType::distance:
      return evaluateLength(g, a, b, rows);
    case JointType::cylinder:
      return k == 0 ? travel(0, g, a, b, rows) : turnAboutX(g, a, b, rows);
    case JointType::universal:
      return k == 0 ? turnAboutX(g, a, b, rows) : turnAboutYOfB(g, a, b, rows);
    case JointType::planar:
      return k < 2 ? travel(k + 1, g, a, b, rows) : turnAboutX(g, a, b, rows);
  }
}

}  // namespace calm
