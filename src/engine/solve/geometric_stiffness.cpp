// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/geometric_stiffness.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

namespace calm {

namespace {

// The squared frequency, in steps, of what a body's forces make it swing with: below the first the step resolves it and
// needs no help, which would cost accuracy; from the second on it has it in full.
constexpr double kResolved = 0.05, kStiff = 0.5;

// A symmetric matrix: its diagonal, and for each axis the element between the two others.
struct Symmetric {
  double diagonal[3], across[3];

  // Whether no eigenvalue lies below -slack.
  bool isNonNegative(double slack) const {
    const double a = diagonal[0] + slack, b = diagonal[1] + slack, c = diagonal[2] + slack;
    const double ab = a * b - across[2] * across[2];
    if (a < 0 || b < 0 || c < 0 || ab < 0) return false;
    return a * (b * c - across[0] * across[0]) - across[2] * (across[2] * c - across[0] * across[1]) +
               across[1] * (across[2] * across[0] - b * across[1]) >=
           0;
  }
  Mat3 whole() const {
    Mat3 m;
    m << diagonal[0], across[2], across[1], across[2], diagonal[1], across[0], across[1], across[0], diagonal[2];
    return m;
  }
  Symmetric inverse() const {
    Symmetric s;
    for (int i = 0; i < 3; ++i) {
      const int j = (i + 1) % 3, k = (i + 2) % 3;
      s.diagonal[i] = diagonal[j] * diagonal[k] - across[i] * across[i];
      s.across[i] = across[j] * across[k] - across[i] * diagonal[i];
    }
    const double scale = 1 / (diagonal[0] * s.diagonal[0] + across[2] * s.across[2] + across[1] * s.across[1]);
    for (int i = 0; i < 3; ++i) s.diagonal[i] *= scale, s.across[i] *= scale;
    return s;
  }
};

Symmetric symmetric(const Mat3& m) {
  return {{m(0, 0), m(1, 1), m(2, 2)}, {m(1, 2), m(2, 0), m(0, 1)}};
}

// a^T s a.
Symmetric seenFrom(const Mat3& a, const Mat3& s) {
  const Mat3 half = s * a;
  Symmetric result;
  for (int i = 0; i < 3; ++i) {
    const int j = (i + 1) % 3, k = (i + 2) % 3;
    result.diagonal[i] = a.col(i).dot(half.col(i));
    result.across[i] = a.col(j).dot(half.col(k));
  }
  return result;
}

// a s a^T.
Mat3 turned(const Mat3& a, const Symmetric& s) {
  const Mat3 half = a * s.whole();
  Mat3 result;
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j <= i; ++j)
      result(i, j) = result(j, i) = half(i, 0) * a(j, 0) + half(i, 1) * a(j, 1) + half(i, 2) * a(j, 2);
  return result;
}

// What is left of it across the unit vector n.
void removeAlong(const Vec3& n, Symmetric& s) {
  Vec3 along;
  for (int i = 0; i < 3; ++i) {
    const int j = (i + 1) % 3, k = (i + 2) % 3;
    along[i] = s.diagonal[i] * n[i] + s.across[k] * n[j] + s.across[j] * n[k];
  }
  const double both = n.dot(along);
  for (int i = 0; i < 3; ++i) {
    const int j = (i + 1) % 3, k = (i + 2) % 3;
    s.diagonal[i] += (both * n[i] - 2 * along[i]) * n[i];
    s.across[i] += both * n[j] * n[k] - along[j] * n[k] - n[j] * along[k];
  }
}

}  // namespace

void updateResponse(Body& body, double h, double share) {
  const Vec3& inverse = body.inertia.inverse();
  // A row's sum of magnitudes, below, is at most sqrt(3) times the matrix's norm.
  const double fastest = h * h * inverse.maxCoeff();
  if (share == 0 || !body.stiffened || 3 * fastest * fastest * body.stiffness.squaredNorm() < kResolved * kResolved) {
    body.response = turned(body.axes, {{inverse[0], inverse[1], inverse[2]}, {0, 0, 0}});
    return;
  }
  Symmetric s = seenFrom(body.axes, body.stiffness);
  if (!body.untouchedAxis.isZero(0)) removeAlong(body.untouchedAxis, s);
  // Scaled to unit inertia in the principal frame, S = h^2 D^-1 K D^-1 with D^2 the moments. The sum of a row's
  // magnitudes bounds how fast its axis swings (Gershgorin).
  const Vec3& scale = body.inertia.inverseRoot();
  double swing[3], need[3];
  for (int i = 0; i < 3; ++i) {
    s.diagonal[i] *= h * h * inverse[i];
    s.across[i] *= h * h * scale[(i + 1) % 3] * scale[(i + 2) % 3];
  }
  for (int i = 0; i < 3; ++i) {
    swing[i] = std::abs(s.diagonal[i]) + std::abs(s.across[(i + 1) % 3]) + std::abs(s.across[(i + 2) % 3]);
    need[i] = std::sqrt(std::clamp((swing[i] - kResolved) / (kStiff - kResolved), 0.0, 1.0));
  }
  for (int i = 0; i < 3; ++i) {
    s.diagonal[i] *= share * need[i] * need[i];
    s.across[i] *= share * need[(i + 1) % 3] * need[(i + 2) % 3];
  }
  if (!s.isNonNegative(1e-12 * std::max({swing[0], swing[1], swing[2]}))) {
    Eigen::SelfAdjointEigenSolver<Mat3> solver;
    solver.computeDirect(s.whole());
    s = symmetric(solver.eigenvectors() * solver.eigenvalues().cwiseMax(0).asDiagonal() *
                  solver.eigenvectors().transpose());
  }
  for (double& d : s.diagonal) d += 1;
  body.response = turned(body.axes * scale.asDiagonal(), s.inverse());
}

}  // namespace calm
