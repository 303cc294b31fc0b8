// SPDX-License-Identifier: GPL-3.0-or-later
// Universal: the pivots coincide and b's y axis stays at right angles to a's x axis, the two shafts' cross.
#include "engine/joint/joint.h"

namespace calm {

void evaluateUniversal(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  pivotRows(g, a, b, rows);
  rows.perpendicular(a.axes * g.axesA.col(0), b.axes * g.axesB.col(1));
}

}  // namespace calm
