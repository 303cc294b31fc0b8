// SPDX-License-Identifier: GPL-3.0-or-later
// What one run left: poses and joint readings of every frame, growing while the run goes on. One thread appends, any
// number read what is there, without locks.
#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "rig/history.h"
#include "run/frame.h"
#include "run/frame_memory.h"

namespace calm::run {

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
  // One that begins with the first `count` frames of another, which it shares.
  Recording(const Recording& begun, std::size_t count, std::size_t frames);

  const rig::Rig& rig() const { return *rig_; }
  std::size_t capacity() const { return frames_.size(); }
  std::size_t size() const { return count_.load(std::memory_order_acquire); }
  const Frame& frame(std::size_t i) const { return *frames_[i]; }
  // The frame at or just before the time (s), within what is there; the recording must not be empty.
  std::size_t indexAt(double time) const;
  double endTime() const { return size() ? frame(size() - 1).time : 0; }
  double frameTime() const { return 1 / rig_->stage.frameRate; }

  // Appends the world's present state, or a frame that is known. One thread only.
  void append(const CompiledRig& run, const Residual& residual) { append(sampleOf(run, residual)); }
  void append(const FrameData& frame);

  // When joint j (in the rig's order) parted, if it has by now.
  std::optional<double> partedAt(std::size_t j) const;
  // What it is called; empty while it has no name.
  const std::string& name() const { return name_; }
  void setName(const std::string& name) { name_ = name; }
  // Bytes that its frames take, and how many of them lie on the disk.
  std::size_t bytes() const { return memory_.used(); }
  std::size_t bytesOnDisk() const { return memory_.onDisk(); }

 private:
  rig::RigPtr rig_;
  std::string name_;
  FrameMemory memory_;
  std::vector<std::shared_ptr<const Frame>> frames_;
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
