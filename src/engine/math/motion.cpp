// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/motion.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "engine/math/rotation.h"

namespace calm {

namespace {

// The short way from one orientation to another, as a rotation vector in the first one's axes.
Vec3 turnBetween(const Quat& from, const Quat& to) {
  return vectorFromRotation(from.conjugate() * to);
}

// Velocities at key i for a smooth curve: mean slopes of the neighbours, one-sided at the ends.
struct Tangent {
  Vec3 velocity, spin;  // spin in the key's own axes
};
Tangent tangentAt(const std::vector<Motion::Key>& keys, std::size_t i, bool repeats) {
  const std::size_t last = keys.size() - 1;
  std::size_t before = i == 0 ? 0 : i - 1, after = i == last ? last : i + 1;
  double timeBefore = keys[before].time, timeAfter = keys[after].time;
  const double period = keys[last].time - keys[0].time;
  if (repeats && (i == 0 || i == last)) {
    before = last - 1, after = 1;
    timeBefore = keys[before].time - period, timeAfter = keys[after].time;
    const Vec3 moved =
        (keys[after].pose.position - keys[0].pose.position) + (keys[last].pose.position - keys[before].pose.position);
    const Vec3 turned = turnBetween(keys[0].pose.rotation, keys[after].pose.rotation) +
                        turnBetween(keys[before].pose.rotation, keys[last].pose.rotation);
    return {moved / (timeAfter - timeBefore), turned / (timeAfter - timeBefore)};
  }
  const double span = timeAfter - timeBefore;
  const Quat& q = keys[i].pose.rotation;
  const Vec3 turned = turnBetween(q, keys[after].pose.rotation) - turnBetween(q, keys[before].pose.rotation);
  return {(keys[after].pose.position - keys[before].pose.position) / span, turned / span};
}

Pose curve(const std::vector<Motion::Key>& keys, std::size_t i, double u, bool repeats) {
  const Motion::Key &from = keys[i], &to = keys[i + 1];
  const double span = to.time - from.time;
  const Tangent start = tangentAt(keys, i, repeats), end = tangentAt(keys, i + 1, repeats);
  const double u2 = u * u, u3 = u2 * u;
  Pose pose;
  pose.position = (2 * u3 - 3 * u2 + 1) * from.pose.position + (u3 - 2 * u2 + u) * span * start.velocity +
                  (3 * u2 - 2 * u3) * to.pose.position + (u3 - u2) * span * end.velocity;
  // Cumulative Bezier form: three turns, each driven by its own blend.
  const Vec3 first = start.spin * span / 3, third = end.spin * span / 3;
  const Quat inner =
      rotationFromVector(-first) * from.pose.rotation.conjugate() * to.pose.rotation * rotationFromVector(-third);
  const double v = 1 - u;
  pose.rotation = (from.pose.rotation * rotationFromVector((1 - v * v * v) * first) *
                   rotationFromVector((3 * u2 - 2 * u3) * vectorFromRotation(inner)) * rotationFromVector(u3 * third))
                      .normalized();
  return pose;
}

}  // namespace

Pose Motion::poseAt(double time) const {
  const Pose goal = onKeys(time);
  if (!approach || time >= approach->from + approach->over) return goal;
  const double t = time - approach->from, s = std::max(0.0, t / approach->over);
  const double share = s * s * s * (10 + s * (6 * s - 15));
  const Pose gone{approach->start.position + t * approach->velocity,
                  rotationFromVector(t * approach->spin) * approach->start.rotation};
  return {gone.position + share * (goal.position - gone.position),
          (gone.rotation * rotationFromVector(share * turnBetween(gone.rotation, goal.rotation))).normalized()};
}

Pose Motion::onKeys(double time) const {
  Pose pose = keys.front().pose;
  double t = time;
  const double begin = keys.front().time, end = keys.back().time;
  if (repeats && keys.size() > 1 && t > begin) t = begin + std::fmod(t - begin, end - begin);
  if (t >= end) {
    pose = keys.back().pose;
  } else if (t > begin) {
    const auto next = std::upper_bound(keys.begin(), keys.end(), t, [](double x, const Key& k) { return x < k.time; });
    const std::size_t i = static_cast<std::size_t>(next - keys.begin()) - 1;
    const double u = (t - keys[i].time) / (keys[i + 1].time - keys[i].time);
    const Pose &from = keys[i].pose, &to = keys[i + 1].pose;
    if (smooth)
      pose = curve(keys, i, u, repeats);
    else
      pose = {from.position + u * (to.position - from.position),
              from.rotation * rotationFromVector(u * turnBetween(from.rotation, to.rotation))};
  }
  for (const Wave& w : waves) {
    const double value = w.amplitude * std::sin(2 * std::numbers::pi * w.frequency * time + w.phase);
    if (w.turns)
      pose.rotation = (rotationFromVector(value * w.direction) * pose.rotation).normalized();
    else
      pose.position += value * w.direction;
  }
  return pose;
}

std::string faultOf(const Motion& motion) {
  if (motion.keys.empty()) return "a motion needs at least one key";
  for (std::size_t i = 0; i < motion.keys.size(); ++i) {
    const Motion::Key& k = motion.keys[i];
    const std::string name = "key " + std::to_string(i + 1) + " of the motion";
    if (!std::isfinite(k.time)) return name + " must have a finite time";
    if (i > 0 && !(k.time > motion.keys[i - 1].time)) return name + " must come after the one before it";
    if (!k.pose.position.allFinite() || !(std::abs(k.pose.rotation.norm() - 1) < 1e-6))
      return name + " must have a finite position and an orientation of unit length";
  }
  for (const Motion::Wave& w : motion.waves)
    if (!std::isfinite(w.amplitude + w.frequency + w.phase) || !(std::abs(w.direction.norm() - 1) < 1e-6))
      return "waves of a motion must be finite, with a direction of unit length";
  return {};
}

}  // namespace calm
