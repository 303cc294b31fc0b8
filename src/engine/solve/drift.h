// SPDX-License-Identifier: GPL-3.0-or-later
// Free motion of many bodies.
#pragma once

#include <vector>

#include "engine/solve/body.h"

namespace calm {

// Puts a body elsewhere: along `way`, turned by the rotation vector `turn` (world).
void moveBy(Body& body, const Vec3& way, const Vec3& turn);
// Body::drift for all of these, the dynamic ones eight at a time.
void driftAll(std::vector<Body>& bodies, const std::vector<int>& ids, double h);

}  // namespace calm
