// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/rotor.h"

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>

namespace calm {

bool isFastRotor(const Body& body, double h) {
  constexpr double kFast = 0.05;  // rad
  return std::abs(body.inertia.nutation(body.axes.transpose() * body.spin, h)) > kFast;
}

// From how mobile it is about two axes across its own, beyond what turning about its own does. Where one is held the
// other has the rotor's own inertia; where neither is the axis nutates by itself, and in between as the geometric mean
// of the two makes the nutation's rate. Where both are held it only goes round with what holds it, and how fast on the
// mean follows from its momentum.
double heldAxisOf(const PrincipalInertia& inertia, const Mat3& mobility) {
  constexpr double kSlight = 1e-3;
  const int axis = inertia.fullAxis(), first = (axis + 1) % 3, second = (axis + 2) % 3;
  const double own = 1 / inertia.spherical(), about = std::max(mobility(axis, axis), 1e-9 * inertia.inverse()[axis]);
  const auto across = [&](int i, int j) {
    return own * (mobility(i, j) - mobility(i, axis) * mobility(axis, j) / about);
  };
  const double m1 = across(first, first), m2 = across(second, second), mixed = across(first, second);
  const double nutates = std::sqrt(std::max(0.0, m1 * m2 - mixed * mixed));
  const double most = std::max(0.0, (m1 + m2) / 2 + std::hypot((m1 - m2) / 2, mixed));
  const double whenLocked = std::min(1.0, std::abs(1 - own / inertia.moments()[axis]));
  const double asLocked = kSlight / (most + kSlight);
  const double squared = asLocked * whenLocked * whenLocked + (1 - asLocked);
  return std::sqrt(std::max(0.0, 1 - nutates) * squared);
}

Mat3 mobilityOnPoint(const Body& body, const Vec3& arm, const Eigen::Matrix3Xd& directions) {
  // All in the body's axes.
  const Mat3 toBody = body.axes.transpose();
  const Vec3 at = toBody * arm;
  Eigen::Matrix3Xd turns = toBody * directions;
  for (int i = 0; i < turns.cols(); ++i) turns.col(i) = at.cross(Vec3(turns.col(i)));
  const Eigen::Matrix3Xd answers = body.inertia.inverse().asDiagonal() * turns;
  Eigen::MatrixXd held = turns.transpose() * answers;
  held.diagonal().array() += body.inverseMass;
  const Mat3 own = body.inertia.inverse().asDiagonal();
  return own - answers * held.ldlt().solve(answers.transpose());
}

}  // namespace calm
