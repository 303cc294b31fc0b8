// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/joint/joint.h"

namespace calm {

RowCount rowCount(JointType type) {
  switch (type) {
    case JointType::fixed:
      return {6, 3};
    case JointType::ball:
      return {3, 0};
    case JointType::hinge:
      return {5, 2};
    case JointType::slider:
      return {5, 3};
    case JointType::cylinder:
      return {4, 2};
    case JointType::universal:
      return {4, 1};
    case JointType::planar:
      return {3, 2};
    case JointType::distance:
      return {0, 0};
  }
  return {0, 0};
}

void evaluateRows(JointType type, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  switch (type) {
    case JointType::fixed:
      return evaluateFixed(g, a, b, rows);
    case JointType::ball:
      return evaluateBall(g, a, b, rows);
    case JointType::hinge:
      return evaluateHinge(g, a, b, rows);
    case JointType::slider:
      return evaluateSlider(g, a, b, rows);
    case JointType::cylinder:
      return evaluateCylinder(g, a, b, rows);
    case JointType::universal:
      return evaluateUniversal(g, a, b, rows);
    case JointType::planar:
      return evaluatePlanar(g, a, b, rows);
    case JointType::distance:
      return;  // nothing is locked
  }
}

}  // namespace calm
