// SPDX-License-Identifier: GPL-3.0-or-later
// Screw: a cylinder joint whose travel follows its turn, by the lead in one turn.
#include <numbers>

#include "engine/joint/joint.h"

namespace calm {

// Travel less what the turn makes of it.
void threadOfScrew(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Vec3 gap = reachToB(g, a, b, rows);
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 axis = axesA.col(0), y = b.axes * g.axesB.col(1), slope = g.form.lead / (2 * std::numbers::pi) * axis;
  const double angle = winding.unwrap(std::atan2(axesA.col(2).dot(y), axesA.col(1).dot(y)));
  rows.general(true, axis.dot(gap) - slope.dot(axis) * angle - g.zero, -axis, -rows.armA().cross(axis) + slope, axis,
               rows.armB().cross(axis) - slope);
}

}  // namespace calm
