// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/live_run.h"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace calm::run {

namespace {

using Clock = std::chrono::steady_clock;

constexpr std::size_t kMostStates = 16;

// Leaves out the points of a track between two others at the same place.
void tidy(std::vector<rig::Cue::Hand>& track) {
  std::vector<rig::Cue::Hand> kept;
  for (std::size_t i = 0; i < track.size(); ++i) {
    const bool between = i > 0 && i + 1 < track.size();
    if (!between || track[i].at != track[i - 1].at || track[i].at != track[i + 1].at) kept.push_back(track[i]);
  }
  track = std::move(kept);
}

}  // namespace

LiveRun::LiveRun(rig::RigPtr rig)
    : recording_(std::make_shared<Recording>(rig, framesOf(rig->stage))),
      thread_([this](const std::stop_token& stop) { work(stop); }) {}

LiveRun::LiveRun(const LiveRun& before, std::size_t frame, const rig::Cue& hand, const Vec3& at)
    : recording_(std::make_shared<Recording>(*before.recording_, frame + 1, before.recording_->capacity())),
      hand_(hand),
      handAt_(at) {
  hand_.track = {{0, at}};
  {
    // The other run may be gone by the time that the thread begins; what it kept is shared.
    const std::lock_guard lock(before.mutex_);
    std::copy_if(before.states_.begin(), before.states_.end(), std::back_inserter(states_),
                 [&](const State& s) { return s.frame <= frame; });
    stateEvery_ = before.stateEvery_;
  }
  thread_ = std::jthread([this, frame](const std::stop_token& stop) {
    try {
      CompiledRig run = stateAt(frame);
      RunningCue cue = run.prepared(hand_, recording_->rig());
      cue.live = true;
      run.cues.push_back(cue);
      compute(stop, run, true);
    } catch (const std::exception& e) {
      fail(e.what());
    }
    finished_.store(true, std::memory_order_release);
  });
}

LiveRun::~LiveRun() = default;

std::string LiveRun::error() const {
  const std::lock_guard lock(mutex_);
  return error_;
}

void LiveRun::fail(const std::string& why) {
  const std::lock_guard lock(mutex_);
  error_ = why;
}

void LiveRun::work(const std::stop_token& stop) {
  try {
    CompiledRig run = compile(recording_->rig());
    recording_->append(run, {});
    keepState(run);
    compute(stop, run, false);
  } catch (const std::exception& e) {
    fail(e.what());
  }
  finished_.store(true, std::memory_order_release);
}

void LiveRun::compute(const std::stop_token& stop, CompiledRig& run, bool byHand) {
  const auto start = Clock::now();
  const double from = run.world.time();
  while (!stop.stop_requested() && recording_->size() < recording_->capacity()) {
    if (byHand) {
      const std::lock_guard lock(mutex_);
      RunningCue& cue = run.cues.back();
      const double since = cue.hasBegun() ? run.world.time() - cue.begunAt : 0;
      if (since > 0)
        cue.cue.track.push_back({since, handAt_});
      else
        cue.cue.track = {{0, handAt_}};
      hand_.track = cue.cue.track;
    }
    const Residual residual = run.step();
    recording_->append(run, residual);
    if (!byHand && (recording_->size() - 1) % stateEvery_ == 0) keepState(run);
    const double done = run.world.time() - from;
    cost_.store(std::chrono::duration<double>(Clock::now() - start).count() / done, std::memory_order_relaxed);
    if (byHand) std::this_thread::sleep_until(start + std::chrono::duration<double>(done));
  }
}

// So many at most, evenly over the run: when there are too many, every other one goes.
void LiveRun::keepState(const CompiledRig& run) {
  auto state = std::make_shared<const CompiledRig>(run);
  const std::lock_guard lock(mutex_);
  states_.push_back({recording_->size() - 1, std::move(state)});
  if (states_.size() < kMostStates) return;
  stateEvery_ *= 2;
  std::erase_if(states_, [this](const State& s) { return s.frame % stateEvery_ != 0; });
}

CompiledRig LiveRun::stateAt(std::size_t i) const {
  State nearest;
  {
    const std::lock_guard lock(mutex_);
    if (states_.empty() || i >= recording_->size()) throw std::logic_error("the frame has not been computed");
    for (const State& s : states_)
      if (s.frame <= i) nearest = s;
  }
  CompiledRig run = *nearest.run;
  for (std::size_t f = nearest.frame; f < i; ++f) run.step();
  return run;
}

void LiveRun::moveHand(const Vec3& at) {
  const std::lock_guard lock(mutex_);
  handAt_ = at;
}

rig::Cue LiveRun::letGo() {
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
  const Recording& r = *recording_;
  rig::Cue cue = hand_;
  // It holds on for the frame after its last point, too.
  cue.track.push_back({cue.track.back().time + r.frameTime(), cue.track.back().at});
  tidy(cue.track);
  return cue;
}

Detail LiveRun::detail(std::size_t first, std::size_t last, const std::atomic<bool>* stop) const {
  Detail detail{first, last, {}, {}};
  CompiledRig run = stateAt(first);
  run.world.setTraced(true);
  for (std::size_t f = first; f < last && !(stop && stop->load()); ++f) {
    const double from = run.world.time();
    const std::size_t substeps = static_cast<std::size_t>(run.step().substeps);
    for (std::size_t s = 0; s < substeps; ++s) {
      detail.times.push_back(from +
                             run.world.settings().frame * static_cast<double>(s) / static_cast<double>(substeps));
      detail.readings.emplace_back(run.joints.size());
    }
    for (std::size_t j = 0; j < run.joints.size(); ++j) {
      const auto readings = run.world.substepsOf(run.joints[j]);
      const std::size_t count = std::min(substeps, readings.size());
      for (std::size_t s = 0; s < count; ++s)
        detail.readings[detail.readings.size() - count + s][j] = readings[readings.size() - count + s];
    }
  }
  return detail;
}

}  // namespace calm::run
