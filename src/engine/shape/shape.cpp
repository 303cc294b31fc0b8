// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/shape.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <sstream>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"

namespace calm {

namespace {

constexpr double kPi = std::numbers::pi;

template <class... Fs>
struct Overload : Fs... {
  using Fs::operator()...;
};
template <class... Fs>
Overload(Fs...) -> Overload<Fs...>;

std::string positive(const char* what, double value) {
  if (std::isfinite(value) && value > 0) return {};
  std::ostringstream fault;
  fault << what << " must be a number above 0 m, not " << value;
  return fault.str();
}

Mat3 diagonal(double x, double y, double z) {
  return Vec3(x, y, z).asDiagonal();
}

// Capsule as a cylinder and two half balls, each with its share of the mass.
Mat3 capsuleInertia(const Capsule& c, double mass) {
  const double r = c.radius, core = 2 * c.coreHalfLength();
  const double cylinderVolume = kPi * r * r * core, ballVolume = 4.0 / 3 * kPi * r * r * r;
  const double cylinder = mass * cylinderVolume / (cylinderVolume + ballVolume), ball = mass - cylinder;
  const double along = cylinder * r * r / 2 + ball * 2 * r * r / 5;
  const double across =
      cylinder * (core * core / 12 + r * r / 4) + ball * (2 * r * r / 5 + core * core / 4 + 3 * core * r / 8);
  return diagonal(across, along, across);
}

std::optional<RayHit> raySphere(const Vec3& origin, const Vec3& direction, const Vec3& center, double radius) {
  const Vec3 m = origin - center;
  const double b = m.dot(direction), c = m.squaredNorm() - radius * radius;
  if (c < 0 || b > 0) return std::nullopt;
  const double discriminant = b * b - c;
  if (discriminant < 0) return std::nullopt;
  const double t = -b - std::sqrt(discriminant);
  return RayHit{t, (m + t * direction) / radius};
}

std::optional<RayHit> rayCapsule(const Vec3& origin, const Vec3& direction, const Capsule& capsule) {
  const double half = capsule.coreHalfLength(), r = capsule.radius;
  std::optional<RayHit> best;
  const auto consider = [&](const std::optional<RayHit>& hit) {
    if (hit && (!best || hit->distance < best->distance)) best = hit;
  };
  const double a = direction.x() * direction.x() + direction.z() * direction.z();
  const double b = origin.x() * direction.x() + origin.z() * direction.z();
  const double c = origin.x() * origin.x() + origin.z() * origin.z() - r * r;
  const double discriminant = b * b - a * c;
  if (a > 1e-14 && discriminant >= 0 && c >= 0) {
    const double t = (-b - std::sqrt(discriminant)) / a;
    const Vec3 p = origin + t * direction;
    if (t >= 0 && std::abs(p.y()) <= half) consider(RayHit{t, Vec3(p.x(), 0, p.z()) / r});
  }
  consider(raySphere(origin, direction, Vec3(0, half, 0), r));
  consider(raySphere(origin, direction, Vec3(0, -half, 0), r));
  return best;
}

std::optional<RayHit> rayBox(const Vec3& origin, const Vec3& direction, const Vec3& half) {
  double enter = -1e300, leave = 1e300;
  int axis = 0;
  for (int i = 0; i < 3; ++i) {
    if (std::abs(direction[i]) < 1e-300) {
      if (std::abs(origin[i]) > half[i]) return std::nullopt;
      continue;
    }
    const double sign = direction[i] > 0 ? 1 : -1;
    const double t0 = (-sign * half[i] - origin[i]) / direction[i], t1 = (sign * half[i] - origin[i]) / direction[i];
    if (t0 > enter) enter = t0, axis = i;
    leave = std::min(leave, t1);
  }
  if (enter < 0 || enter > leave) return std::nullopt;
  Vec3 normal = Vec3::Zero();
  normal[axis] = direction[axis] > 0 ? -1 : 1;
  return RayHit{enter, normal};
}

std::optional<RayHit> rayCylinder(const Vec3& origin, const Vec3& direction, const Cylinder& cylinder) {
  const double half = cylinder.length / 2, r = cylinder.radius;
  std::optional<RayHit> best;
  const auto consider = [&](double t, const Vec3& normal) {
    if (t >= 0 && (!best || t < best->distance)) best = RayHit{t, normal};
  };
  const double a = direction.x() * direction.x() + direction.z() * direction.z();
  const double b = origin.x() * direction.x() + origin.z() * direction.z();
  const double c = origin.x() * origin.x() + origin.z() * origin.z() - r * r;
  if (const double discriminant = b * b - a * c; a > 1e-14 && discriminant >= 0 && c >= 0) {
    const double t = (-b - std::sqrt(discriminant)) / a;
    const Vec3 p = origin + t * direction;
    if (std::abs(p.y()) <= half) consider(t, Vec3(p.x(), 0, p.z()) / r);
  }
  // The end that faces the ray, if it comes from beyond it.
  const double side = direction.y() < 0 ? 1 : -1;
  if (direction.y() * side < 0 && origin.y() * side >= half) {
    const double t = (side * half - origin.y()) / direction.y();
    const Vec3 p = origin + t * direction;
    if (p.x() * p.x() + p.z() * p.z() <= r * r) consider(t, Vec3(0, side, 0));
  }
  return best;
}

// Clipped by the planes of its faces (Cyrus and Beck 1978).
std::optional<RayHit> rayHull(const Vec3& origin, const Vec3& direction, const HullData& hull) {
  double enter = -1e300, leave = 1e300;
  Vec3 normal = Vec3::UnitY();
  for (const HullData::Face& f : hull.faces) {
    const double above = (origin - hull.vertices[f.vertices[0]]).dot(f.normal), speed = direction.dot(f.normal);
    if (std::abs(speed) < 1e-300) {
      if (above > 0) return std::nullopt;
    } else if (speed < 0) {
      if (-above / speed > enter) enter = -above / speed, normal = f.normal;
    } else {
      leave = std::min(leave, -above / speed);
    }
  }
  if (enter < 0 || enter > leave) return std::nullopt;
  return RayHit{enter, normal};
}

// From the outer side of its triangles, or either side of a sheet's (Moeller and Trumbore 1997).
std::optional<RayHit> rayMesh(const Vec3& origin, const Vec3& direction, const MeshData& mesh) {
  std::optional<RayHit> best;
  mesh.tree.cast({origin, direction}, 1e300, [&](int t, double furthest) {
    const MeshData::Triangle& triangle = mesh.triangles[t];
    const Vec3& corner = mesh.vertices[triangle.vertices[0]];
    const Vec3 e1 = mesh.vertices[triangle.vertices[1]] - corner, e2 = mesh.vertices[triangle.vertices[2]] - corner;
    const Vec3 p = direction.cross(e2);
    const double det = e1.dot(p);
    if (mesh.sheet ? std::abs(det) <= 1e-300 : det <= 1e-300) return furthest;
    const Vec3 s = origin - corner, q = s.cross(e1);
    const double u = s.dot(p) / det, v = direction.dot(q) / det, distance = e2.dot(q) / det;
    if (u < 0 || v < 0 || u + v > 1 || distance < 0 || distance > furthest) return furthest;
    best = RayHit{distance, det > 0 ? triangle.normal : Vec3(-triangle.normal)};
    return distance;
  });
  return best;
}

std::optional<RayHit> rayHalfSpace(const Vec3& origin, const Vec3& direction) {
  if (origin.y() < 0 || direction.y() >= 0) return std::nullopt;
  return RayHit{-origin.y() / direction.y(), Vec3::UnitY()};
}

}  // namespace

std::string faultOf(const Shape& shape) {
  return std::visit(Overload{[](const Sphere& s) { return positive("radius", s.radius); },
                             [](const Capsule& c) {
                               std::string fault = positive("radius", c.radius);
                               if (fault.empty()) fault = positive("length", c.length);
                               if (fault.empty() && c.length < 2 * c.radius * (1 - 1e-12)) {
                                 std::ostringstream text;
                                 text << "length " << c.length
                                      << " m runs from tip to tip and must be at least twice the radius " << c.radius
                                      << " m";
                                 fault = text.str();
                               }
                               return fault;
                             },
                             [](const Cylinder& c) {
                               const std::string fault = positive("radius", c.radius);
                               return fault.empty() ? positive("length", c.length) : fault;
                             },
                             [](const Box& b) {
                               for (int i = 0; i < 3; ++i)
                                 if (const std::string fault = positive("size", b.size[i]); !fault.empty())
                                   return fault;
                               return std::string();
                             },
                             [](const HalfSpace&) { return std::string(); },
                             [](const ConvexHull& h) { return std::string(h.data ? "" : "a hull needs points"); },
                             [](const TriangleMesh& m) { return std::string(m.data ? "" : "a mesh needs triangles"); },
                             [](const Compound& c) {
                               if (c.shapes.empty()) return std::string("a compound needs at least one shape");
                               for (const PlacedShape& s : c.shapes)
                                 if (const std::string fault = faultOf(s.shape); !fault.empty()) return fault;
                               return std::string();
                             }},
                    shape);
}

double volumeOf(const Shape& shape) {
  return std::visit(
      Overload{
          [](const Sphere& s) { return 4.0 / 3 * kPi * std::pow(s.radius, 3); },
          [](const Capsule& c) { return kPi * c.radius * c.radius * (2 * c.coreHalfLength() + 4.0 / 3 * c.radius); },
          [](const Cylinder& c) { return kPi * c.radius * c.radius * c.length; },
          [](const Box& b) { return b.size.prod(); }, [](const HalfSpace&) { return 0.0; },
          [](const ConvexHull& h) { return h.data->volume; }, [](const TriangleMesh&) { return 0.0; },
          [](const Compound& c) {
            double sum = 0;
            for (const PlacedShape& s : c.shapes) sum += volumeOf(s.shape);
            return sum;
          }},
      shape);
}

MassProperties massPropertiesOf(const Shape& shape, double mass) {
  MassProperties properties;
  if (const auto* hull = std::get_if<ConvexHull>(&shape))
    return {mass, hull->data->center, hull->data->inertia * (mass / hull->data->volume)};
  if (const auto* compound = std::get_if<Compound>(&shape)) {
    const double density = mass / volumeOf(shape);
    std::optional<MassProperties> sum;
    for (const PlacedShape& s : compound->shapes) {
      const double volume = volumeOf(s.shape);
      if (volume <= 0) continue;
      const MassProperties one = massPropertiesOf(s.shape, density * volume).placed(s.pose);
      sum = sum ? *sum + one : one;
    }
    return sum.value_or(properties);
  }
  properties.mass = mass;
  properties.inertia =
      std::visit(Overload{[&](const Sphere& s) -> Mat3 { return 0.4 * mass * s.radius * s.radius * Mat3::Identity(); },
                          [&](const Capsule& c) -> Mat3 { return capsuleInertia(c, mass); },
                          [&](const Cylinder& c) -> Mat3 {
                            const double along = mass * c.radius * c.radius / 2;
                            const double across = along / 2 + mass * c.length * c.length / 12;
                            return diagonal(across, along, across);
                          },
                          [&](const Box& b) -> Mat3 {
                            const Vec3 q = b.size.cwiseAbs2() * (mass / 12);
                            return diagonal(q.y() + q.z(), q.x() + q.z(), q.x() + q.y());
                          },
                          [](const auto&) -> Mat3 { return Mat3::Identity(); }},
                 shape);
  return properties;
}

Aabb boundsOf(const Shape& shape, const Pose& pose) {
  const Vec3& p = pose.position;
  return std::visit(Overload{[&](const Sphere& s) {
                               const Vec3 r = Vec3::Constant(s.radius);
                               return Aabb{p - r, p + r};
                             },
                             [&](const Capsule& c) {
                               const Vec3 axis = pose.rotation * Vec3(0, c.coreHalfLength(), 0);
                               const Vec3 e = axis.cwiseAbs() + Vec3::Constant(c.radius);
                               return Aabb{p - e, p + e};
                             },
                             [&](const Cylinder& c) {
                               const Vec3 axis = pose.rotation * Vec3::UnitY();
                               const Vec3 rim = (Vec3::Ones() - axis.cwiseAbs2()).cwiseMax(0).cwiseSqrt() * c.radius;
                               const Vec3 e = axis.cwiseAbs() * c.length / 2 + rim;
                               return Aabb{p - e, p + e};
                             },
                             [&](const Box& b) {
                               const Vec3 e = pose.rotation.toRotationMatrix().cwiseAbs() * b.size / 2;
                               return Aabb{p - e, p + e};
                             },
                             [&](const HalfSpace&) {
                               Aabb all{Vec3::Constant(-1e300), Vec3::Constant(1e300)};
                               if ((pose.rotation * Vec3::UnitY()).y() > 1 - 1e-12) all.high.y() = p.y();
                               return all;
                             },
                             [&](const ConvexHull& h) {
                               Aabb box;
                               for (const Vec3& v : h.data->vertices) {
                                 const Vec3 at = pose.apply(v);
                                 box.include({at, at});
                               }
                               return box;
                             },
                             [&](const TriangleMesh& m) {
                               const Vec3 middle = (m.data->bounds.low + m.data->bounds.high) / 2;
                               const Vec3 half = (m.data->bounds.high - m.data->bounds.low) / 2;
                               const Vec3 e = pose.rotation.toRotationMatrix().cwiseAbs() * half;
                               return Aabb{pose.apply(middle) - e, pose.apply(middle) + e};
                             },
                             [&](const Compound& c) {
                               Aabb box;
                               for (const PlacedShape& s : c.shapes) box.include(boundsOf(s.shape, pose * s.pose));
                               return box;
                             }},
                    shape);
}

std::optional<RayHit> castRay(const Ray& ray, const Shape& shape, const Pose& pose) {
  const Vec3 origin = pose.applyInverse(ray.origin);
  const Vec3 direction = pose.rotation.conjugate() * ray.direction;
  std::optional<RayHit> hit =
      std::visit(Overload{[&](const Sphere& s) { return raySphere(origin, direction, Vec3::Zero(), s.radius); },
                          [&](const Capsule& c) { return rayCapsule(origin, direction, c); },
                          [&](const Box& b) { return rayBox(origin, direction, b.size / 2); },
                          [&](const Cylinder& c) { return rayCylinder(origin, direction, c); },
                          [&](const HalfSpace&) { return rayHalfSpace(origin, direction); },
                          [&](const ConvexHull& h) { return rayHull(origin, direction, *h.data); },
                          [&](const TriangleMesh& m) { return rayMesh(origin, direction, *m.data); },
                          [&](const Compound& c) {
                            std::optional<RayHit> best;
                            for (const PlacedShape& s : c.shapes) {
                              const auto one = castRay({origin, direction}, s.shape, s.pose);
                              if (one && (!best || one->distance < best->distance)) best = one;
                            }
                            return best;
                          }},
                 shape);
  if (hit) hit->normal = pose.rotation * hit->normal;
  return hit;
}

}  // namespace calm
