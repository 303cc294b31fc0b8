// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/yield.h"

#include <utility>

namespace calm {

Yield yieldOf(const JointGeometry& geometry, double compliance, double pinRadius, const Body& a, const Body& b,
              double step) {
  if (compliance <= 0) return {0, 0};
  double along = 0, about = 0;  // of the row that moves most easily
  for (const auto& [body, arm] : {std::pair(&a, geometry.anchorA), std::pair(&b, geometry.anchorB)}) {
    if (!body->dynamic()) continue;
    const double turns = body->inertia.inverse().maxCoeff();
    along += body->inverseMass + turns * arm.squaredNorm(), about += turns;
  }
  constexpr double kFollowed = 100;  // (omega step)^2
  const auto stiffness = [&](double stiff, double mobility) {
    return step * step * stiff * mobility < kFollowed ? stiff : 0;
  };
  return {stiffness(1 / compliance, along), stiffness(pinRadius * pinRadius / compliance, about)};
}

}  // namespace calm
