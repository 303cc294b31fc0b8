// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/recording.h"

#include <algorithm>
#include <cmath>

namespace calm::run {

Recording::Recording(rig::RigPtr rig, std::size_t frames)
    : rig_(std::move(rig)), frames_(frames), parted_(new std::atomic<double>[rig_->joints.size()]) {
  for (std::size_t j = 0; j < rig_->joints.size(); ++j) parted_[j] = -1;
}

std::size_t Recording::indexAt(double time) const {
  const double index = std::floor(time / frameTime() + 1e-6);
  return static_cast<std::size_t>(std::clamp(index, 0.0, static_cast<double>(size() - 1)));
}

void Recording::append(const CompiledRig& run, const Residual& residual) {
  auto frame = std::make_unique<Frame>();
  frame->time = run.world.time();
  frame->parts.reserve(run.bodies.size());
  for (BodyId b : run.bodies) {
    const BodyState s = run.world.state(b);
    frame->parts.push_back({s.pose, s.velocity, s.angularVelocity});
  }
  frame->joints.reserve(run.joints.size());
  for (std::size_t j = 0; j < run.joints.size(); ++j) {
    const JointReading& r = run.world.reading(run.joints[j]);
    JointSample& sample = frame->joints.emplace_back();
    sample.force = static_cast<float>(r.force.norm());
    sample.torque = static_cast<float>(r.torque.norm());
    sample.separation = static_cast<float>(r.separationPeak);
    sample.misalignment = static_cast<float>(r.misalignmentPeak);
    for (int k = 0; k < kMaxAxes; ++k) {
      sample.position[k] = static_cast<float>(r.position[k]);
      sample.effort[k] = static_cast<float>(r.effort[k]);
      sample.activity[k] = static_cast<std::uint8_t>(r.activity[k]);
    }
    if (r.parted) parted_[j].store(r.partedAt, std::memory_order_relaxed);
  }
  const Energy energy = run.world.energy();
  frame->energy = energy.total();
  frame->kineticEnergy = energy.kinetic;
  frame->residual = residual;
  const std::size_t at = count_.load(std::memory_order_relaxed);
  frames_[at] = std::move(frame);
  count_.store(at + 1, std::memory_order_release);
}

std::optional<double> Recording::partedAt(std::size_t j) const {
  const double t = parted_[j].load(std::memory_order_relaxed);
  return t < 0 ? std::nullopt : std::optional(t);
}

double kineticEnergyOf(const rig::Part& part, const PartSample& sample) {
  const MassProperties mass = part.massProperties();
  const Vec3 spin = sample.pose.rotation.conjugate() * sample.angularVelocity;
  return 0.5 * mass.mass * sample.velocity.squaredNorm() + 0.5 * spin.dot(mass.inertia * spin);
}

std::size_t framesOf(const rig::Stage& stage) {
  const double frames = std::clamp(std::round(stage.duration * stage.frameRate), 1.0, 1e7);
  return static_cast<std::size_t>(frames) + 1;
}

std::shared_ptr<const Recording> record(const rig::RigPtr& rig, const std::atomic<bool>* stop) {
  auto recording = std::make_shared<Recording>(rig, framesOf(rig->stage));
  CompiledRig run = compile(*rig);
  recording->append(run, {});
  while (recording->size() < recording->capacity() && !(stop && stop->load())) recording->append(run, run.step());
  return recording;
}

std::optional<double> wouldPartAt(const Recording& recording, std::size_t joint, std::optional<double> force,
                                  std::optional<double> torque) {
  for (std::size_t i = 0; i < recording.size(); ++i) {
    const JointSample& s = recording.frame(i).joints[joint];
    if ((force && s.force > *force) || (torque && s.torque > *torque)) return recording.frame(i).time;
  }
  return std::nullopt;
}

}  // namespace calm::run
