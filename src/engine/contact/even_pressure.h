// SPDX-License-Identifier: GPL-3.0-or-later
// What an even pressure between two shapes does that acts at a manifold's points.
#pragma once

#include "engine/contact/collide.h"

namespace calm {

// The manifold's twistShare, 0 to 1, by its points: 2/3 where a cylinder stands on its end, else by the integral of the
// distance from their middle over the face or line that they bound.
double twistShareOf(const Collider& a, const Collider& b, const Manifold& m);

}  // namespace calm
