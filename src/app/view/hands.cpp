// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/hands.h"

#include <cmath>
#include <numbers>

#include "app/view/view.h"
#include "rig/edits.h"

namespace calm::app {

namespace {

constexpr double kBallDensity = 2500;  // kg/m^3, a stone's
constexpr double kGustLasts = 3;       // s

std::optional<Vec3> onPlane(const Ray& ray, const Vec3& point, const Vec3& normal) {
  const double slope = ray.direction.dot(normal);
  if (std::abs(slope) < 1e-6) return std::nullopt;
  const double distance = (point - ray.origin).dot(normal) / slope;
  // Towards the horizon the plane runs away; a hand has an end.
  if (distance <= 0 || distance > 500) return std::nullopt;
  return ray.origin + distance * ray.direction;
}

}  // namespace

bool Hands::press(const Camera& camera, const QPointF& pixel, const Pick& pick) {
  switch (tool_) {
    case Tool::grab:
      return grab(camera, pick);
    case Tool::push:
      return push(camera, pick);
    case Tool::toss:
      toss(camera, pixel);
      return true;
    case Tool::gust:
      blow(camera);
      return true;
    default:
      return false;
  }
}

bool Hands::grab(const Camera& camera, const Pick& pick) {
  const auto& parts = session_.rig().parts;
  const rig::Part* part = session_.rig().part(pick.part);
  const run::Frame* frame = session_.frame();
  if (!part || !pick.point || !frame) return false;
  if (part->role != Role::dynamic) {
    emit session_.message(
        View::tr("%1 does not move by itself; grab another part.").arg(QString::fromStdString(part->name)), true);
    return true;
  }
  rig::Cue cue;
  cue.act = rig::Cue::Act::pull;
  cue.part = part->id;
  cue.point = frame->parts[static_cast<std::size_t>(part - parts.data())].pose.applyInverse(*pick.point);
  cue.cap = strength;
  part_ = part->id, point_ = cue.point;
  at_ = *pick.point;
  normal_ = camera.forward();
  step_ = View::tr("grab %1").arg(QString::fromStdString(part->name));
  return session_.beginHand(cue, at_);
}

// The probe stands before what the pointer is on, towards the eye, and moves level.
bool Hands::push(const Camera& camera, const Pick& pick) {
  if (!pick.point) return false;
  rig::Cue cue;
  cue.act = rig::Cue::Act::probe;
  part_ = rig::kNone;
  cue.cap = strength;
  const Vec3 way = camera.forward();
  const Vec3 level = Vec3(way.x(), 0, way.z()).stableNormalized();
  at_ = *pick.point - 2.2 * cue.radius * level;
  if (const auto ground = session_.rig().stage.groundHeight) at_.y() = std::max(at_.y(), *ground + 0.9);
  normal_ = Vec3::UnitY();
  step_ = View::tr("push by hand");
  return session_.beginHand(cue, at_);
}

std::optional<Vec3> Hands::heldPoint() const {
  const rig::Part* part = session_.rig().part(part_);
  const run::Frame* frame = session_.frame();
  if (!part || !frame) return std::nullopt;
  return frame->parts[static_cast<std::size_t>(part - session_.rig().parts.data())].pose.apply(point_);
}

void Hands::move(const Camera& camera, const QPointF& pixel) {
  const auto at = onPlane(camera.ray(pixel), at_, normal_);
  if (!at) return;
  at_ = *at;
  session_.moveHand(at_);
}

void Hands::release() {
  session_.endHand(step_);
}

void Hands::toss(const Camera& camera, const QPointF& pixel) {
  const Ray ray = camera.ray(pixel);
  rig::Cue cue;
  cue.when.at = session_.playhead();
  cue.act = rig::Cue::Act::ball;
  cue.mass = ballMass;
  cue.radius = std::cbrt(3 * ballMass / (4 * std::numbers::pi * kBallDensity));
  cue.point = ray.origin + 0.5 * ray.direction;
  cue.vector = ballSpeed * ray.direction;
  if (session_.editOnward(View::tr("throw a ball"), [&](rig::Rig& rig) { rig::addCue(rig, cue); }))
    session_.setPlaying(true);
}

void Hands::blow(const Camera& camera) {
  const Vec3 way = camera.forward();
  rig::Cue cue;
  cue.when.at = session_.playhead();
  cue.act = rig::Cue::Act::gust;
  cue.lasts = kGustLasts;
  cue.vector = windSpeed * Vec3(way.x(), 0, way.z()).stableNormalized();
  if (session_.editOnward(View::tr("gust"), [&](rig::Rig& rig) { rig::addCue(rig, cue); })) session_.setPlaying(true);
}

}  // namespace calm::app
