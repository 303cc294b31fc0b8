// SPDX-License-Identifier: GPL-3.0-or-later
// What collision detection sees of a convex shape: a core (point, segment or polytope) in world coordinates, and the
// radius of the ball swept over it.
#pragma once

#include <vector>

#include "engine/shape/shape.h"

namespace calm {

struct CoreFace {
  Vec3 normal;                // outward, unit
  std::vector<int> vertices;  // counter-clockwise seen from outside
};

struct ConvexCore {
  std::vector<Vec3> vertices;
  std::vector<CoreFace> faces;       // none for points and segments
  std::vector<Vec3> edgeDirections;  // unit, parallel ones once
  Vec3 center = Vec3::Zero();
  double radius = 0;
  // Of a cylinder, whose vertices are those of a prism within it. What its round side touches is taken from these.
  double discRadius = 0;
  Vec3 discAxis = Vec3::UnitY();  // to the upper disc's centre from the middle

  // m, that the cylinder reaches beyond the prism, at most: 1 - cos(pi / 32) of its radius for the prism's 32 facets.
  double sagitta() const { return 0.005 * discRadius; }
  // Index of the vertex furthest along `direction`.
  int support(const Vec3& direction) const;
};

// Rebuilds `core` for the shape at this pose, reusing its memory. The shape must be convex and bounded.
void buildCore(const Shape& shape, const Pose& pose, ConvexCore& core);

// Turns a cylinder's prism so that two of its edges lie on the true surface in the given direction.
void rollPrism(ConvexCore& core, const Vec3& direction);

// The same for one triangle of a mesh; its first face is the outer one.
void buildTriangle(const MeshData& mesh, int triangle, const Pose& pose, ConvexCore& core);

// Closest points of two cores, by the Gilbert-Johnson-Keerthi algorithm on the difference set with an exact search of
// the simplex (Gilbert, Johnson and Keerthi, IEEE J. Robotics and Automation 4, 1988; Ericson, Real-Time Collision
// Detection, 2005, section 9.5). `distance` is 0 when the cores touch or overlap; the points mean nothing then.
struct ClosestPoints {
  double distance = 0;
  Vec3 onA = Vec3::Zero();
  Vec3 onB = Vec3::Zero();
};
ClosestPoints closestPoints(const ConvexCore& a, const ConvexCore& b);

}  // namespace calm
