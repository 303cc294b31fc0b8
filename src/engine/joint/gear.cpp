// SPDX-License-Identifier: GPL-3.0-or-later
// Gear: b turns `ratio` times as far about its x axis as a about its own, both seen from the line of centres; so a gear
// whose axle travels round another, on a carrier, is right as well. Where the axles are not parallel (bevel gears) each
// turn is seen from the plane of the two axles. Nothing is locked but the mesh: hinges carry the wheels.
#include "engine/joint/joint.h"

namespace calm {

namespace {

// The turn of one wheel about its own axle, from the reference direction to its y axis, and how it changes.
struct Turn {
  double angle;
  Vec3 bySpin, byOtherSpin;  // of its own body and the other's
  Vec3 byOtherVelocity;      // of the other's pivot, less that of its own
};

Turn turnOf(const Mat3& axes, const Vec3& otherAxle, const Vec3& toOther) {
  const Vec3 axle = axes.col(0);
  // Axles that are nearly parallel take the line of centres.
  const bool bevel = axle.cross(otherAxle).norm() > 1e-3;
  const Vec3 seen = bevel ? otherAxle : toOther;
  const Vec3 flat = seen - axle * axle.dot(seen);
  const double size = flat.squaredNorm();
  const double angle = -std::atan2(axes.col(2).dot(seen), axes.col(1).dot(seen));
  if (size < 1e-18) return {angle, axle, Vec3::Zero(), Vec3::Zero()};
  const Vec3 e = axle.cross(flat) / size, turning = seen.cross(e);
  if (bevel) return {angle, turning, -turning, Vec3::Zero()};
  return {angle, turning, Vec3::Zero(), -e};
}

}  // namespace

void meshOfGear(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA, axesB = b.axes * g.axesB;
  const Vec3 armA = a.axes * g.anchorA, armB = b.axes * g.anchorB;
  const Vec3 line = b.position + armB - a.position - armA;
  const Turn ta = turnOf(axesA, axesB.col(0), line), tb = turnOf(axesB, axesA.col(0), -line);
  const double ratio = g.form.ratio;
  // C = turn of b - ratio * turn of a. The line of centres moves with the velocities of both its ends.
  const Vec3 lb = -tb.byOtherVelocity - ratio * ta.byOtherVelocity;
  const Vec3 la = -lb;
  rows.meetAt(armA, armB);
  const Vec3 aa = tb.byOtherSpin - ratio * ta.bySpin + armA.cross(la);
  const Vec3 ab = tb.bySpin - ratio * ta.byOtherSpin + armB.cross(lb);
  rows.general(false, winding.unwrap(tb.angle, 1) - ratio * winding.unwrap(ta.angle, 0) - g.zero, la, aa, lb, ab);
}

}  // namespace calm
