// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/mesh.h"

#include <algorithm>
#include <map>
#include <stdexcept>
#include <string>

namespace calm {

namespace {

// The corners' numbers, where those at one place bear the first one's: files often give each triangle its own.
std::vector<int> placesOf(const std::vector<Vec3>& vertices) {
  std::map<std::array<double, 3>, int> first;
  std::vector<int> places;
  for (const Vec3& v : vertices)
    places.push_back(first.try_emplace({v.x(), v.y(), v.z()}, static_cast<int>(places.size())).first->second);
  return places;
}

// Marks the edges on which something can rest: those where no other triangle goes on in a plane or a hollow. The back
// of a sheet that is given from both sides does not go on. Where an edge has no triangle on its other side, or one that
// is turned over, the mesh is a sheet.
void markEdges(MeshData& mesh) {
  const std::vector<int> places = placesOf(mesh.vertices);
  struct Edge {
    int from, to, apex;
  };
  const auto edgeOf = [&](const MeshData::Triangle& t, int e) {
    const auto& v = t.vertices;
    return Edge{places[v[e]], places[v[(e + 1) % 3]], places[v[(e + 2) % 3]]};
  };
  std::map<std::pair<int, int>, std::vector<int>> apexes;  // of the triangles on a directed edge
  for (const MeshData::Triangle& t : mesh.triangles)
    for (int e = 0; e < 3; ++e) {
      const Edge edge = edgeOf(t, e);
      apexes[{edge.from, edge.to}].push_back(edge.apex);
    }
  for (MeshData::Triangle& t : mesh.triangles)
    for (int e = 0; e < 3; ++e) {
      const Edge edge = edgeOf(t, e);
      const std::vector<int>& own = apexes.at({edge.from, edge.to});
      const auto across = apexes.find({edge.to, edge.from});
      std::vector<int> others = own;
      if (across != apexes.end()) others.insert(others.end(), across->second.begin(), across->second.end());
      const auto isSharp = [&](const Vec3& outward) {
        return std::none_of(others.begin(), others.end(), [&](int apex) {
          const Vec3 beyond = mesh.vertices[apex] - mesh.vertices[edge.from];
          return apex != edge.apex && outward.dot(beyond) >= -1e-4 * beyond.norm();
        });
      };
      t.sharp[e] = isSharp(t.normal), t.sharpBehind[e] = isSharp(-t.normal);
      mesh.sheet |= across == apexes.end() || across->second.size() != own.size();
    }
}

}  // namespace

MeshData makeMesh(const std::vector<Vec3>& vertices, const std::vector<std::array<int, 3>>& triangles) {
  MeshData mesh;
  mesh.vertices = vertices;
  for (const Vec3& v : vertices)
    if (!v.allFinite()) throw std::invalid_argument("the corners of a mesh must be finite");
  for (const auto& t : triangles) {
    for (const int v : t)
      if (v < 0 || v >= static_cast<int>(vertices.size()))
        throw std::invalid_argument("a triangle of the mesh names corner " + std::to_string(v) +
                                    ", which is not there");
    const Vec3 area = (vertices[t[1]] - vertices[t[0]]).cross(vertices[t[2]] - vertices[t[0]]);
    if (area.norm() < 1e-14) continue;
    mesh.triangles.push_back({t, {}, {}, area.normalized()});
  }
  if (mesh.triangles.empty()) throw std::invalid_argument("a mesh needs at least one triangle with an area");
  markEdges(mesh);
  for (int t = 0; t < static_cast<int>(mesh.triangles.size()); ++t) {
    Aabb box;
    for (const int v : mesh.triangles[t].vertices) box.include({vertices[v], vertices[v]});
    mesh.tree.insert(box, t);
    mesh.bounds.include(box);
  }
  return mesh;
}

MeshData makeHeightField(int columns, int rows, double spacingX, double spacingZ, const std::vector<double>& heights) {
  if (columns < 2 || rows < 2) throw std::invalid_argument("a height field needs at least two rows and two columns");
  if (!(spacingX > 0 && spacingZ > 0)) throw std::invalid_argument("the spacing of a height field must be above 0 m");
  if (heights.size() != static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows))
    throw std::invalid_argument("a height field of " + std::to_string(columns) + " by " + std::to_string(rows) +
                                " needs " + std::to_string(columns * rows) + " heights, not " +
                                std::to_string(heights.size()));
  std::vector<Vec3> vertices;
  for (int r = 0; r < rows; ++r)
    for (int c = 0; c < columns; ++c)
      vertices.emplace_back((c - (columns - 1) / 2.0) * spacingX, heights[r * columns + c],
                            (r - (rows - 1) / 2.0) * spacingZ);
  std::vector<std::array<int, 3>> triangles;
  for (int r = 0; r + 1 < rows; ++r)
    for (int c = 0; c + 1 < columns; ++c) {
      const int i = r * columns + c;
      triangles.push_back({i, i + columns, i + 1});
      triangles.push_back({i + 1, i + columns, i + columns + 1});
    }
  MeshData field = makeMesh(vertices, triangles);
  field.sheet = false;
  field.grid = {columns, rows, spacingX, spacingZ, heights};
  return field;
}

}  // namespace calm
