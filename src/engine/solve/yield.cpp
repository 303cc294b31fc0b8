// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/yield.h"

namespace calm {

Yield yieldOf(double compliance, double pinRadius, const Body& a, const Body& b, double step) {
  if (compliance <= 0) return {0, 0};
  // Where they move least easily: pivots along their arms.
  double along = 0, about = 0;
  for (const Body* body : {&a, &b})
    if (body->dynamic()) along += body->inverseMass, about += body->inertia.inverse().minCoeff();
  constexpr double kFollowed = 100;  // (omega step)^2
  const auto stiffness = [&](double stiff, double mobility) {
    return step * step * stiff * mobility < kFollowed ? stiff : 0;
  };
  return {stiffness(1 / compliance, along), stiffness(pinRadius * pinRadius / compliance, about)};
}

}  // namespace calm
