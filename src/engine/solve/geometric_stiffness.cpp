// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/geometric_stiffness.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

#include "engine/math/lanes.h"

namespace calm {

namespace {

// The squared frequency, in steps, of what a body's forces make it swing with: below the first the step resolves it and
// needs no help, which would cost accuracy; from the second on it has it in full.
constexpr double kResolved = 0.05, kStiff = 0.5;

// A symmetric matrix: its diagonal, and for each axis the element between the two others. Of one body (T = double), or
// of eight (T = Oct).
template <class T>
struct Symmetric {
  T diagonal[3], across[3];
};

constexpr int after(int i) {
  return (i + 1) % 3;
}
constexpr int before(int i) {
  return (i + 2) % 3;
}

// Whether some eigenvalue lies below -slack.
template <class T>
CALM_INLINE auto hasNegative(const Symmetric<T>& s, const T& slack) {
  const T a = s.diagonal[0] + slack, b = s.diagonal[1] + slack, c = s.diagonal[2] + slack;
  const T ab = a * b - s.across[2] * s.across[2];
  const T all = a * (b * c - s.across[0] * s.across[0]) - s.across[2] * (s.across[2] * c - s.across[0] * s.across[1]) +
                s.across[1] * (s.across[2] * s.across[0] - b * s.across[1]);
  return lanes::smaller(lanes::smaller(lanes::smaller(a, b), lanes::smaller(c, ab)), all) < T{};
}

template <class T>
CALM_INLINE Symmetric<T> inverseOf(const Symmetric<T>& m) {
  Symmetric<T> s;
  for (int i = 0; i < 3; ++i) {
    const int j = after(i), k = before(i);
    s.diagonal[i] = m.diagonal[j] * m.diagonal[k] - m.across[i] * m.across[i];
    s.across[i] = m.across[j] * m.across[k] - m.across[i] * m.diagonal[i];
  }
  const T det = m.diagonal[0] * s.diagonal[0] + m.across[2] * s.across[2] + m.across[1] * s.across[1];
  T scale;
  lanes::fill(scale, 1);
  scale = scale / det;
  for (int i = 0; i < 3; ++i) s.diagonal[i] *= scale, s.across[i] *= scale;
  return s;
}

// What the matrix s is with the vectors along[i] as its axes: along[i] . s along[j].
template <class T>
CALM_INLINE Symmetric<T> seenAlong(const T (&along)[3][3], const Symmetric<T>& s) {
  T half[3][3];
  for (int i = 0; i < 3; ++i)
    for (int k = 0; k < 3; ++k)
      half[i][k] = s.diagonal[k] * along[i][k] + s.across[before(k)] * along[i][after(k)] +
                   s.across[after(k)] * along[i][before(k)];
  const auto dot = [&](int i, int j) __attribute__((always_inline)) {
    return along[i][0] * half[j][0] + along[i][1] * half[j][1] + along[i][2] * half[j][2];
  };
  Symmetric<T> result;
  for (int i = 0; i < 3; ++i) {
    result.diagonal[i] = dot(i, i);
    result.across[i] = dot(after(i), before(i));
  }
  return result;
}

// What is left of it across the unit vector n; all of it if n is 0.
template <class T>
CALM_INLINE void removeAlong(const T (&n)[3], Symmetric<T>& s) {
  T along[3];
  for (int i = 0; i < 3; ++i)
    along[i] = s.diagonal[i] * n[i] + s.across[before(i)] * n[after(i)] + s.across[after(i)] * n[before(i)];
  const T both = n[0] * along[0] + n[1] * along[1] + n[2] * along[2];
  for (int i = 0; i < 3; ++i) {
    const int j = after(i), k = before(i);
    s.diagonal[i] += (both * n[i] - 2 * along[i]) * n[i];
    s.across[i] += both * n[j] * n[k] - along[j] * n[k] - n[j] * along[k];
  }
}

// What is read of a body.
template <class T>
struct Stiffened {
  T axes[3][3];  // columns
  T inverse[3], inverseRoot[3], untouched[3];
  Symmetric<T> stiffness;  // world
};

CALM_INLINE void put(double& to, int, double x) {
  to = x;
}
CALM_INLINE void put(Oct& to, int lane, double x) {
  to[lane] = x;
}
template <class T>
CALM_INLINE void take(const Body& body, int lane, Stiffened<T>& s) {
  const Vec3 &inverse = body.inertia.inverse(), &root = body.inertia.inverseRoot();
  for (int i = 0; i < 3; ++i) {
    for (int k = 0; k < 3; ++k) put(s.axes[i][k], lane, body.axes(k, i));
    put(s.inverse[i], lane, inverse[i]);
    put(s.inverseRoot[i], lane, root[i]);
    put(s.untouched[i], lane, body.untouchedAxis[i]);
    put(s.stiffness.diagonal[i], lane, body.stiffness(i, i));
    put(s.stiffness.across[i], lane, body.stiffness(after(i), before(i)));
  }
}

// Scaled to unit inertia in the principal frame, S = h^2 D^-1 K D^-1 with D^2 the moments, as much of it as the step
// needs. The sum of a row's magnitudes bounds how fast its axis swings (Gershgorin); `swing` is the largest.
template <class T>
CALM_INLINE Symmetric<T> scaledStiffness(const Stiffened<T>& body, double h, double share, T& swing) {
  Symmetric<T> s = seenAlong(body.axes, body.stiffness);
  removeAlong(body.untouched, s);
  for (int i = 0; i < 3; ++i) {
    s.diagonal[i] *= h * h * body.inverse[i];
    s.across[i] *= h * h * body.inverseRoot[after(i)] * body.inverseRoot[before(i)];
  }
  T need[3], one;
  lanes::fill(one, 1);
  swing = T{};
  for (int i = 0; i < 3; ++i) {
    const T own = lanes::size(s.diagonal[i]) + lanes::size(s.across[after(i)]) + lanes::size(s.across[before(i)]);
    const T part = (1 / (kStiff - kResolved)) * (own - kResolved);
    need[i] = lanes::root(lanes::smaller(lanes::larger(part, T{}), one));
    swing = lanes::larger(swing, own);
  }
  for (int i = 0; i < 3; ++i) {
    s.diagonal[i] *= share * need[i] * need[i];
    s.across[i] *= share * need[after(i)] * need[before(i)];
  }
  return s;
}

// D^-1 (1 + S)^-1 D^-1, in the world.
template <class T>
CALM_INLINE Symmetric<T> responseOf(const Stiffened<T>& body, Symmetric<T> s) {
  T rows[3][3];
  for (int i = 0; i < 3; ++i) {
    s.diagonal[i] = s.diagonal[i] + 1;
    for (int k = 0; k < 3; ++k) rows[i][k] = body.axes[k][i] * body.inverseRoot[k];
  }
  return seenAlong(rows, inverseOf(s));
}

Mat3 whole(const Symmetric<double>& s) {
  Mat3 m;
  m << s.diagonal[0], s.across[2], s.across[1], s.across[2], s.diagonal[1], s.across[0], s.across[1], s.across[0],
      s.diagonal[2];
  return m;
}

// Whether the step needs help with what the forces make the body swing with; if not, sets the response.
bool isResolved(Body& body, double h, double share) {
  const Vec3& inverse = body.inertia.inverse();
  // A row's sum of magnitudes is at most sqrt(3) times the matrix's norm.
  const double fastest = h * h * inverse.maxCoeff();
  const bool resolved =
      share == 0 || !body.stiffened || 3 * fastest * fastest * body.stiffness.squaredNorm() < kResolved * kResolved;
  if (resolved) {
    const Mat3 half = body.axes * inverse.asDiagonal();
    for (int i = 0; i < 3; ++i)
      for (int j = 0; j <= i; ++j)
        body.response(i, j) = body.response(j, i) =
            half(i, 0) * body.axes(j, 0) + half(i, 1) * body.axes(j, 1) + half(i, 2) * body.axes(j, 2);
  }
  return resolved;
}

void stiffen(Body& body, double h, double share) {
  Stiffened<double> read;
  take(body, 0, read);
  double swing;
  Symmetric<double> s = scaledStiffness(read, h, share, swing);
  if (hasNegative(s, 1e-12 * swing)) {
    Eigen::SelfAdjointEigenSolver<Mat3> solver;
    solver.computeDirect(whole(s));
    const Mat3 kept =
        solver.eigenvectors() * solver.eigenvalues().cwiseMax(0).asDiagonal() * solver.eigenvectors().transpose();
    s = {{kept(0, 0), kept(1, 1), kept(2, 2)}, {kept(1, 2), kept(2, 0), kept(0, 1)}};
  }
  body.response = whole(responseOf(read, s));
}

constexpr int kLanes = Oct::kLanes;

CALM_INLINE void stiffenEight(const Stiffened<Oct>& read, double h, double share, Symmetric<Oct>& response,
                              Oct& negative) {
  Oct swing;
  const Symmetric<Oct> s = scaledStiffness(read, h, share, swing);
  Oct one;
  lanes::fill(one, 1);
  negative = lanes::pick(hasNegative(s, 1e-12 * swing), one, Oct{});
  response = responseOf(read, s);
}
void stiffenNarrow(const Stiffened<Oct>& read, double h, double share, Symmetric<Oct>& response, Oct& negative) {
  stiffenEight(read, h, share, response, negative);
}
CALM_WIDE void stiffenWide(const Stiffened<Oct>& read, double h, double share, Symmetric<Oct>& response,
                           Oct& negative) {
  stiffenEight(read, h, share, response, negative);
}

}  // namespace

void updateResponse(Body& body, double h, double share) {
  if (!isResolved(body, h, share)) stiffen(body, h, share);
}

void updateResponses(std::vector<Body>& bodies, const std::vector<int>& ids, double h, double share) {
  const auto stiffenAll = lanes::areWide() ? stiffenWide : stiffenNarrow;
  Stiffened<Oct> read{};
  Body* waiting[kLanes];
  int count = 0;
  for (const int id : ids) {
    Body& body = bodies[id];
    if (!body.dynamic() || isResolved(body, h, share)) continue;
    take(body, count, read);
    waiting[count++] = &body;
    if (count < kLanes) continue;
    count = 0;
    Symmetric<Oct> response;
    Oct negative;
    stiffenAll(read, h, share, response, negative);
    for (int l = 0; l < kLanes; ++l) {
      if (negative[l] > 0) {
        stiffen(*waiting[l], h, share);
        continue;
      }
      const Oct *d = response.diagonal, *a = response.across;
      waiting[l]->response << d[0][l], a[2][l], a[1][l], a[2][l], d[1][l], a[0][l], a[1][l], a[0][l], d[2][l];
    }
  }
  for (int l = 0; l < count; ++l) stiffen(*waiting[l], h, share);
}

}  // namespace calm
