// SPDX-License-Identifier: GPL-3.0-or-later
// Rotations over finite angles, and the free (torque-less) motion of a rigid body.
#pragma once

#include <algorithm>
#include <cmath>

#include "engine/math/types.h"

namespace calm {

// The rotation by |v| radians about v. Exact to round-off at every angle, 0 included.
Quat rotationFromVector(const Vec3& v);

// Its inverse: the rotation vector of at most pi radians.
Vec3 vectorFromRotation(const Quat& q);

// The smallest rotation that turns one direction into the other; where they are opposite, half a turn about an axis
// across them. Neither need be a unit vector. Compiled once: Eigen finds that axis by a singular value decomposition.
Quat turnBetween(const Vec3& from, const Vec3& to);

// How far the turn from one to the other moves what is a metre from its axis, m: the chord.
inline double chordBetween(const Quat& a, const Quat& b) {
  const double same = (a.coeffs() - b.coeffs()).squaredNorm(), opposite = (a.coeffs() + b.coeffs()).squaredNorm();
  return 2 * std::sqrt(std::min(same, opposite));
}

// How a body's principal inertias relate; decides which closed form its free rotation has.
enum class InertiaKind { spherical, symmetric, general };

// Principal moments of inertia, kg m^2, ordered as the axes of the principal frame.
class PrincipalInertia {
 public:
  PrincipalInertia() = default;
  explicit PrincipalInertia(const Vec3& moments);

  const Vec3& moments() const { return moments_; }
  const Vec3& inverse() const { return inverse_; }
  const Vec3& inverseRoot() const { return inverseRoot_; }
  InertiaKind kind() const { return kind_; }
  // Of the splitting below: the inverse of the spherical part's moment, and the axes of the axial ones.
  double spherical() const { return inverse_[sphericalAxis_]; }
  int halfAxis() const { return halfAxis_; }
  int fullAxis() const { return fullAxis_; }

  // Advances the orientation (principal frame to world) of a torque-free body with the given angular momentum (kg
  // m^2/s; in the world, and in the principal frame, which turns with the body) by h seconds. Spherical and symmetric
  // bodies are exact. General bodies use the symmetric splitting of the kinetic energy into a spherical part and two
  // axial ones (McLachlan 1993; Dullweber, Leimkuhler and McLachlan, J. Chem. Phys. 107, 5840, 1997): second order and
  // symplectic. `held`: see carryAxis().
  void driftFree(Quat& orientation, const Vec3& momentum, Vec3& momentumInBody, double h, double held = 0) const;
  // The angle by which the axis of a rotor with this spin (principal frame) would go round by itself in h seconds.
  double nutation(const Vec3& spin, double h) const {
    return kind_ == InertiaKind::spherical ? 0 : h * spherical() * moments_[fullAxis_] * spin[fullAxis_];
  }

 private:
  Vec3 moments_ = Vec3::Ones();
  Vec3 inverse_ = Vec3::Ones(), inverseRoot_ = Vec3::Ones();
  InertiaKind kind_ = InertiaKind::spherical;
  int sphericalAxis_ = 0;            // its moment serves as the spherical part
  int halfAxis_ = 0, fullAxis_ = 0;  // the axial parts: two half steps about one, a full step about the other
};

}  // namespace calm
