// SPDX-License-Identifier: GPL-3.0-or-later
// A run on its own thread: computes as fast as it can into a recording, which the screen plays at its own pace.
#pragma once

#include <atomic>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "run/recording.h"

namespace calm::run {

class LiveRun {
 public:
  // Starts computing the stage's duration. Compiling happens on the thread too.
  explicit LiveRun(rig::RigPtr rig);
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

 private:
  void work(const std::stop_token& stop);

  std::shared_ptr<Recording> recording_;
  std::atomic<bool> finished_{false};
  std::atomic<double> cost_{0};
  mutable std::mutex mutex_;
  std::string error_;
  std::jthread thread_;
};

}  // namespace calm::run
