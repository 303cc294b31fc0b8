// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/live_run.h"

#include <chrono>
#include <cmath>

namespace calm::run {

LiveRun::LiveRun(rig::RigPtr rig)
    : recording_(std::make_shared<Recording>(rig, framesOf(rig->stage))),
      thread_([this](const std::stop_token& stop) { work(stop); }) {}

LiveRun::~LiveRun() = default;

std::string LiveRun::error() const {
  const std::lock_guard lock(mutex_);
  return error_;
}

void LiveRun::work(const std::stop_token& stop) {
  try {
    CompiledRig run = compile(recording_->rig());
    recording_->append(run, {});
    const auto start = std::chrono::steady_clock::now();
    while (!stop.stop_requested() && recording_->size() < recording_->capacity()) {
      recording_->append(run, run.step());
      const double spent = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
      cost_.store(spent / run.world.time(), std::memory_order_relaxed);
    }
  } catch (const std::exception& e) {
    const std::lock_guard lock(mutex_);
    error_ = e.what();
  }
  finished_.store(true, std::memory_order_release);
}

}  // namespace calm::run
