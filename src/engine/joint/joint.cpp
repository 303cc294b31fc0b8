// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/joint/joint.h"

namespace calm {

RowCount rowCount(JointType type) {
  switch (type) {
    case JointType::fixed:
      return {6, 3, 3};
    case JointType::ball:
      return {3, 0, 3};
    case JointType::hinge:
      return {5, 2, 3};
    case JointType::slider:
      return {5, 3};
    case JointType::cylinder:
      return {4, 2};
    case JointType::universal:
      return {4, 1, 3};
    case JointType::planar:
      return {3, 2};
    case JointType::limb:
      return {3, 0, 3};
    case JointType::wheel:
      return {3, 1};
    case JointType::screw:
      return {4, 2};
    case JointType::sixAxis:
    case JointType::distance:
    case JointType::spring:
    case JointType::pulley:
    case JointType::winch:
    case JointType::gear:
    case JointType::rack:
      return {0, 0};  // nothing is locked but what their axes lock
  }
  return {0, 0};
}

void evaluateRows(JointType type, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  switch (type) {
    case JointType::fixed:
      return evaluateFixed(g, a, b, rows);
    case JointType::ball:
    case JointType::limb:
      return evaluateBall(g, a, b, rows);
    case JointType::hinge:
      return evaluateHinge(g, a, b, rows);
    case JointType::slider:
      return evaluateSlider(g, a, b, rows);
    case JointType::cylinder:
    case JointType::screw:
      return evaluateCylinder(g, a, b, rows);
    case JointType::universal:
      return evaluateUniversal(g, a, b, rows);
    case JointType::planar:
      return evaluatePlanar(g, a, b, rows);
    case JointType::wheel:
      return evaluateWheel(g, a, b, rows);
    case JointType::sixAxis:
    case JointType::distance:
    case JointType::spring:
    case JointType::pulley:
    case JointType::winch:
    case JointType::gear:
    case JointType::rack:
      return;
  }
}

}  // namespace calm
