// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/rotation.h"

#include <algorithm>
#include <cmath>

namespace calm {

namespace {

// sin(x)/x and cos(x) from x^2. The series to x^10 is exact to round-off below 0.3 rad, which nearly every
// substep is; it costs a fraction of the library calls.
[[gnu::always_inline]] inline void sincAndCos(double x2, double& sinc, double& cosine) {
  if (x2 < 0.09) {
    // 1 - x^2/3! + x^4/5! - ... and 1 - x^2/2! + x^4/4! - ...
    constexpr double c2 = 1 / 2., c3 = 1 / 6., c4 = 1 / 24., c5 = 1 / 120., c6 = 1 / 720., c7 = 1 / 5040.;
    constexpr double c8 = 1 / 40320., c9 = 1 / 362880., c10 = 1 / 3628800., c11 = 1 / 39916800., c12 = 1 / 479001600.;
    // Terms in pairs, which the processor can take side by side.
    const double x4 = x2 * x2;
    sinc = (1 - x2 * c3) + x4 * ((c5 - x2 * c7) + x4 * (c9 - x2 * c11));
    cosine = (1 - x2 * c2) + x4 * ((c4 - x2 * c6) + x4 * ((c8 - x2 * c10) + x4 * c12));
  } else {
    const double x = std::sqrt(x2);
    sinc = std::sin(x) / x;
    cosine = std::cos(x);
  }
}

// Rotates the body frame by `angle` about its own axis `i`; body coordinates of fixed vectors turn back.
void turnAboutOwnAxis(int i, double angle, Quat& q, Vec3& bodyVector) {
  double sinc, cosine;
  sincAndCos(angle * angle / 4, sinc, cosine);
  const double s = sinc * angle / 2;
  const int j = (i + 1) % 3, k = (i + 2) % 3;
  const double w = q.w();
  double* v = q.coeffs().data();
  const double vi = v[i], vj = v[j], vk = v[k];
  q.w() = w * cosine - vi * s;
  v[i] = vi * cosine + w * s;
  v[j] = vj * cosine + vk * s;
  v[k] = vk * cosine - vj * s;
  const double c2 = cosine * cosine - s * s, s2 = 2 * s * cosine;
  const double a = bodyVector[j], b = bodyVector[k];
  bodyVector[j] = c2 * a + s2 * b;
  bodyVector[k] = c2 * b - s2 * a;
}

}  // namespace

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

void PrincipalInertia::driftFree(Quat& q, const Vec3& worldMomentum, Vec3& momentum, double h) const {
  const double spherical = inverse_[sphericalAxis_];
  if (kind_ != InertiaKind::spherical) {
    const auto axial = [&](int axis, double time) {
      turnAboutOwnAxis(axis, time * (inverse_[axis] - spherical) * momentum[axis], q, momentum);
    };
    if (kind_ == InertiaKind::symmetric) {
      axial(fullAxis_, h);
    } else {
      axial(halfAxis_, h / 2);
      axial(fullAxis_, h);
      axial(halfAxis_, h / 2);
    }
  }
  // About the momentum itself, which leaves it in the body where it is.
  q = rotationFromVector(worldMomentum * (spherical * h)) * q;
  // To unit length, from which it is only round-off away: a step of Newton's for 1/sqrt.
  q.coeffs() *= 1.5 - 0.5 * q.squaredNorm();
}

}  // namespace calm
