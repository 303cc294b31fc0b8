// SPDX-License-Identifier: GPL-3.0-or-later
// The steps of which the free rotation of a rigid body is composed, for one body (T = double) or for eight side by side
// (T = Oct). Quaternions are x, y, z, w.
#pragma once

#include <cmath>

#include "engine/math/lanes.h"

namespace calm {

// Below this angle (squared, rad^2) the series of sincAndCos is exact to round-off; nearly every substep is.
constexpr double kSmallAngle2 = 0.09;

// sin(x)/x and cos(x) from x^2, by the library.
inline void sincAndCosOfLarge(double x2, double& sinc, double& cosine) {
  const double x = std::sqrt(x2);
  sinc = std::sin(x) / x;
  cosine = std::cos(x);
}
CALM_INLINE void mendLarge(double x2, double& sinc, double& cosine) {
  if (!(x2 < kSmallAngle2)) sincAndCosOfLarge(x2, sinc, cosine);
}
CALM_INLINE void mendLarge(const Oct& x2, Oct& sinc, Oct& cosine) {
  Oct limit;
  lanes::fill(limit, kSmallAngle2);
  if (!lanes::any(limit < x2)) return;
  for (int l = 0; l < Oct::kLanes; ++l) {
    if (x2[l] < kSmallAngle2) continue;
    double s, c;
    sincAndCosOfLarge(x2[l], s, c);
    sinc[l] = s, cosine[l] = c;
  }
}

// sin(x)/x and cos(x) from x^2.
template <class T>
CALM_INLINE void sincAndCos(const T& x2, T& sinc, T& cosine) {
  // 1 - x^2/3! + x^4/5! - ... and 1 - x^2/2! + x^4/4! - ...
  constexpr double c2 = 1 / 2., c3 = 1 / 6., c4 = 1 / 24., c5 = 1 / 120., c6 = 1 / 720., c7 = 1 / 5040.;
  constexpr double c8 = 1 / 40320., c9 = 1 / 362880., c10 = 1 / 3628800., c11 = 1 / 39916800., c12 = 1 / 479001600.;
  // Terms in pairs, which the processor can take side by side.
  const T x4 = x2 * x2;
  sinc = (-c3 * x2 + 1) + x4 * ((-c7 * x2 + c5) + x4 * (-c11 * x2 + c9));
  cosine = (-c2 * x2 + 1) + x4 * ((-c6 * x2 + c4) + x4 * ((-c10 * x2 + c8) + c12 * x4));
  mendLarge(x2, sinc, cosine);
}

// Rotates the body frame by `angle` about its own axis `i`; body coordinates of fixed vectors turn back.
template <class T>
CALM_INLINE void turnAboutOwnAxis(int i, const T& angle, T* q, T* bodyVector) {
  T sinc, cosine;
  sincAndCos(0.25 * (angle * angle), sinc, cosine);
  const T s = 0.5 * (sinc * angle);
  const int j = (i + 1) % 3, k = (i + 2) % 3;
  const T w = q[3], vi = q[i], vj = q[j], vk = q[k];
  q[3] = w * cosine - vi * s;
  q[i] = vi * cosine + w * s;
  q[j] = vj * cosine + vk * s;
  q[k] = vk * cosine - vj * s;
  const T c2 = cosine * cosine - s * s, s2 = 2 * (s * cosine);
  const T a = bodyVector[j], b = bodyVector[k];
  bodyVector[j] = c2 * a + s2 * b;
  bodyVector[k] = c2 * b - s2 * a;
}

// How a step carries the axis of a rotor, of which something holds the axis to a plane by the share `held`^2 (0: it is
// free, and moves as it would by itself). `nutation` is the angle by which a free rotor's axis goes round in the step
// for the momentum about the axis, h p / I1, `all` that for the whole momentum. Gives the factor on the turn about the
// momentum and adds to that about the axis.
//
// By itself the axis goes along a cone between the ends of a step. Where it is kept to a plane at both of them it
// then answers as if it had x cot(x) of its inertia, x = h p / 2 I1. Here it goes by the angle of which tan(x) is the
// half, which is along the plane (compare Boris's pusher of charged particles; Qin and others, Physics of Plasmas 20,
// 084503, 2013). Momentum and its part about the axis commute, so that any function of the two is a Hamiltonian whose
// flow is a turn about either: symplectic, and exact in energy and momentum.
inline void carryAxis(double held, double nutation, double all, double& share, double& own) {
  constexpr double kFaint = 1e-3;
  const double x = held * nutation;
  double slope;  // of the share, by the nutation
  if (std::abs(nutation) < kFaint) {
    share = 1 - x * x / 12;
    slope = -held * x / 6;
  } else {
    share = x == 0 ? 1 : 2 * std::atan(x / 2) / x;
    slope = (1 / (1 + x * x / 4) - share) / nutation;
  }
  own += nutation * (1 - share) + 0.5 * (all * all - nutation * nutation) * slope;
}

// Rotates q, which is of unit length to round-off, by `by` (rad, about it, in the world).
template <class T>
CALM_INLINE void turnInWorld(const T* by, T* q) {
  T sinc, c;
  sincAndCos(0.25 * (by[0] * by[0] + by[1] * by[1] + by[2] * by[2]), sinc, c);
  const T half = 0.5 * sinc, x = by[0] * half, y = by[1] * half, z = by[2] * half;
  const T turned[4] = {c * q[0] + x * q[3] + (y * q[2] - z * q[1]), c * q[1] + y * q[3] + (z * q[0] - x * q[2]),
                       c * q[2] + z * q[3] + (x * q[1] - y * q[0]), c * q[3] - (x * q[0] + y * q[1] + z * q[2])};
  // To unit length, by a step of Newton's for 1/sqrt.
  const T length2 = turned[0] * turned[0] + turned[1] * turned[1] + turned[2] * turned[2] + turned[3] * turned[3];
  const T scale = -0.5 * length2 + 1.5;
  for (int i = 0; i < 4; ++i) q[i] = turned[i] * scale;
}

// The axes (columns) of a frame that is turned by q.
template <class T>
CALM_INLINE void axesOf(const T* q, T (&axes)[3][3]) {
  const T x = 2 * q[0], y = 2 * q[1], z = 2 * q[2];
  const T wx = x * q[3], wy = y * q[3], wz = z * q[3], xx = x * q[0], xy = y * q[0], xz = z * q[0];
  const T yy = y * q[1], yz = z * q[1], zz = z * q[2];
  axes[0][0] = -1 * (yy + zz) + 1, axes[0][1] = xy + wz, axes[0][2] = xz - wy;
  axes[1][0] = xy - wz, axes[1][1] = -1 * (xx + zz) + 1, axes[1][2] = yz + wx;
  axes[2][0] = xz + wy, axes[2][1] = yz - wx, axes[2][2] = -1 * (xx + yy) + 1;
}

}  // namespace calm
