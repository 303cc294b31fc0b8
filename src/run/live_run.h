// SPDX-License-Identifier: GPL-3.0-or-later
// A run on its own thread: computes as fast as it can into a recording, which the screen plays at its own pace, or,
// with a hand at work in it, in step with the clock.
#pragma once

#include <atomic>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "run/recording.h"

namespace calm::run {

// The loads and errors of joints in every substep between two frames.
struct Detail {
  std::size_t first = 0, last = 0;  // frames
  std::vector<double> times;        // s, of the substeps
  // By substep, then joint.
  std::vector<std::vector<World::SubstepReading>> readings;
};

class LiveRun {
 public:
  // Starts computing the stage's duration. Compiling happens on the thread too.
  explicit LiveRun(rig::RigPtr rig);
  // Goes on from a frame of another run in step with the clock, with a cue whose hand is led by moveHand(). What the
  // other had computed up to there is shared.
  LiveRun(const LiveRun& before, std::size_t frame, const rig::Cue& hand, const Vec3& at);
  // Stops and waits; at most one frame's time.
  ~LiveRun();
  LiveRun(const LiveRun&) = delete;
  LiveRun& operator=(const LiveRun&) = delete;

  const std::shared_ptr<Recording>& recording() const { return recording_; }
  bool finished() const { return finished_.load(std::memory_order_acquire); }
  // Why the rig could not run; empty while all is well.
  std::string error() const;
  // Seconds of computing per simulated second so far.
  double costRatio() const { return cost_.load(std::memory_order_relaxed); }

  void moveHand(const Vec3& at);
  // Ends the run here. The cue does, in a run from the start, what the hand did, to the last bit.
  rig::Cue letGo();

  // The state of frame i, which must have been computed: from the nearest state that was kept on the way.
  CompiledRig stateAt(std::size_t i) const;
  // Computes the frames from first to last again, for their substeps. Stops early when told.
  Detail detail(std::size_t first, std::size_t last, const std::atomic<bool>* stop = nullptr) const;

 private:
  void work(const std::stop_token& stop);
  void compute(const std::stop_token& stop, CompiledRig& run, bool byHand);
  void keepState(const CompiledRig& run);
  void fail(const std::string& why);

  std::shared_ptr<Recording> recording_;
  std::atomic<bool> finished_{false};
  std::atomic<double> cost_{0};
  mutable std::mutex mutex_;
  std::string error_;
  rig::Cue hand_;
  Vec3 handAt_ = Vec3::Zero();
  struct State {
    std::size_t frame;
    std::shared_ptr<const CompiledRig> run;
  };
  std::vector<State> states_;
  std::size_t stateEvery_ = 30;  // frames
  std::jthread thread_;
};

}  // namespace calm::run
