// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/rotation.h"

#include <algorithm>
#include <cmath>

namespace calm {

namespace {

// sin(x)/x and cos(x) from x^2. The series to x^10 is exact to round-off below 0.3 rad, which nearly every
// substep is; it costs a fraction of the library calls.
void sincAndCos(double x2, double& sinc, double& cosine) {
  if (x2 < 0.09) {
    sinc = 1 - x2 / 6 * (1 - x2 / 20 * (1 - x2 / 42 * (1 - x2 / 72 * (1 - x2 / 110))));
    cosine = 1 - x2 / 2 * (1 - x2 / 12 * (1 - x2 / 30 * (1 - x2 / 56 * (1 - x2 / 90 * (1 - x2 / 132)))));
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
  Vec3 v = q.vec();
  const double vi = v[i], vj = v[j], vk = v[k];
  q.w() = w * cosine - vi * s;
  v[i] = vi * cosine + w * s;
  v[j] = vj * cosine + vk * s;
  v[k] = vk * cosine - vj * s;
  q.vec() = v;
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

PrincipalInertia::PrincipalInertia(const Vec3& moments) : moments_(moments), inverse_(moments.cwiseInverse()) {
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

void PrincipalInertia::driftFree(Quat& q, const Vec3& worldMomentum, double h) const {
  const double spherical = inverse_[sphericalAxis_];
  if (kind_ != InertiaKind::spherical) {
    Vec3 momentum = q.conjugate() * worldMomentum;  // body coordinates
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
  q = rotationFromVector(worldMomentum * (spherical * h)) * q;
  q.normalize();
}

}  // namespace calm
