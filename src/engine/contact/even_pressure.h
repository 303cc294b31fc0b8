// SPDX-License-Identifier: GPL-3.0-or-later
// What an even pressure between two shapes does that acts at a manifold's points.
#pragma once

#include <vector>

#include "engine/contact/collide.h"

namespace calm {

// Sets the manifold's twistShare, 0 to 1, by the points that touch together: 2/3 where a cylinder stands on its end,
// else by the integral of the distance from their middle over the face or line that they bound.
void shareEvenPressure(const ConvexCore& a, const ConvexCore& b, Manifold& m);
// The same by the points alone.
void shareEvenPressure(Manifold& m);

// Of an even pressure on the face between these points, or on the line if they lie on one: the mean distance from their
// middle as a share of their own, and over what it is spread: m^2, or m of a line, whose area is 0.
struct EvenPressure {
  double share = 1, area = 0, length = 0;
};
EvenPressure evenPressureOn(const Vec3& normal, const std::vector<Vec3>& points);

// The integral of the distance from a place in its plane over a polygon, m^3; corners in their order around.
double distanceOver(const std::vector<Vec3>& polygon, const Vec3& place, const Vec3& normal);

}  // namespace calm
