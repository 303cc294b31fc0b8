// SPDX-License-Identifier: GPL-3.0-or-later
// Surfaces of triangles that the validation runs on.
#pragma once

#include <array>
#include <map>
#include <memory>
#include <vector>

#include "engine/shape/mesh.h"

namespace calm::physics {

inline Shape meshOf(const std::vector<Vec3>& corners, const std::vector<std::array<int, 3>>& triangles) {
  return TriangleMesh{std::make_shared<MeshData>(makeMesh(corners, triangles))};
}

enum class Made { closed, open, openAndTurned };

// A block about the origin whose faces have cells by cells squares of two triangles each; an open one has no bottom,
// and a turned one shows the back of its triangles.
inline Shape blockOfTriangles(const Vec3& size, int cells, Made made) {
  std::vector<Vec3> corners;
  std::vector<std::array<int, 3>> triangles;
  std::map<std::array<int, 3>, int> known;  // by place in the grid of the whole block
  for (int axis = 0; axis < 3; ++axis)
    for (const bool upper : {false, true}) {
      if (made != Made::closed && axis == 1 && !upper) continue;
      const int first = (axis + (upper ? 1 : 2)) % 3, second = (axis + (upper ? 2 : 1)) % 3;
      const auto cornerAt = [&](int i, int j) {
        std::array<int, 3> place{};
        place[axis] = upper ? cells : 0, place[first] = i, place[second] = j;
        const auto [at, isNew] = known.try_emplace(place, static_cast<int>(corners.size()));
        if (isNew)
          corners.push_back((Vec3(place[0], place[1], place[2]) / cells - Vec3::Constant(0.5)).cwiseProduct(size));
        return at->second;
      };
      for (int i = 0; i < cells; ++i)
        for (int j = 0; j < cells; ++j) {
          const int a = cornerAt(i, j), b = cornerAt(i + 1, j), c = cornerAt(i, j + 1), d = cornerAt(i + 1, j + 1);
          triangles.push_back({a, b, c}), triangles.push_back({c, b, d});
        }
    }
  if (made == Made::openAndTurned)
    for (std::array<int, 3>& t : triangles) std::swap(t[1], t[2]);
  return meshOf(corners, triangles);
}

}  // namespace calm::physics
