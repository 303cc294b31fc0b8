// SPDX-License-Identifier: GPL-3.0-or-later
// The value types of the engine. SI units everywhere: metres, kilograms, seconds, radians.
// World frame: right-handed, y up.
#pragma once

#include <Eigen/Core>
#include <Eigen/Geometry>

namespace calm {

using Vec3 = Eigen::Vector3d;
using Mat3 = Eigen::Matrix3d;
using Quat = Eigen::Quaterniond;

// A rigid placement: maps local coordinates to the parent's, p = position + rotation * local.
struct Pose {
  Vec3 position = Vec3::Zero();
  Quat rotation = Quat::Identity();

  Vec3 apply(const Vec3& local) const { return position + rotation * local; }
  Vec3 applyInverse(const Vec3& point) const { return rotation.conjugate() * (point - position); }
  Pose operator*(const Pose& inner) const {
    return {position + rotation * inner.position, (rotation * inner.rotation).normalized()};
  }
  Pose inverse() const { return {-(rotation.conjugate() * position), rotation.conjugate()}; }
};

// Some unit vector at right angles to the unit vector n.
inline Vec3 anyPerpendicular(const Vec3& n) {
  const Vec3 helper = std::abs(n.x()) < 0.6 ? Vec3::UnitX() : (std::abs(n.y()) < 0.6 ? Vec3::UnitY() : Vec3::UnitZ());
  return n.cross(helper).normalized();
}

}  // namespace calm
