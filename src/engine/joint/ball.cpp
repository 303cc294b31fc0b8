// SPDX-License-Identifier: GPL-3.0-or-later
// Ball: the pivots coincide, the parts turn freely about it.
#include "engine/joint/joint.h"

namespace calm {

void evaluateBall(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  pivotRows(g, a, b, rows);
}

}  // namespace calm
