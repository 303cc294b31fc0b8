// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/rotation.h"

#include <algorithm>
#include <cmath>

#include "engine/math/free_rotation.h"

namespace calm {

Quat rotationFromVector(const Vec3& v) {
  double sinc, cosine;
  sincAndCos(v.squaredNorm() / 4, sinc, cosine);
  const Vec3 axis = v * (sinc / 2);
  return Quat(cosine, axis.x(), axis.y(), axis.z());
}

Vec3 vectorFromRotation(const Quat& q) {
  const double sign = q.w() < 0 ? -1 : 1;
  const Vec3 part = sign * q.vec();
  const double sine = part.norm(), angle = 2 * std::atan2(sine, sign * q.w());
  return sine > 1e-12 ? Vec3(part * (angle / sine)) : Vec3(2 * part);
}

Quat turnBetween(const Vec3& from, const Vec3& to) {
  return Quat::FromTwoVectors(from, to);
}

PrincipalInertia::PrincipalInertia(const Vec3& moments)
    : moments_(moments), inverse_(moments.cwiseInverse()), inverseRoot_(inverse_.cwiseSqrt()) {
  const double scale = moments.maxCoeff();
  const auto same = [&](int i, int j) { return std::abs(moments[i] - moments[j]) <= 1e-12 * scale; };
  if (same(0, 1) && same(1, 2)) {
    kind_ = InertiaKind::spherical;
    return;
  }
  for (int i = 0; i < 3; ++i) {
    const int j = (i + 1) % 3, k = (i + 2) % 3;
    if (same(j, k)) {
      kind_ = InertiaKind::symmetric;
      sphericalAxis_ = j;
      fullAxis_ = i;
      return;
    }
  }
  kind_ = InertiaKind::general;
  // The middle moment as the spherical part leaves the smallest remainders, so the smallest splitting error.
  int order[3] = {0, 1, 2};
  std::sort(order, order + 3, [&](int a, int b) { return moments[a] < moments[b]; });
  sphericalAxis_ = order[1];
  halfAxis_ = order[0];
  fullAxis_ = order[2];
}

void PrincipalInertia::driftFree(Quat& orientation, const Vec3& worldMomentum, Vec3& momentum, double h,
                                 double held) const {
  double* q = orientation.coeffs().data();
  const auto axial = [&](int axis, double time) { return time * (inverse_[axis] - spherical()) * momentum[axis]; };
  const double whole = h * spherical();
  double share = 1;
  if (kind_ == InertiaKind::general) turnAboutOwnAxis(halfAxis_, axial(halfAxis_, h / 2), q, momentum.data());
  if (kind_ != InertiaKind::spherical) {
    double own = axial(fullAxis_, h);
    if (held > 0) carryAxis(held, whole * momentum[fullAxis_], whole * worldMomentum.norm(), share, own);
    turnAboutOwnAxis(fullAxis_, own, q, momentum.data());
  }
  if (kind_ == InertiaKind::general) turnAboutOwnAxis(halfAxis_, axial(halfAxis_, h / 2), q, momentum.data());
  // About the momentum itself, which leaves it in the body where it is.
  const Vec3 by = worldMomentum * (whole * share);
  turnInWorld(by.data(), q);
}

}  // namespace calm
