// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/shape.h"

#include <cmath>
#include <numbers>
#include <sstream>

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
                             [](const HalfSpace&) { return std::string(); }},
                    shape);
}

double volumeOf(const Shape& shape) {
  return std::visit(Overload{[](const Sphere& s) { return 4.0 / 3 * kPi * std::pow(s.radius, 3); },
                             [](const Capsule& c) {
                               return kPi * c.radius * c.radius * (2 * c.coreHalfLength() + 4.0 / 3 * c.radius);
                             },
                             [](const Cylinder& c) { return kPi * c.radius * c.radius * c.length; },
                             [](const Box& b) { return b.size.prod(); }, [](const HalfSpace&) { return 0.0; }},
                    shape);
}

MassProperties massPropertiesOf(const Shape& shape, double mass) {
  MassProperties properties;
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
                          [](const HalfSpace&) -> Mat3 { return Mat3::Identity(); }},
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
                          [&](const HalfSpace&) { return rayHalfSpace(origin, direction); }},
                 shape);
  if (hit) hit->normal = pose.rotation * hit->normal;
  return hit;
}

}  // namespace calm
