// SPDX-License-Identifier: GPL-3.0-or-later
// Limb: the pivots coincide. How b is turned is split into a swing, which takes a's x axis to b's the short way, and a
// twist about b's x axis (Grassia, "Practical parameterization of rotations using the exponential map", J. Graphics
// Tools 3, 1998). The swing's rotation vector has parts about a's y and z; a cone with an elliptical rim may bound it.
#include "engine/joint/joint.h"

namespace calm {

namespace {

// Of numbers of ordinary size, which need none of the care that makes std::hypot slow.
double length(double x, double y) {
  return std::sqrt(x * x + y * y);
}

// The swing's rotation vector (its parts about a's y and z) and the rates of these with the spin of b against a.
struct Swing {
  double y, z;
  Vec3 rateY, rateZ;
};

Swing swingOf(const JointGeometry& g, const Body& a, const Body& b) {
  const Mat3 axesA = a.axes * g.axesA;
  const Vec3 x = b.axes * g.axesB.col(0);
  const double across = length(axesA.col(1).dot(x), axesA.col(2).dot(x));
  const double angle = std::atan2(across, axesA.col(0).dot(x));
  // Direction in which b's x axis leans; any will do where it does not. Opposite to a's the vector jumps.
  const double cosine = across > 1e-12 ? axesA.col(1).dot(x) / across : 1;
  const double sine = across > 1e-12 ? axesA.col(2).dot(x) / across : 0;
  const Vec3 about = -sine * axesA.col(1) + cosine * axesA.col(2);  // the swing's axis
  const Vec3 beside = x.cross(about);
  const double stretch = across > 1e-9 ? angle / across : 1;
  return {-angle * sine, angle * cosine, -sine * about - stretch * cosine * beside,
          cosine * about - stretch * sine * beside};
}

// By the rotation q between the axes: twice the angle whose tangent is q.x / q.w, up to whole turns.
double twistOf(const Mat3& a, const Mat3& b) {
  const double x = a.col(2).dot(b.col(1)) - a.col(1).dot(b.col(2));                               // 4 q.w q.x
  const double w = 1 + a.col(0).dot(b.col(0)) + a.col(1).dot(b.col(1)) + a.col(2).dot(b.col(2));  // 4 q.w^2
  constexpr double kFarFromHalfTurn = 0.1;
  if (w > kFarFromHalfTurn) return 2 * std::atan2(x, w);
  const Quat q(Mat3(a.transpose() * b));
  return 2 * std::atan2(q.x(), q.w());
}

}  // namespace

void twist(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows) {
  const Mat3 axesA = a.axes * g.axesA, axesB = b.axes * g.axesB;
  // The spin's share along the line midway between the two axes; it grows without bound as they become opposite.
  const Vec3 both = axesA.col(0) + axesB.col(0);
  const double whole = 1 + axesA.col(0).dot(axesB.col(0));
  rows.turn(both / std::max(whole, 1e-9), winding.unwrap(twistOf(axesA, axesB)));
}

void swing(int column, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Swing s = swingOf(g, a, b);
  if (column == 1)
    rows.turn(s.rateY, s.y);
  else
    rows.turn(s.rateZ, s.z);
}

// How far the swing reaches beyond the rim of the cone, in its own direction; negative inside.
void leanBeyondCone(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Swing s = swingOf(g, a, b);
  const double ry = std::max(g.form.coneY, 1e-9), rz = std::max(g.form.coneZ, 1e-9);
  const double angle = length(s.y, s.z);
  if (angle < 1e-9) return rows.turn(s.rateY, -std::min(ry, rz));
  // The rim in this direction is at angle / part.
  const double part = length(s.y / ry, s.z / rz);
  const double cube = angle / (part * part * part);
  const double byY = s.y / angle - s.y / (angle * part) + cube * s.y / (ry * ry);
  const double byZ = s.z / angle - s.z / (angle * part) + cube * s.z / (rz * rz);
  rows.turn(byY * s.rateY + byZ * s.rateZ, angle - angle / part);
}

}  // namespace calm
