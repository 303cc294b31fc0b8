// SPDX-License-Identifier: GPL-3.0-or-later
// The whole of a face on which two shapes lie on each other, of which a manifold keeps a few corners.
#pragma once

#include <vector>

#include "engine/contact/collide.h"

namespace calm {

// Corners in their order around, world; a cylinder's end has those of its prism. `normal` is from a to b. Empty if no
// face of one lies on a face of the other.
std::vector<Vec3> outlineOf(const Collider& a, const Collider& b, const Vec3& normal);
std::vector<Vec3> outlineOf(const ConvexCore& a, const TriangleTouch& triangle, const Vec3& normal);

}  // namespace calm
