// SPDX-License-Identifier: GPL-3.0-or-later
// Collision shapes. All sizes are full sizes in metres, never halves; capsules and cylinders lie along their y axis.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "engine/math/mass.h"
#include "engine/math/types.h"

namespace calm {

struct Sphere {
  double radius = 0.5;
};

// `length` runs from tip to tip, caps included; at least twice the radius.
struct Capsule {
  double radius = 0.25;
  double length = 1;

  double coreHalfLength() const { return length / 2 - radius; }
};

struct Box {
  Vec3 size = Vec3::Ones();
};

// Along its y axis, flat ends.
struct Cylinder {
  double radius = 0.5;
  double length = 1;
};

// The half space below y = 0 of its frame; for static parts.
struct HalfSpace {};

struct HullData;
struct MeshData;
struct PlacedShape;

// A convex polyhedron; see shape/hull.h. Copies share their data.
struct ConvexHull {
  std::shared_ptr<const HullData> data;
};

// A surface of triangles, for parts that are not dynamic; see shape/mesh.h.
struct TriangleMesh {
  std::shared_ptr<const MeshData> data;
};

// Several shapes as one, of the same density throughout; where they overlap, the matter counts twice.
struct Compound {
  std::vector<PlacedShape> shapes;
};

using Shape = std::variant<Sphere, Capsule, Box, Cylinder, HalfSpace, ConvexHull, TriangleMesh, Compound>;

// A shape in its part's frame.
struct PlacedShape {
  Shape shape;
  Pose pose;
};

// Calls visit(shape, pose in the frame of `shape`) for the shape, or for each one in a compound.
template <class Visit>
void forEachSimple(const Shape& shape, const Pose& pose, Visit&& visit) {
  if (const auto* compound = std::get_if<Compound>(&shape))
    for (const PlacedShape& s : compound->shapes) forEachSimple(s.shape, pose * s.pose, visit);
  else
    visit(shape, pose);
}

// Empty if sizes are finite and positive; otherwise what is wrong, as the end of a sentence.
std::string faultOf(const Shape& shape);

// Volume in cubic metres; half spaces and meshes have none (0).
double volumeOf(const Shape& shape);

// Mass properties of the solid of uniform density that has this mass (kg). Closed forms; see any table of moments of
// inertia. Half spaces and meshes give a unit inertia, which nothing reads because they are never dynamic.
MassProperties massPropertiesOf(const Shape& shape, double mass);

struct Aabb {
  Vec3 low = Vec3::Constant(1e300);
  Vec3 high = Vec3::Constant(-1e300);

  void include(const Aabb& other) {
    low = low.cwiseMin(other.low);
    high = high.cwiseMax(other.high);
  }
  Aabb grown(const Vec3& by) const { return {low - by, high + by}; }
  bool overlaps(const Aabb& other) const {
    return (low.array() <= other.high.array()).all() && (other.low.array() <= high.array()).all();
  }
};

// The tightest world box around the shape. A half space spans the world up to the highest point of its plane
// where that is level, and everything otherwise.
Aabb boundsOf(const Shape& shape, const Pose& pose);

struct Ray {
  Vec3 origin;
  Vec3 direction;  // unit length
};

struct RayHit {
  double distance;  // m along the ray
  Vec3 normal;      // outward, unit
};

// The first point at which the ray enters the shape from outside, if there is one.
std::optional<RayHit> castRay(const Ray& ray, const Shape& shape, const Pose& pose);

}  // namespace calm
