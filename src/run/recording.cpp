// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/recording.h"

#include <algorithm>
#include <cmath>
#include <type_traits>

namespace calm::run {

Recording::Recording(rig::RigPtr rig, std::size_t frames)
    : rig_(std::move(rig)), frames_(frames), parted_(new std::atomic<double>[rig_->joints.size()]) {
  for (std::size_t j = 0; j < rig_->joints.size(); ++j) parted_[j] = -1;
}

Recording::Recording(const Recording& begun, std::size_t count, std::size_t frames)
    : Recording(begun.rig_, std::max(count, frames)) {
  for (std::size_t i = 0; i < count; ++i) frames_[i] = begun.frames_[i];
  const double end = count > 0 ? frames_[count - 1]->time : -1;
  for (std::size_t j = 0; j < rig_->joints.size(); ++j)
    if (const auto at = begun.partedAt(j); at && *at <= end + 1e-9) parted_[j] = *at;
  count_.store(count);
}

std::size_t Recording::indexAt(double time) const {
  const double index = std::floor(time / frameTime() + 1e-6);
  return static_cast<std::size_t>(std::clamp(index, 0.0, static_cast<double>(size() - 1)));
}

FrameData sampleOf(const CompiledRig& run, const Residual& residual) {
  FrameData frame;
  frame.time = run.world.time();
  frame.parts.reserve(run.bodies.size());
  std::vector<double> touch(static_cast<std::size_t>(run.world.bodyCount()));
  for (const TouchReading& t : run.world.touches())
    for (const BodyId body : {t.a, t.b}) touch[static_cast<std::size_t>(body)] += t.force.norm();
  for (BodyId b : run.bodies) {
    const BodyState s = run.world.state(b);
    frame.parts.push_back({s.pose, s.velocity, s.angularVelocity, touch[static_cast<std::size_t>(b)]});
  }
  frame.joints.reserve(run.joints.size());
  for (const JointId j : run.joints) {
    const JointReading& r = run.world.reading(j);
    JointSample& sample = frame.joints.emplace_back();
    sample.force = static_cast<float>(r.forceSize);
    sample.torque = static_cast<float>(r.torqueSize);
    sample.separation = static_cast<float>(r.separationPeak);
    sample.misalignment = static_cast<float>(r.misalignmentPeak);
    for (int k = 0; k < kMaxAxes; ++k) {
      sample.position[k] = static_cast<float>(r.position[k]);
      sample.effort[k] = static_cast<float>(r.effort[k]);
      sample.activity[k] = static_cast<std::uint8_t>(r.activity[k]);
    }
    frame.partedAt.push_back(r.parted ? r.partedAt : -1);
  }
  using Act = rig::Cue::Act;
  for (const RunningCue& c : run.cues) {
    CueSample& sample = frame.cues.emplace_back();
    if (!c.hasBegun()) continue;
    sample.begunAt = c.begunAt;
    sample.energy = c.energy;
    const bool probe = c.cue.act == Act::probe && c.state == RunningCue::State::going;
    if (!probe && c.cue.act != Act::ball) continue;
    sample.body = probe ? CueSample::Body::probe : CueSample::Body::ball;
    sample.radius = static_cast<float>(c.cue.radius);
    sample.pose = run.world.state(c.body).pose;
  }
  const Energy energy = run.world.energy();
  frame.energy = energy.total();
  frame.kineticEnergy = energy.kinetic;
  frame.residual = residual;
  return frame;
}

namespace {

template <class T>
std::span<const T> keep(const std::vector<T>& values, std::byte*& at) {
  static_assert(std::is_trivially_destructible_v<T> && alignof(T) <= 64);
  T* first = reinterpret_cast<T*>(at);
  std::uninitialized_copy(values.begin(), values.end(), first);
  at += (values.size() * sizeof(T) + 63) / 64 * 64;
  return {first, values.size()};
}

template <class T>
std::size_t roomFor(const std::vector<T>& values) {
  return (values.size() * sizeof(T) + 63) / 64 * 64;
}

}  // namespace

void Recording::append(const FrameData& data) {
  auto frame = std::make_shared<Frame>();
  static_cast<FrameHead&>(*frame) = data;
  const auto memory = memory_.take(roomFor(data.parts) + roomFor(data.joints) + roomFor(data.cues));
  std::byte* at = memory.get();
  frame->parts = keep(data.parts, at);
  frame->joints = keep(data.joints, at);
  frame->cues = keep(data.cues, at);
  frame->memory = memory;
  for (std::size_t j = 0; j < data.partedAt.size(); ++j)
    if (data.partedAt[j] >= 0) parted_[j].store(data.partedAt[j], std::memory_order_relaxed);
  const std::size_t index = count_.load(std::memory_order_relaxed);
  frames_[index] = std::move(frame);
  count_.store(index + 1, std::memory_order_release);
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
