// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/camera.h"

#include <QVector4D>
#include <algorithm>
#include <cmath>
#include <numbers>

namespace calm::app {

namespace {
constexpr double kFieldOfView = 38 * std::numbers::pi / 180;  // vertical, rad
QVector3D qt(const Vec3& v) {
  return {float(v.x()), float(v.y()), float(v.z())};
}
}  // namespace

Vec3 Camera::toEye() const {
  return {std::sin(yaw_) * std::cos(pitch_), std::sin(pitch_), std::cos(yaw_) * std::cos(pitch_)};
}

Vec3 Camera::eye() const {
  return target_ + distance_ * toEye();
}

QMatrix4x4 Camera::matrix() const {
  QMatrix4x4 projection, view;
  const float aspect = float(viewport_.width()) / float(std::max(1, viewport_.height()));
  const double nearest = distance_ * 0.01, furthest = distance_ * 60 + 100;
  if (orthographic_) {
    const float half = float(distance_ * std::tan(kFieldOfView / 2));
    projection.ortho(-half * aspect, half * aspect, -half, half, float(-furthest), float(furthest));
  } else {
    projection.perspective(float(kFieldOfView * 180 / std::numbers::pi), aspect, float(nearest), float(furthest));
  }
  view.lookAt(qt(eye()), qt(target_), QVector3D(0, 1, 0));
  return projection * view;
}

void Camera::orbit(double dx, double dy) {
  yaw_ -= dx * 0.008;
  pitch_ = std::clamp(pitch_ + dy * 0.008, -1.5, 1.5);
}

void Camera::pan(double dx, double dy) {
  const Vec3 back = toEye(), right = Vec3::UnitY().cross(back).normalized(), up = back.cross(right);
  const double scale = metresPerPixel(target_);
  target_ += (-dx * right + dy * up) * scale;
}

void Camera::zoom(double factor, const QPointF& at) {
  const double next = std::clamp(distance_ / factor, 0.02, 5000.0);
  const QPointF center(viewport_.width() / 2.0, viewport_.height() / 2.0);
  const QPointF off = at - center;
  const double share = 1 - next / distance_;
  pan(-off.x() * share, -off.y() * share);
  distance_ = next;
}

void Camera::face(double yaw, double pitch) {
  yaw_ = yaw * std::numbers::pi / 180;
  pitch_ = std::clamp(pitch * std::numbers::pi / 180, -1.5, 1.5);
}

void Camera::frame(const Aabb& box) {
  target_ = (box.low + box.high) / 2;
  const double radius = std::max((box.high - box.low).norm() / 2, 0.05);
  distance_ = radius / std::sin(kFieldOfView / 2);
}

Ray Camera::ray(const QPointF& pixel) const {
  const QMatrix4x4 back = matrix().inverted();
  const float x = float(2 * pixel.x() / viewport_.width() - 1), y = float(1 - 2 * pixel.y() / viewport_.height());
  const QVector3D from = back.map(QVector3D(x, y, -1)), to = back.map(QVector3D(x, y, 1));
  const Vec3 origin(from.x(), from.y(), from.z());
  const Vec3 direction = (Vec3(to.x(), to.y(), to.z()) - origin).normalized();
  return {orthographic_ ? origin : eye(), direction};
}

std::optional<QPointF> Camera::project(const Vec3& point) const {
  const QVector4D clip = matrix() * QVector4D(qt(point), 1);
  if (clip.w() <= 0) return std::nullopt;
  return QPointF((clip.x() / clip.w() + 1) / 2 * viewport_.width(), (1 - clip.y() / clip.w()) / 2 * viewport_.height());
}

double Camera::metresPerPixel(const Vec3& point) const {
  const double depth = orthographic_ ? distance_ : std::max(1e-3, (eye() - point).dot(toEye()));
  return 2 * depth * std::tan(kFieldOfView / 2) / std::max(1, viewport_.height());
}

}  // namespace calm::app
