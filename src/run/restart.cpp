// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/restart.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "engine/math/rotation.h"
#include "rig/edits.h"

namespace calm::run {

namespace {

using Act = rig::Cue::Act;

// The same motion, begun `by` seconds later.
void shift(Motion& motion, double by) {
  for (Motion::Key& k : motion.keys) k.time -= by;
  for (Motion::Wave& w : motion.waves) w.phase += 2 * std::numbers::pi * w.frequency * by;
}

void applyCue(rig::Rig& rig, const std::vector<rig::Field>& whole, const rig::Cue& cue) {
  rig::Joint* joint = rig.joint(cue.joint);
  switch (cue.act) {
    case Act::role:
      rig.part(cue.part)->role = cue.role;
      return;
    case Act::arm:
    case Act::disarm:
      joint->armed = cue.act == Act::arm;
      return;
    case Act::make:
      joint->made = true;
      return;
    case Act::axis:
      joint->axes[static_cast<std::size_t>(cue.axisNumber)] =
          cue.axis.over(joint->axes[static_cast<std::size_t>(cue.axisNumber)]);
      return;
    case Act::gravity:
      rig.stage.gravity = cue.vector;
      return;
    case Act::field: {
      auto& law = rig.fields[static_cast<std::size_t>(cue.field)].law;
      law = whole[static_cast<std::size_t>(cue.field)].law;
      if (auto* wind = std::get_if<Wind>(&law)) wind->linear *= cue.share, wind->quadratic *= cue.share;
      if (auto* pull = std::get_if<Attraction>(&law)) pull->strength *= cue.share;
      return;
    }
    default:
      return;
  }
}

// What has been done by then, in the order in which it was; what has not comes sooner.
void applyCues(rig::Rig& rig, std::span<const CueSample> samples, double time) {
  std::vector<std::pair<double, rig::Cue>> done;
  std::vector<rig::Cue> left;
  for (std::size_t c = 0; c < rig.cues.size(); ++c) {
    rig::Cue cue = rig.cues[c];
    if (samples[c].begunAt >= 0) {
      done.emplace_back(samples[c].begunAt, cue);
    } else {
      cue.when.at = std::max(0.0, cue.when.at - time);
      left.push_back(cue);
    }
  }
  std::stable_sort(done.begin(), done.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  const std::vector<rig::Field> whole = rig.fields;
  for (const auto& [at, cue] : done) applyCue(rig, whole, cue);
  rig.cues = std::move(left);
}

}  // namespace

rig::Rig startingAt(const Recording& recording, std::size_t i, bool withVelocities) {
  rig::Rig rig = recording.rig();
  const Frame& frame = recording.frame(i);
  applyCues(rig, frame.cues, frame.time);
  for (std::size_t p = 0; p < rig.parts.size(); ++p) {
    rig::Part& part = rig.parts[p];
    part.pose = frame.parts[p].pose;
    part.velocity = withVelocities ? frame.parts[p].velocity : Vec3(Vec3::Zero());
    part.angularVelocity = withVelocities ? frame.parts[p].angularVelocity : Vec3(Vec3::Zero());
    if (part.motion) shift(*part.motion, frame.time);
    for (rig::Push& push : part.pushes) push.from -= frame.time, push.until -= frame.time;
  }
  std::set<rig::Id> gone;
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    rig::Joint& joint = rig.joints[j];
    if (const auto at = recording.partedAt(j); at && *at <= frame.time + 1e-9) gone.insert(joint.id);
    // A rope that was given no length has that which it had at first.
    if (joint.type == JointType::pulley && joint.axes[0].high == kNoLimit)
      joint.axes[0].high = recording.frame(0).joints[j].position[0];
    if (joint.type == JointType::winch) joint.axes[0].high = frame.joints[j].position[0];
  }
  rig::remove(rig, gone);
  for (rig::Expectation& e : rig.expectations) {
    e.from = std::max(0.0, e.from - frame.time);
    e.until = std::max(0.0, e.until - frame.time);
  }
  return rig;
}

void bake(rig::Rig& rig, const Recording& recording, const std::set<rig::Id>& parts) {
  bool any = false;
  for (std::size_t p = 0; p < recording.rig().parts.size(); ++p) {
    rig::Part* part = rig.part(recording.rig().parts[p].id);
    if (!part || !parts.count(part->id) || part->role == Role::fixed) continue;
    Motion motion;
    for (std::size_t i = 0; i < recording.size(); ++i)
      motion.keys.push_back({recording.frame(i).time, recording.frame(i).parts[p].pose});
    part->role = Role::kinematic;
    part->motion = std::move(motion);
    any = true;
  }
  if (!any) throw std::invalid_argument("select parts that move");
}

void unbake(rig::Rig& rig, const std::set<rig::Id>& parts) {
  bool any = false;
  for (rig::Part& part : rig.parts) {
    if (!parts.count(part.id) || !part.motion || part.role != Role::kinematic) continue;
    // Of second order from the first keys: (4 d1 - d2) / 2h, with d the way from the start.
    const auto& keys = part.motion->keys;
    const double start = std::max(0.0, keys.front().time);
    const double step = keys.size() > 2 ? keys[1].time - keys[0].time : 1e-4;
    const Pose now = part.motion->poseAt(start), next = part.motion->poseAt(start + step),
               later = part.motion->poseAt(start + 2 * step);
    const Vec3 center = part.massProperties().center, at = now.apply(center);
    const auto turned = [&](const Pose& pose) { return vectorFromRotation(pose.rotation * now.rotation.conjugate()); };
    part.velocity = (4 * (next.apply(center) - at) - (later.apply(center) - at)) / (2 * step);
    part.angularVelocity = (4 * turned(next) - turned(later)) / (2 * step);
    part.pose = now;
    part.role = Role::dynamic;
    part.motion.reset();
    any = true;
  }
  if (!any) throw std::invalid_argument("select parts that follow keys");
}

}  // namespace calm::run
