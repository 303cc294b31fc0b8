// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/outline.h"

#include "engine/contact/polytopes.h"
#include "engine/shape/mesh.h"

namespace calm {

namespace {

constexpr double kFlat = 1 - 1e-6;  // cosine of the angle between faces that lie on each other

std::vector<Vec3> cornersOf(const NamedPoints& polygon) {
  std::vector<Vec3> corners;
  for (const auto& [point, name] : polygon) corners.push_back(point);
  return corners;
}

std::vector<Vec3> common(const ConvexCore& a, const ConvexCore& b, const Vec3& normal) {
  const Feature own = facingFeature(a, normal), other = facingFeature(b, -normal);
  if (!own.face || !other.face || own.face->normal.dot(-other.face->normal) < kFlat) return {};
  NamedPoints polygon = own.points;
  const std::size_t n = other.points.size();
  for (std::size_t i = 0; i < n && !polygon.empty(); ++i) {
    const Vec3 &from = other.points[i].first, &to = other.points[(i + 1) % n].first;
    clip(polygon, from, (to - from).cross(other.face->normal), 0);
  }
  return cornersOf(polygon);
}

}  // namespace

std::vector<Vec3> outlineOf(const Collider& a, const Collider& b, const Vec3& normal) {
  if (!a.halfSpace && !b.halfSpace) return common(a.core, b.core, normal);
  const Vec3 towards = a.halfSpace ? Vec3(-normal) : normal;
  const Feature face = facingFeature(a.halfSpace ? b.core : a.core, towards);
  return face.face && face.face->normal.dot(towards) > kFlat ? cornersOf(face.points) : std::vector<Vec3>();
}

std::vector<Vec3> outlineOf(const ConvexCore& a, const TriangleTouch& triangle, const Vec3& normal) {
  ConvexCore core;
  buildTriangle(*triangle.mesh, triangle.triangle, triangle.pose, core);
  return common(a, core, normal);
}

}  // namespace calm
