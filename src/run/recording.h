// SPDX-License-Identifier: GPL-3.0-or-later
// What one run left: poses and joint readings of every frame, growing while the run goes on. One thread appends, any
// number read what is there, without locks.
#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "rig/history.h"
#include "run/compile.h"

namespace calm::run {

struct PartSample {
  Pose pose;
  Vec3 velocity, angularVelocity;
};

struct JointSample {
  float force = 0;         // N, mean of the frame
  float torque = 0;        // N m
  float separation = 0;    // m, largest of the frame
  float misalignment = 0;  // rad
  // Of the free axes at the end of the frame, m or rad, and what they pushed with in it, N or N m.
  std::array<float, kMaxAxes> position{}, effort{};
  std::array<std::uint8_t, kMaxAxes> activity{};  // AxisActivity bits
};

struct Frame {
  double time = 0;  // s
  std::vector<PartSample> parts;
  std::vector<JointSample> joints;
  double energy = 0;         // J
  double kineticEnergy = 0;  // J, of it
  Residual residual;         // of the frame
};

// A joint's largest values over a run and when they came.
struct JointPeaks {
  JointSample peak;
  double forceAt = 0;                                      // s, of the force
  Vec3 forceNow = Vec3::Zero(), torqueNow = Vec3::Zero();  // at the end
  double separationNow = 0;
  std::optional<double> partedAt;
};

class Recording {
 public:
  // Of a run of `rig` over at most `frames` frames, the start included.
  Recording(rig::RigPtr rig, std::size_t frames);

  const rig::Rig& rig() const { return *rig_; }
  std::size_t capacity() const { return frames_.size(); }
  std::size_t size() const { return count_.load(std::memory_order_acquire); }
  const Frame& frame(std::size_t i) const { return *frames_[i]; }
  // The frame at or just before the time (s), within what is there; the recording must not be empty.
  std::size_t indexAt(double time) const;
  double endTime() const { return size() ? frame(size() - 1).time : 0; }
  double frameTime() const { return 1 / rig_->stage.frameRate; }

  // Appends the world's present state. One thread only.
  void append(const CompiledRig& run, const Residual& residual);

  // When joint j (in the rig's order) parted, if it has by now.
  std::optional<double> partedAt(std::size_t j) const;

 private:
  rig::RigPtr rig_;
  std::vector<std::unique_ptr<const Frame>> frames_;
  std::unique_ptr<std::atomic<double>[]> parted_;
  std::atomic<std::size_t> count_{0};
};

// J, of the part's motion.
double kineticEnergyOf(const rig::Part& part, const PartSample& sample);

// Of a run of the stage's duration, the start included.
std::size_t framesOf(const rig::Stage& stage);

// A whole run of the rig's stage, computed here and now. Throws CompileError. With `stop` set meanwhile it ends early.
std::shared_ptr<const Recording> record(const rig::RigPtr& rig, const std::atomic<bool>* stop = nullptr);

// The first time at which the joint's recorded load would part it at these strengths, if it would.
std::optional<double> wouldPartAt(const Recording& recording, std::size_t joint, std::optional<double> force,
                                  std::optional<double> torque);

}  // namespace calm::run
