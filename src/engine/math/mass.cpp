// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/mass.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <sstream>

namespace calm {

namespace {
// Inertia of a point mass at r.
Mat3 pointInertia(double mass, const Vec3& r) {
  return mass * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
}
}  // namespace

MassProperties MassProperties::placed(const Pose& placement) const {
  const Mat3 rotation = placement.rotation.toRotationMatrix();
  return {mass, placement.apply(center), rotation * inertia * rotation.transpose()};
}

MassProperties operator+(const MassProperties& a, const MassProperties& b) {
  MassProperties sum;
  sum.mass = a.mass + b.mass;
  sum.center = (a.mass * a.center + b.mass * b.center) / sum.mass;
  sum.inertia =
      a.inertia + pointInertia(a.mass, a.center - sum.center) + b.inertia + pointInertia(b.mass, b.center - sum.center);
  return sum;
}

PrincipalAxes principalAxes(const Mat3& inertia) {
  const double scale = inertia.cwiseAbs().maxCoeff();
  const double offDiagonal = std::max({std::abs(inertia(0, 1)), std::abs(inertia(0, 2)), std::abs(inertia(1, 2))});
  if (offDiagonal <= 1e-14 * scale) return {inertia.diagonal(), Quat::Identity()};
  const Eigen::SelfAdjointEigenSolver<Mat3> solver((inertia + inertia.transpose()) / 2);
  Mat3 axes = solver.eigenvectors();
  if (axes.determinant() < 0) axes.col(2) = -axes.col(2);
  return {solver.eigenvalues(), Quat(axes).normalized()};
}

std::string faultOf(const MassProperties& p) {
  std::ostringstream fault;
  if (!std::isfinite(p.mass) || p.mass <= 0) {
    fault << "mass must be a number above 0 kg, not " << p.mass;
    return fault.str();
  }
  if (!p.center.allFinite()) return "centre of mass must be finite";
  if (!p.inertia.allFinite()) return "inertia must be finite";
  const Vec3 m = principalAxes(p.inertia).moments;
  if (m.minCoeff() <= 0)
    fault << "moments of inertia must be above 0 kg m^2, not " << m.transpose();
  else if (2 * m.maxCoeff() > m.sum() * (1 + 1e-6))
    fault << "moments of inertia " << m.transpose()
          << " kg m^2 belong to no real body: each may be at most the sum of the other two";
  return fault.str();
}

}  // namespace calm
