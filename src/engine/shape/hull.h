// SPDX-License-Identifier: GPL-3.0-or-later
// Convex hulls: of points, their faces, volume and inertia.
#pragma once

#include <vector>

#include "engine/math/mass.h"
#include "engine/math/types.h"

namespace calm {

// A convex polyhedron about its part's origin (m).
struct HullData {
  struct Face {
    Vec3 normal;                // outward, unit
    std::vector<int> vertices;  // counter-clockwise seen from outside
  };
  std::vector<Vec3> vertices;
  std::vector<Face> faces;
  std::vector<Vec3> edgeDirections;  // unit, parallel ones once
  double volume = 0;                 // m^3
  Vec3 center = Vec3::Zero();        // of the volume
  Mat3 inertia = Mat3::Zero();       // about that centre, for unit density, m^5
};

// The hull of at least four points that do not lie in one plane; coplanar triangles are merged into faces. By Quickhull
// (Barber, Dobkin and Huhdanpaa, ACM Trans. Math. Software 22, 1996); volume and inertia by summing tetrahedra. Throws
// std::invalid_argument with what is wrong, as the end of a sentence. More than kMaxHullVertices are refused.
constexpr int kMaxHullVertices = 256;
HullData makeHull(const std::vector<Vec3>& points);

}  // namespace calm
