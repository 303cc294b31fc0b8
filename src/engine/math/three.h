// SPDX-License-Identifier: GPL-3.0-or-later
// Vectors of three, eight side by side, for loops that are compiled for different processors.
#pragma once

#include "engine/math/lanes.h"

namespace calm {

// By name, not by number: compilers keep these in registers.
template <class T>
struct Three {
  T x, y, z;
};

template <class T>
CALM_INLINE void add(Three<T>& sum, const Three<T>& v) {
  sum.x += v.x;
  sum.y += v.y;
  sum.z += v.z;
}
template <class T>
CALM_INLINE void subtract(Three<T>& from, const Three<T>& v) {
  from.x -= v.x;
  from.y -= v.y;
  from.z -= v.z;
}
template <class T>
CALM_INLINE void addScaled(Three<T>& sum, const T& factor, const Three<T>& v) {
  sum.x += factor * v.x;
  sum.y += factor * v.y;
  sum.z += factor * v.z;
}
template <class T>
CALM_INLINE void take(Three<T>& out, const T (&from)[3]) {
  out.x = from[0];
  out.y = from[1];
  out.z = from[2];
}
template <class T>
CALM_INLINE void cross(Three<T>& out, const Three<T>& a, const Three<T>& b) {
  out.x = a.y * b.z - a.z * b.y;
  out.y = a.z * b.x - a.x * b.z;
  out.z = a.x * b.y - a.y * b.x;
}
// Of a symmetric matrix by its six numbers.
template <class T>
CALM_INLINE void product(Three<T>& out, const T (&m)[6], const Three<T>& v) {
  out.x = m[0] * v.x + m[1] * v.y + m[2] * v.z;
  out.y = m[1] * v.x + m[3] * v.y + m[4] * v.z;
  out.z = m[2] * v.x + m[4] * v.y + m[5] * v.z;
}
template <class T>
CALM_INLINE T dot(const T (&a)[3], const Three<T>& b) {
  return a[0] * b.x + a[1] * b.y + a[2] * b.z;
}

// Three numbers of each of four bodies into lanes, and back. The fourth of each is 0.
CALM_INLINE void gather(Quad& x, Quad& y, Quad& z, const Padded& a, const Padded& b, const Padded& c, const Padded& d) {
  Quad r[4];
  loadQuad(r[0], a);
  loadQuad(r[1], b);
  loadQuad(r[2], c);
  loadQuad(r[3], d);
  const Quad low01 = __builtin_shufflevector(r[0], r[1], 0, 4, 2, 6);
  const Quad low23 = __builtin_shufflevector(r[2], r[3], 0, 4, 2, 6);
  const Quad high01 = __builtin_shufflevector(r[0], r[1], 1, 5, 3, 7);
  const Quad high23 = __builtin_shufflevector(r[2], r[3], 1, 5, 3, 7);
  x = __builtin_shufflevector(low01, low23, 0, 1, 4, 5);
  y = __builtin_shufflevector(high01, high23, 0, 1, 4, 5);
  z = __builtin_shufflevector(low01, low23, 2, 3, 6, 7);
}
CALM_INLINE void scatter(const Quad& x, const Quad& y, const Quad& z, Padded& a, Padded& b, Padded& c, Padded& d) {
  const Quad zero{};
  const Quad low01 = __builtin_shufflevector(x, y, 0, 4, 2, 6), high01 = __builtin_shufflevector(x, y, 1, 5, 3, 7);
  const Quad low23 = __builtin_shufflevector(z, zero, 0, 4, 2, 6),
             high23 = __builtin_shufflevector(z, zero, 1, 5, 3, 7);
  storeQuad(a, __builtin_shufflevector(low01, low23, 0, 1, 4, 5));
  storeQuad(b, __builtin_shufflevector(high01, high23, 0, 1, 4, 5));
  storeQuad(c, __builtin_shufflevector(low01, low23, 2, 3, 6, 7));
  storeQuad(d, __builtin_shufflevector(high01, high23, 2, 3, 6, 7));
}

// The same of eight bodies.
CALM_INLINE void gather(Three<Oct>& v, const Padded* const (&from)[Oct::kLanes]) {
  gather(v.x.low, v.y.low, v.z.low, *from[0], *from[1], *from[2], *from[3]);
  gather(v.x.high, v.y.high, v.z.high, *from[4], *from[5], *from[6], *from[7]);
}
CALM_INLINE void scatter(const Three<Oct>& v, Padded* const (&to)[Oct::kLanes]) {
  scatter(v.x.low, v.y.low, v.z.low, *to[0], *to[1], *to[2], *to[3]);
  scatter(v.x.high, v.y.high, v.z.high, *to[4], *to[5], *to[6], *to[7]);
}
CALM_INLINE void gather(Three<WholeOct>& v, const Padded* const (&from)[Oct::kLanes]) {
  Three<Oct> halves;
  gather(halves, from);
  join(v.x, halves.x);
  join(v.y, halves.y);
  join(v.z, halves.z);
}
CALM_INLINE void scatter(const Three<WholeOct>& v, Padded* const (&to)[Oct::kLanes]) {
  Three<Oct> halves;
  halve(halves.x, v.x);
  halve(halves.y, v.y);
  halve(halves.z, v.z);
  scatter(halves, to);
}

}  // namespace calm
