// SPDX-License-Identifier: GPL-3.0-or-later
// What an even pressure between two shapes does that acts at a manifold's points.
#pragma once

#include "engine/contact/collide.h"

namespace calm {

// Sets the manifold's twistShare, 0 to 1, by the points that touch together: 2/3 where a cylinder stands on its end,
// else by the integral of the distance from their middle over the face or line that they bound.
void shareEvenPressure(const Collider& a, const Collider& b, Manifold& m);
// The same by the points alone.
void shareEvenPressure(Manifold& m);

}  // namespace calm
