// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/geometric_stiffness.h"

#include <Eigen/Eigenvalues>

namespace calm {

namespace {

// Whether a symmetric matrix has no eigenvalue below -slack.
bool isNonNegative(const Mat3& m, double slack) {
  const double a = m(0, 0) + slack, b = m(1, 1) + slack, c = m(2, 2) + slack;
  const double ab = a * b - m(0, 1) * m(0, 1);
  if (a < 0 || b < 0 || c < 0 || ab < 0) return false;
  return a * (b * c - m(1, 2) * m(1, 2)) - m(0, 1) * (m(0, 1) * c - m(1, 2) * m(0, 2)) +
             m(0, 2) * (m(0, 1) * m(1, 2) - b * m(0, 2)) >=
         0;
}

}  // namespace

void updateResponse(Body& body, double h, double share) {
  const Vec3& inverse = body.inertia.inverse();
  const double weight = share * h * h;
  const double size = body.stiffened ? weight * body.stiffness.cwiseAbs().maxCoeff() * inverse.maxCoeff() : 0;
  if (size < 1e-14) {
    body.response.noalias() = body.axes * inverse.asDiagonal() * body.axes.transpose();
    return;
  }
  if (!body.untouchedAxis.isZero()) {
    const Vec3 axis = body.axes * body.untouchedAxis;
    const Mat3 across = Mat3::Identity() - axis * axis.transpose();
    body.stiffness = (across * body.stiffness * across).eval();
  }
  // Scaled to unit inertia in the principal frame, S = D^-1 R^T K R D^-1 with D^2 the moments.
  const Mat3 scale = body.axes * inverse.cwiseSqrt().asDiagonal();
  Mat3 s = weight * (scale.transpose() * body.stiffness * scale);
  if (!isNonNegative(s, 1e-12 * size)) {
    Eigen::SelfAdjointEigenSolver<Mat3> solver;
    solver.computeDirect(s);
    s = solver.eigenvectors() * solver.eigenvalues().cwiseMax(0).asDiagonal() * solver.eigenvectors().transpose();
  }
  s.diagonal().array() += 1;
  body.response.noalias() = scale * s.inverse() * scale.transpose();
}

}  // namespace calm
