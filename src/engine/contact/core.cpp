// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/core.h"

#include <array>
#include <cmath>
#include <numbers>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"

namespace calm {

namespace {

// Vertex i of a box has the signs of the bits of i: bit 0 for x, 1 for y, 2 for z.
constexpr int kBoxFaces[6][4] = {{1, 3, 7, 5}, {0, 4, 6, 2}, {2, 6, 7, 3}, {0, 1, 5, 4}, {4, 5, 7, 6}, {0, 2, 3, 1}};

struct SimplexVertex {
  Vec3 a = Vec3::Zero(), b = Vec3::Zero(), difference = Vec3::Zero();  // support points and a - b
  int indexA = 0, indexB = 0;
  double weight = 0;
};

// The simplex of the difference set nearest the origin, kept minimal.
class Simplex {
 public:
  int size = 0;
  std::array<SimplexVertex, 4> v;

  Vec3 nearest() const {
    Vec3 p = Vec3::Zero();
    for (int i = 0; i < size; ++i) p += v[i].weight * v[i].difference;
    return p;
  }

  // Drops the vertices that do not carry the point nearest the origin. False if the origin is inside.
  bool reduce() {
    switch (size) {
      case 1:
        v[0].weight = 1;
        return true;
      case 2:
        return segment();
      case 3:
        return triangle();
      default:
        return tetrahedron();
    }
  }

 private:
  void keep(std::initializer_list<std::pair<int, double>> kept) {
    std::array<SimplexVertex, 4> next;
    int n = 0;
    for (const auto& [index, weight] : kept) {
      next[n] = v[index];
      next[n++].weight = weight;
    }
    v = next;
    size = n;
  }

  bool segment() {
    const Vec3 ab = v[1].difference - v[0].difference;
    const double t = -v[0].difference.dot(ab), length2 = ab.squaredNorm();
    if (t <= 0)
      keep({{0, 1}});
    else if (t >= length2)
      keep({{1, 1}});
    else
      keep({{0, 1 - t / length2}, {1, t / length2}});
    return true;
  }

  // Ericson 2005, section 5.1.5, with the origin as the query point.
  bool triangle() {
    const Vec3 a = v[0].difference, b = v[1].difference, c = v[2].difference;
    const Vec3 ab = b - a, ac = c - a;
    const double d1 = -ab.dot(a), d2 = -ac.dot(a);
    if (d1 <= 0 && d2 <= 0) return keep({{0, 1}}), true;
    const double d3 = -ab.dot(b), d4 = -ac.dot(b);
    if (d3 >= 0 && d4 <= d3) return keep({{1, 1}}), true;
    const double vc = d1 * d4 - d3 * d2;
    if (vc <= 0 && d1 >= 0 && d3 <= 0) return keep({{0, 1 - d1 / (d1 - d3)}, {1, d1 / (d1 - d3)}}), true;
    const double d5 = -ab.dot(c), d6 = -ac.dot(c);
    if (d6 >= 0 && d5 <= d6) return keep({{2, 1}}), true;
    const double vb = d5 * d2 - d1 * d6;
    if (vb <= 0 && d2 >= 0 && d6 <= 0) return keep({{0, 1 - d2 / (d2 - d6)}, {2, d2 / (d2 - d6)}}), true;
    const double va = d3 * d6 - d5 * d4;
    if (va <= 0 && d4 - d3 >= 0 && d5 - d6 >= 0) {
      const double t = (d4 - d3) / ((d4 - d3) + (d5 - d6));
      return keep({{1, 1 - t}, {2, t}}), true;
    }
    const double sum = va + vb + vc;
    keep({{0, va / sum}, {1, vb / sum}, {2, vc / sum}});
    return true;
  }

