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
  }
}

}  // namespace calm
