// SPDX-License-Identifier: GPL-3.0-or-later
// What a contact answers to the motion at its point: a unilateral normal impulse with a little compliance, and
// friction in a true cone. For one contact (T = double) or for four abreast (T = Quad), lane by lane.
//
// All by reference and always inlined: wide vectors must not be passed between functions that are compiled for
// different processors.
#pragma once

#include <cmath>

#include "engine/math/lanes.h"

namespace calm {

// Along each direction of a contact (normal, two tangents).
template <class T>
struct alignas(sizeof(T)) ContactLaw {
  T mobility[3];  // velocity along each direction per unit impulse along the normal
  T tangents[3];  // the same between the tangents: first, mixed, second
  T stopSlip[3];  // its inverse
  T slipRate;     // the inverse of the mobility's larger eigenvalue
  T softness;     // normal compliance over h^2
  T perSpeed;     // impulse along the normal per lacking speed
  T target;       // least end velocity along the normal
  T friction;
};

template <class T>
struct alignas(sizeof(T)) ContactPush {
  T impulse[3];
  T change[3];     // by the last sweep
  T direction[3];  // of the conjugate gradients
};

// How the next sweep begins: by going on `share` of the last sweeps' direction, which then follows the last one if
// `keep` is 1, and is given up if it is 0.
template <class T>
struct alignas(sizeof(T)) ContactStep {
  T share{}, keep{};
};

namespace lanes {

[[gnu::always_inline]] inline bool any(bool x) {
  return x;
}
[[gnu::always_inline]] inline bool any(int x) {
  return x != 0;
}
template <class Mask>
[[gnu::always_inline]] inline bool any(const Mask& x) {
  return (x[0] | x[1] | x[2] | x[3]) != 0;
}
[[gnu::always_inline]] inline void takeRoot(double& x) {
  x = std::sqrt(x);
}
[[gnu::always_inline]] inline void takeRoot(Quad& x) {
  for (int i = 0; i < 4; ++i) x[i] = std::sqrt(x[i]);
}
template <class T>
[[gnu::always_inline]] inline void takeSize(T& x) {
  x = x < T{} ? -x : x;
}
template <class T>
[[gnu::always_inline]] inline void raiseTo(T& x, const T& y) {
  x = y > x ? y : x;
}

}  // namespace lanes

// The law for a mobility m, of which m[i][j] is the velocity along i per unit impulse along j (those with i = 0 < j and
// m[2][1] are not read). Soft by `softness` of the normal mobility.
template <class T>
[[gnu::always_inline]] inline void setMobility(ContactLaw<T>& c, const T (&m)[3][3], double softness) {
  for (int i = 0; i < 3; ++i) c.mobility[i] = m[i][0];
  const T first = m[1][1], mixed = m[1][2], second = m[2][2];
  c.tangents[0] = first, c.tangents[1] = mixed, c.tangents[2] = second;
  const T scale = 1 / (first * second - mixed * mixed);
  c.stopSlip[0] = scale * second, c.stopSlip[1] = -scale * mixed, c.stopSlip[2] = scale * first;
  const T half = 0.5 * (first - second);
  T spread = half * half + mixed * mixed;
  lanes::takeRoot(spread);
  c.slipRate = 1 / (0.5 * (first + second) + spread);
  c.softness = softness * c.mobility[0];
  c.perSpeed = 1 / (c.mobility[0] + c.softness);
}

// Where the tangential impulse that would stop the slip is beyond the disc of radius `limit` (as `beyond` says), the
// one on its rim that opposes what is left of the slip: p = projection(p - slip(p)/k), k the larger eigenvalue of the
// mobility. A plain scaling of the impulse that would stop the slip points elsewhere when the mobility is not the same
// in all directions.
template <class T, class Mask>
[[gnu::always_inline]] inline void slide(const ContactLaw<T>& c, const T* now, const T* slip, const T& limit,
                                         const Mask& beyond, T& first, T& second) {
  // The sweeps go on with what is left.
  constexpr int kRounds = 6;
  constexpr double kSettled = 1e-3;  // of the limit
  T at[2] = {now[0], now[1]};
  for (int i = 0; i < kRounds; ++i) {
    const T moved[2] = {at[0] - now[0], at[1] - now[1]}, last[2] = {at[0], at[1]};
    at[0] -= c.slipRate * (slip[0] + c.tangents[0] * moved[0] + c.tangents[1] * moved[1]);
    at[1] -= c.slipRate * (slip[1] + c.tangents[1] * moved[0] + c.tangents[2] * moved[1]);
    const T squared = at[0] * at[0] + at[1] * at[1];
    T length = squared;
    lanes::takeRoot(length);
    const auto outside = squared > limit * limit;
    const T scale = outside ? limit / length : T{} + 1;
    at[0] *= scale, at[1] *= scale;
    T step[2] = {at[0] - last[0], at[1] - last[1]};
    for (T& s : step) lanes::takeSize(s);
    const auto moves = step[0] + step[1] >= kSettled * limit;
    if (!lanes::any(moves & beyond)) break;
  }
  first = beyond ? at[0] : first;
  second = beyond ? at[1] : second;
}

// Goes on along a direction that then follows what the last sweep changed.
template <class T>
[[gnu::always_inline]] inline void goOn(const ContactStep<T>& step, T& value, T& direction, const T& change) {
  direction *= step.share;
  value += direction;
  direction += step.keep * change;
}

// Gives a contact whose sides slip with v, along each direction, the impulse that its law asks for. `effect`: by how
// much that changes its velocity, m/s.
template <class T>
[[gnu::always_inline]] inline void resolve(const ContactLaw<T>& c, const T* v, ContactPush<T>& push, T& effect) {
  T* p = push.impulse;
  const T lack = c.target - v[0] - c.softness * p[0];
  T normal = p[0] + lack * c.perSpeed;
  normal = normal > T{} ? normal : T{};
  const T change = normal - p[0];
  const T slip[2] = {v[1] + c.mobility[1] * change, v[2] + c.mobility[2] * change};
  T first = p[1] - (c.stopSlip[0] * slip[0] + c.stopSlip[1] * slip[1]);
  T second = p[2] - (c.stopSlip[1] * slip[0] + c.stopSlip[2] * slip[1]);
  const T limit = c.friction * normal;
  first = limit > T{} ? first : T{};
  second = limit > T{} ? second : T{};
  const auto beyond = first * first + second * second > limit * limit;
  if (lanes::any(beyond)) slide(c, p + 1, slip, limit, beyond, first, second);
  push.change[0] = change, push.change[1] = first - p[1], push.change[2] = second - p[2];
  p[0] = normal, p[1] = first, p[2] = second;
  effect = c.mobility[0] * change;
  T other = c.tangents[0] * push.change[1], third = c.tangents[2] * push.change[2];
  lanes::takeSize(effect);
  lanes::takeSize(other);
  lanes::takeSize(third);
  lanes::raiseTo(effect, other);
  lanes::raiseTo(effect, third);
}

// What a contact adds to the squared length of the gradient.
template <class T>
[[gnu::always_inline]] inline void addSquaredChange(const ContactLaw<T>& c, const ContactPush<T>& push, T& sum) {
  const T* x = push.change;
  sum += (x[0] * x[0] + x[1] * x[1] + x[2] * x[2]) * c.mobility[0];
}

}  // namespace calm