  bool tetrahedron() {
    constexpr int kFaces[4][4] = {{0, 1, 2, 3}, {0, 2, 3, 1}, {0, 3, 1, 2}, {1, 3, 2, 0}};
    const Simplex whole = *this;
    Simplex best;
    double bestDistance = 1e300;
    for (const auto& f : kFaces) {
      const Vec3& a = v[f[0]].difference;
      const Vec3 n = (v[f[1]].difference - a).cross(v[f[2]].difference - a);
      const double originSide = -a.dot(n), innerSide = (v[f[3]].difference - a).dot(n);
      if (originSide * innerSide > 0) continue;  // the origin is on the inner side of this face
      Simplex face;
      face.size = 3;
      for (int i = 0; i < 3; ++i) face.v[i] = whole.v[f[i]];
      face.triangle();
      const double distance = face.nearest().squaredNorm();
      if (distance < bestDistance) bestDistance = distance, best = face;
    }
    if (bestDistance == 1e300) return false;
    *this = best;
    return true;
  }
};

constexpr int kFacets = 32;  // of a cylinder's prism; after them its two ends

// Cosine and sine of each half facet's angle.
const std::array<std::array<double, 2>, 2 * kFacets>& halfFacets() {
  static const auto table = [] {
    std::array<std::array<double, 2>, 2 * kFacets> angles;
    for (int i = 0; i < 2 * kFacets; ++i)
      angles[i] = {std::cos(i * std::numbers::pi / kFacets), std::sin(i * std::numbers::pi / kFacets)};
    return angles;
  }();
  return table;
}

// Which vertices a prism's faces have, in the memory that these already have.
void nameVertices(std::vector<CoreFace>& faces) {
  faces.resize(kFacets + 2);
  std::vector<int>&upper = faces[kFacets].vertices, &lower = faces[kFacets + 1].vertices;
  upper.clear(), lower.clear();
  for (int i = 0; i < kFacets; ++i) {
    const int next = (i + 1) % kFacets;
    faces[i].vertices.assign({2 * i, 2 * next, 2 * next + 1, 2 * i + 1});
    upper.push_back(2 * i + 1);
    lower.push_back(2 * (kFacets - 1 - i));
  }
}

// Around core.center, with two of its edges in the direction `first` (unit, across the axis).
void layPrism(const Vec3& first, ConvexCore& core) {
  const Vec3 axis = core.discAxis.normalized(), second = axis.cross(first);
  const auto around = [&](int half) {
    const auto& [cosine, sine] = halfFacets()[half % (2 * kFacets)];
    return Vec3(first * cosine + second * sine);
  };
  core.vertices.clear();
  core.edgeDirections.clear();
  core.faces[kFacets].normal = axis;
  core.faces[kFacets + 1].normal = -axis;
  for (int i = 0; i < kFacets; ++i) {
    for (const double side : {-1.0, 1.0})
      core.vertices.push_back(core.center + side * core.discAxis + core.discRadius * around(2 * i));
    core.faces[i].normal = around(2 * i + 1);
    if (i < kFacets / 2) core.edgeDirections.push_back(around(2 * i + 1 + kFacets / 2));
  }
  core.edgeDirections.push_back(axis);
}

void buildPrism(const Cylinder& cylinder, const Pose& pose, ConvexCore& core) {
  const Mat3 axes = pose.rotation.toRotationMatrix();
  core.discRadius = cylinder.radius;
  core.discAxis = axes.col(1) * cylinder.length / 2;
  core.center = pose.position;
  nameVertices(core.faces);
  layPrism(axes.col(2), core);
}

}  // namespace

int ConvexCore::support(const Vec3& direction) const {
  // A prism's lower and upper vertices come in turn.
  const bool prism = discRadius > 0;
  int best = prism && discAxis.dot(direction) > 0 ? 1 : 0;
  double furthest = vertices[best].dot(direction);
  const int step = prism ? 2 : 1;
  for (int i = best + step; i < static_cast<int>(vertices.size()); i += step)
    if (const double d = vertices[i].dot(direction); d > furthest) furthest = d, best = i;
  return best;
}

void buildCore(const Shape& shape, const Pose& pose, ConvexCore& core) {
  core.vertices.clear();
  core.edgeDirections.clear();
  core.center = pose.position;
  core.radius = 0;
  core.discRadius = 0;
  if (const auto* sphere = std::get_if<Sphere>(&shape)) {
    core.faces.clear();
    core.vertices.push_back(pose.position);
    core.radius = sphere->radius;
  } else if (const auto* capsule = std::get_if<Capsule>(&shape)) {
    core.faces.clear();
    const Vec3 axis = pose.rotation * Vec3::UnitY();
    core.vertices.push_back(pose.position - axis * capsule->coreHalfLength());
    core.vertices.push_back(pose.position + axis * capsule->coreHalfLength());
    core.edgeDirections.push_back(axis);
    core.radius = capsule->radius;
  } else if (const auto* cylinder = std::get_if<Cylinder>(&shape)) {
    buildPrism(*cylinder, pose, core);
  } else if (const auto* hull = std::get_if<ConvexHull>(&shape)) {
    const Mat3 axes = pose.rotation.toRotationMatrix();
    for (const Vec3& v : hull->data->vertices) core.vertices.push_back(pose.position + axes * v);
    for (const Vec3& e : hull->data->edgeDirections) core.edgeDirections.push_back(axes * e);
    core.faces.resize(hull->data->faces.size());
    for (std::size_t f = 0; f < core.faces.size(); ++f)
      core.faces[f] = {axes * hull->data->faces[f].normal, hull->data->faces[f].vertices};
    core.center = pose.apply(hull->data->center);
  } else {
    const Vec3 half = std::get<Box>(shape).size / 2;
    const Mat3 axes = pose.rotation.toRotationMatrix();
    for (int i = 0; i < 8; ++i) {
      const Vec3 corner(i & 1 ? half.x() : -half.x(), i & 2 ? half.y() : -half.y(), i & 4 ? half.z() : -half.z());
      core.vertices.push_back(pose.position + axes * corner);
    }
    core.faces.resize(6);
    for (int f = 0; f < 6; ++f) {
      core.faces[f].normal = (f % 2 ? -1 : 1) * axes.col(f / 2);
      core.faces[f].vertices.assign(kBoxFaces[f], kBoxFaces[f] + 4);
    }
    for (int i = 0; i < 3; ++i) core.edgeDirections.push_back(axes.col(i));
  }
}

void buildTriangle(const MeshData& mesh, int triangle, const Pose& pose, ConvexCore& core) {
  const MeshData::Triangle& t = mesh.triangles[triangle];
  core.vertices.clear();
  core.edgeDirections.clear();
  for (const int v : t.vertices) core.vertices.push_back(pose.apply(mesh.vertices[v]));
  for (int e = 0; e < 3; ++e)
    core.edgeDirections.push_back((core.vertices[(e + 1) % 3] - core.vertices[e]).normalized());
  const Vec3 normal = pose.rotation * t.normal;
  core.faces.resize(2);
  core.faces[0].normal = normal, core.faces[1].normal = -normal;
  core.faces[0].vertices.assign({0, 1, 2}), core.faces[1].vertices.assign({2, 1, 0});
  core.radius = core.discRadius = 0;
  core.center = (core.vertices[0] + core.vertices[1] + core.vertices[2]) / 3;
}

ClosestPoints closestPoints(const ConvexCore& a, const ConvexCore& b) {
  Simplex simplex;
  const auto push = [&](const Vec3& towards) {
    SimplexVertex& s = simplex.v[simplex.size++];
    s.indexA = a.support(towards);
    s.indexB = b.support(-towards);
    s.a = a.vertices[s.indexA];
    s.b = b.vertices[s.indexB];
    s.difference = s.a - s.b;
    s.weight = 1;
  };
  Vec3 start = b.center - a.center;
  push(start.squaredNorm() > 0 ? start : Vec3::UnitX());
  Vec3 nearest = simplex.v[0].difference;
  for (int iteration = 0; iteration < 64; ++iteration) {
    const double distance2 = nearest.squaredNorm();
    if (distance2 < 1e-24) return {};
    push(-nearest);
    const SimplexVertex& newest = simplex.v[simplex.size - 1];
    bool repeated = false;
    for (int i = 0; i + 1 < simplex.size; ++i)
      repeated |= simplex.v[i].indexA == newest.indexA && simplex.v[i].indexB == newest.indexB;
    // No support point lies further towards the origin: `nearest` is the answer.
    if (repeated || distance2 - nearest.dot(newest.difference) <= 1e-14 * distance2) {
      --simplex.size;
      break;
    }
    const Simplex before = simplex;
    if (!simplex.reduce()) return {};
    const Vec3 next = simplex.nearest();
    if (next.squaredNorm() >= distance2) {  // round-off: no more progress
      simplex = before;
      --simplex.size;
      break;
    }
    nearest = next;
  }
  ClosestPoints result;
  for (int i = 0; i < simplex.size; ++i) {
    result.onA += simplex.v[i].weight * simplex.v[i].a;
    result.onB += simplex.v[i].weight * simplex.v[i].b;
  }
  result.distance = (result.onA - result.onB).norm();
  return result;
}

void rollPrism(ConvexCore& core, const Vec3& direction) {
  const Vec3 axis = core.discAxis.normalized();
  const Vec3 across = direction - axis * axis.dot(direction);
  if (across.norm() <= 1e-6 * direction.norm()) return;
  layPrism(across.normalized(), core);
  // There the rim runs as its tangent does; chords would cut it short.
  core.edgeDirections = {axis, axis.cross(across).normalized()};
}

}  // namespace calm
