// SPDX-License-Identifier: GPL-3.0-or-later
// Manifolds of polytopes, and what other shapes' manifolds are made with, too.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "engine/contact/collide.h"

namespace calm {

// Points of a feature with vertex indices as names.
using NamedPoints = std::vector<std::pair<Vec3, std::uint32_t>>;

// The part of a core that faces a direction: a point, an edge or a face.
struct Feature {
  NamedPoints points;
  const CoreFace* face = nullptr;
};
Feature facingFeature(const ConvexCore& core, const Vec3& direction);

// Sutherland-Hodgman: the part of the polygon (or segment) on the inner side of the plane. New points are named
// after the edge they came from and the clipping plane.
void clip(NamedPoints& polygon, const Vec3& point, const Vec3& outward, std::uint32_t planeName);

// The name of the point where two edges cross.
constexpr std::uint32_t kCrossedEdges = 8192;

// Adds a point where two surfaces are closer than the margin, if they are.
void addPoint(const Vec3& onA, const Vec3& onB, const Vec3& normal, double radii, double margin, std::uint32_t id,
              double radiusA, Manifold& out);

// Keeps the four points that span the manifold best: the deepest, the one furthest from it, and the two furthest to
// either side of the line between them. Of those alone that may come to carry something: a margin may be wider than
// what moves fast is thick. Of its far side only the furthest point has a say, which comes down when the others have.
void reduceToFew(Manifold& m, double margin);

// m: edges give way so far. What slides from one block onto the next of the same height does not run against its side.
constexpr double kRoundedEdge = 2e-5;

// The face of `reference` clips the feature of `incident` that looks at it.
void faceManifold(const ConvexCore& reference, const CoreFace& face, const ConvexCore& incident, bool referenceIsA,
                  double margin, Manifold& out);

// By the separating-axis test; says in `clearance` how far the two are apart if they are.
void polytopeManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out);

}  // namespace calm
