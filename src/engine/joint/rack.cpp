// SPDX-License-Identifier: GPL-3.0-or-later
// Rack: pinion a turns about its x axis, rack b moves along its own x axis, by the radius times the angle. The pinion's
// turn is seen from the rack. Nothing is locked but the mesh: a hinge carries the pinion, a slider the rack.
#include "engine/joint/joint.h"

namespace calm {

void meshOfRack(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA, axesB = b.axes * g.axesB;
  const Vec3 axle = axesA.col(0), along = axesB.col(0);
  // The arms reach to the pinion's pivot, since the rack's direction is fixed in b.
  const Vec3 armA = a.axes * g.anchorA, pivot = a.position + armA, armB = pivot - b.position;
  rows.meetAt(armA, armB);
  const double travel = along.dot(b.position + b.axes * g.anchorB - pivot);
  const double angle = -std::atan2(axesA.col(2).dot(along), axesA.col(1).dot(along));
  const Vec3 turning = g.form.radius * axle;
  rows.general(true, travel - g.form.radius * winding.unwrap(angle) - g.zero, -along, -armA.cross(along) - turning,
               along, armB.cross(along) + turning);
}

}  // namespace calm
