// SPDX-License-Identifier: GPL-3.0-or-later
// Where the View looks from: orbits a target.
#pragma once

#include <QMatrix4x4>
#include <QSize>
#include <optional>

#include "engine/shape/shape.h"

namespace calm::app {

class Camera {
 public:
  void setViewport(const QSize& size) { viewport_ = size; }
  QMatrix4x4 matrix() const;
  Vec3 eye() const;
  // Unit; where it looks.
  Vec3 forward() const { return -toEye(); }
  double distance() const { return distance_; }
  bool orthographic() const { return orthographic_; }
  void setOrthographic(bool on) { orthographic_ = on; }

  // Pixels dragged.
  void orbit(double dx, double dy);
  void pan(double dx, double dy);
  // Above 1 nears; keeps the world point under the pixel where it is.
  void zoom(double factor, const QPointF& at);
  // Degrees: 0 looks along -z, 90 along -x.
  void face(double yaw, double pitch);
  // Moves so that the box fills the view.
  void frame(const Aabb& box);

  // Through a pixel; direction of unit length.
  Ray ray(const QPointF& pixel) const;
  // Pixel of a world point; nothing if it lies behind.
  std::optional<QPointF> project(const Vec3& point) const;
  // Metres that a pixel spans at the point.
  double metresPerPixel(const Vec3& point) const;

 private:
  Vec3 toEye() const;

  QSize viewport_{1, 1};
  Vec3 target_ = Vec3(0, 1, 0);
  double yaw_ = 0.5, pitch_ = 0.28, distance_ = 6;  // rad, rad, m
  bool orthographic_ = false;
};

}  // namespace calm::app
