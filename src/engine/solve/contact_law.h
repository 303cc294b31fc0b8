// SPDX-License-Identifier: GPL-3.0-or-later
// What a contact answers to the motion at its point: a unilateral normal impulse with a little compliance, and
// friction in a true cone. For one contact (T = double) or for eight abreast (T = Oct), lane by lane.
#pragma once

#include <cstdint>

#include "engine/math/lanes.h"

namespace calm {

// Along each direction of a contact (normal, two tangents).
template <class T>
struct ContactLaw {
  T mobility[3];   // velocity along each direction per unit impulse along the normal
  T tangents[3];   // the same between the tangents: first, mixed, second
  T stopSlip[3];   // its inverse
  T softness;      // normal compliance over h^2
  T perSpeed;      // impulse along the normal per lacking speed
  T target;        // least end velocity along the normal
  T carried[2]{};  // what is to be added to the slip along the tangents
  T came[2]{};     // slip before the step, along the tangents, of what slid then
};

// What a contact does.
enum class Hold : std::uint8_t { open, sticks, slides };

template <class T>
struct ContactPush {
  T impulse[3];
  T change[3];     // by the last sweep
  T direction[3];  // of the conjugate gradients
};

// How the next sweep begins: by going on `share` of the last sweeps' direction, which then follows the last one if
// `keep` is 1, and is given up if it is 0.
template <class T>
struct ContactStep {
  T share{}, keep{};
};
// By Fletcher and Reeves, from the squared lengths of the last sweep's changes and of those of the one before (0: there
// was none); where they grow it starts anew.
inline ContactStep<double> stepAfter(double gradient, double before) {
  const double beta = before > 0 ? gradient / before : 0;
  if (beta > 1) return {};
  return {beta, gradient > 0 ? 1.0 : 0.0};
}

// The law for a mobility m, of which m[i][j] is the velocity along i per unit impulse along j (those with i = 0 < j and
// m[2][1] are not read). Soft by `softness` of the normal mobility.
template <class T>
CALM_INLINE void setMobility(ContactLaw<T>& c, const T (&m)[3][3], double softness) {
  T one;
  lanes::fill(one, 1);
  for (int i = 0; i < 3; ++i) c.mobility[i] = m[i][0];
  const T first = m[1][1], mixed = m[1][2], second = m[2][2];
  c.tangents[0] = first, c.tangents[1] = mixed, c.tangents[2] = second;
  const T scale = one / (first * second - mixed * mixed);
  c.stopSlip[0] = scale * second, c.stopSlip[1] = -(scale * mixed), c.stopSlip[2] = scale * first;
  c.softness = softness * c.mobility[0];
  c.perSpeed = one / (c.mobility[0] + c.softness);
}

// Where the tangential impulse that would stop the slip is beyond the disc of radius `limit` (as `beyond` says), the
// one on its rim that opposes the mean of the slip as it came and what is left of it, so that friction which turns with
// its slip is right to second order and never does work: p = projection(p - slip(p)/k), k the larger eigenvalue of the
// mobility. A plain scaling of the impulse that would stop the slip points elsewhere when the mobility is not the same
// in all directions.
template <class T, class Mask>
CALM_INLINE void slide(const ContactLaw<T>& c, const T* now, const T& slip1, const T& slip2, const T& limit,
                       const Mask& beyond, T& first, T& second) {
  // The sweeps go on with what is left.
  constexpr int kRounds = 6;
  constexpr double kSettled = 1e-3;  // of the limit
  T one;
  lanes::fill(one, 1);
  const T half = 0.5 * (c.tangents[0] - c.tangents[2]), mean = 0.5 * (c.tangents[0] + c.tangents[2]);
  const T rate = one / (mean + lanes::root(half * half + c.tangents[1] * c.tangents[1]));
  const T sum1 = slip1 + c.came[0], sum2 = slip2 + c.came[1];
  T x = now[0], y = now[1];
  for (int i = 0; i < kRounds; ++i) {
    const T movedX = x - now[0], movedY = y - now[1], lastX = x, lastY = y;
    x -= rate * (sum1 + c.tangents[0] * movedX + c.tangents[1] * movedY);
    y -= rate * (sum2 + c.tangents[1] * movedX + c.tangents[2] * movedY);
    const T squared = x * x + y * y;
    const T scale = lanes::pick(limit * limit < squared, limit / lanes::root(squared), one);
    x *= scale;
    y *= scale;
    const T step = lanes::size(x - lastX) + lanes::size(y - lastY);
    if (!lanes::any(lanes::both(kSettled * limit < step, beyond))) break;
  }
  first = lanes::pick(beyond, x, first);
  second = lanes::pick(beyond, y, second);
}

// Goes on along a direction that then follows what the last sweep changed.
template <class T, class S>
CALM_INLINE void goOn(const ContactStep<S>& step, T& value, T& direction, const T& change) {
  direction *= step.share;
  value += direction;
  direction += step.keep * change;
}

// Gives a contact whose sides slip with v, along each direction, the impulse that its law asks for. Returns by how much
// that changes its velocity, m/s.
template <class T>
CALM_INLINE T resolve(const ContactLaw<T>& c, const T& friction, const T* v, ContactPush<T>& push) {
  T* p = push.impulse;
  const T lack = c.target - v[0] - c.softness * p[0], wanted = p[0] + lack * c.perSpeed;
  const T normal = lanes::pick(T{} < wanted, wanted, T{}), change = normal - p[0];
  const T slip1 = v[1] + c.carried[0] + c.mobility[1] * change, slip2 = v[2] + c.carried[1] + c.mobility[2] * change;
  const T limit = friction * normal;
  const auto rubs = T{} < limit;
  T first = lanes::pick(rubs, p[1] - (c.stopSlip[0] * slip1 + c.stopSlip[1] * slip2), T{});
  T second = lanes::pick(rubs, p[2] - (c.stopSlip[1] * slip1 + c.stopSlip[2] * slip2), T{});
  const auto beyond = limit * limit < first * first + second * second;
  if (lanes::any(beyond)) slide(c, p + 1, slip1, slip2, limit, beyond, first, second);
  push.change[0] = change, push.change[1] = first - p[1], push.change[2] = second - p[2];
  p[0] = normal, p[1] = first, p[2] = second;
  const T along = lanes::size(c.mobility[0] * change);
  const T across =
      lanes::larger(lanes::size(c.tangents[0] * push.change[1]), lanes::size(c.tangents[2] * push.change[2]));
  return lanes::larger(along, across);
}

// What a contact adds to the squared length of the gradient.
template <class T>
CALM_INLINE T squaredChange(const ContactLaw<T>& c, const ContactPush<T>& push) {
  const T* x = push.change;
  return (x[0] * x[0] + x[1] * x[1] + x[2] * x[2]) * c.mobility[0];
}

}  // namespace calm
