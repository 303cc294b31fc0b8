// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/geometric_stiffness.h"

#include <Eigen/Eigenvalues>
#include <algorithm>

namespace calm {

namespace {

// The squared frequency, in steps, of what a body's forces make it swing with: below the first the step resolves it and
// needs no help, which would cost accuracy; from the second on it has it in full.
constexpr double kResolved = 0.05, kStiff = 0.5;

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
  const double most = body.stiffened ? h * h * body.stiffness.cwiseAbs().maxCoeff() * inverse.maxCoeff() : 0;
  if (share == 0 || most < kResolved / 3) {
    body.response.noalias() = body.axes * inverse.asDiagonal() * body.axes.transpose();
    return;
  }
  if (!body.untouchedAxis.isZero()) {
    const Vec3 axis = body.axes * body.untouchedAxis;
    const Mat3 across = Mat3::Identity() - axis * axis.transpose();
    body.stiffness = (across * body.stiffness * across).eval();
  }
  // Scaled to unit inertia in the principal frame, S = h^2 D^-1 R^T K R D^-1 with D^2 the moments. The sum of a row's
  // magnitudes bounds how fast its axis swings (Gershgorin).
  const Mat3 scale = body.axes * inverse.cwiseSqrt().asDiagonal();
  Mat3 s = h * h * (scale.transpose() * body.stiffness * scale);
  const Vec3 swing = s.cwiseAbs().rowwise().sum();
  const Vec3 need = ((swing.array() - kResolved) / (kStiff - kResolved)).max(0).min(1).sqrt();
  s = share * (need.asDiagonal() * s * need.asDiagonal());
  if (!isNonNegative(s, 1e-12 * swing.maxCoeff())) {
    Eigen::SelfAdjointEigenSolver<Mat3> solver;
    solver.computeDirect(s);
    s = solver.eigenvectors() * solver.eigenvalues().cwiseMax(0).asDiagonal() * solver.eigenvectors().transpose();
  }
  s.diagonal().array() += 1;
  body.response.noalias() = scale * s.inverse() * scale.transpose();
}

}  // namespace calm
