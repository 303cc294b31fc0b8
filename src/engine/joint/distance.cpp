// SPDX-License-Identifier: GPL-3.0-or-later
// Distance and spring: nothing is locked; the length between the pivots is the one axis. With a high stop it is a rope,
// with both a rod, with a stiffness a spring.
#include "engine/joint/joint.h"

namespace calm {

void lengthOf(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 armA = a.axes * g.anchorA, armB = b.axes * g.anchorB;
  rows.meetAt(armA, armB);
  const Vec3 gap = b.position + armB - a.position - armA;
  const double length = gap.norm();
  // Pivots that coincide have no direction between them; any will do, since the next moment gives one.
  const Vec3 n = length > 1e-12 ? Vec3(gap / length) : Vec3::UnitY();
  rows.along(n, length);
}

}  // namespace calm
