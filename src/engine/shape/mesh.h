// SPDX-License-Identifier: GPL-3.0-or-later
// Surfaces of triangles, for parts that are not dynamic: quays, slopes, sea beds.
#pragma once

#include <array>
#include <optional>
#include <vector>

#include "engine/shape/box_tree.h"

namespace calm {

// The surface y = heights[row * columns + column] over a grid of the given spacing (m) centred on the origin; columns
// run along x and rows along z.
struct HeightGrid {
  int columns, rows;
  double spacingX, spacingZ;
  std::vector<double> heights;
};

// A closed one is solid on the side from which its triangles look clockwise: what is pushed out leaves along their
// normals. So is a height field. Any other is a sheet, which holds what comes from either side.
struct MeshData {
  struct Triangle {
    std::array<int, 3> vertices;  // counter-clockwise seen from outside
    // Of the edge from each vertex to the next: whether something can rest on it, because the surface ends or bends
    // back there. Others are inside a plane or a hollow, where the faces themselves are met first.
    std::array<bool, 3> sharp;
    std::array<bool, 3> sharpBehind;  // the same for what comes from the other side
    Vec3 normal;
  };
  std::vector<Vec3> vertices;  // m
  std::vector<Triangle> triangles;
  BoxTree tree;  // tags are triangles
  Aabb bounds;
  bool sheet = false;
  std::optional<HeightGrid> grid = {};  // that it was made from
};

// Throws std::invalid_argument with what is wrong, as the end of a sentence: an index that is out of range, a number
// that is not finite, no triangle. Triangles without area are left out.
MeshData makeMesh(const std::vector<Vec3>& vertices, const std::vector<std::array<int, 3>>& triangles);

// Solid below. Throws std::invalid_argument as above: too few rows or columns, no spacing, another number of heights.
MeshData makeHeightField(int columns, int rows, double spacingX, double spacingZ, const std::vector<double>& heights);

}  // namespace calm
