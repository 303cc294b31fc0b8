// SPDX-License-Identifier: GPL-3.0-or-later
// Simple shapes for a mesh that was drawn for the eye: the tightest sphere, capsule, box or hull around it, convex
// pieces where holes must stay open, and how well any of them stands in for it.
#pragma once

#include <array>
#include <vector>

#include "engine/shape/shape.h"

namespace calm {

// A surface of triangles, counter-clockwise seen from outside; m.
struct Surface {
  std::vector<Vec3> vertices;
  std::vector<std::array<int, 3>> triangles;

  // Whether each edge is shared by two triangles that run along it in opposite directions, so that it has an inside.
  bool isClosed() const;
  double volume() const;  // m^3, of a closed one (divergence theorem)
};

// The shapes contain all vertices. Poses are of the shape in the surface's frame. All throw std::invalid_argument, as
// the end of a sentence, for surfaces with no extent.
// Smallest enclosing ball (Welzl 1991).
PlacedShape fitSphere(const Surface& surface);
// The smallest over the axes of the tightest box: radius by the smallest circle around the projection.
PlacedShape fitCapsule(const Surface& surface);
// The smallest box that has one side flush with a face of the hull and another with one of its edges; y is its longest
// axis's neighbour in a right-handed frame.
PlacedShape fitBox(const Surface& surface);
// The convex hull; of the vertices that lie furthest in evenly spread directions if it has more than a hull may have.
PlacedShape fitHull(const Surface& surface);

// Convex pieces that together stand in for a closed surface: it is cut by planes along its box's axes, each time the
// piece whose hull holds most emptiness, where the two halves' hulls hold least (after Mamou and Ghorbel 2009, on exact
// clips instead of merged triangles). Stops at `most` pieces, or when the emptiness in all is below `tolerance` of the
// surface's volume. Throws std::invalid_argument for an open surface.
PlacedShape fitPieces(const Surface& surface, int most, double tolerance);

// How a shape stands in for a closed surface, by lines cast through both; for an open one the shares are 0.
struct FitCheck {
  double covered = 0;           // share of the surface's volume that is inside the shape
  double excess = 0;            // share of the shape's volume that is outside the surface
  double pokesOut = 0;          // m, of the vertex that is furthest outside the shape
  std::vector<Vec3> outside;    // vertices that are outside it
  std::vector<Vec3> emptiness;  // points in the shape that the surface leaves empty, spread over it
};
FitCheck checkFit(const Surface& surface, const PlacedShape& shape);

}  // namespace calm
