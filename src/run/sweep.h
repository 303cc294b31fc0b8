// SPDX-License-Identifier: GPL-3.0-or-later
// One or two settings over ranges: a run at each point, and what came of it.
#pragma once

#include <atomic>
#include <functional>
#include <iosfwd>
#include <string>
#include <vector>

#include "rig/setting.h"
#include "run/expect.h"

namespace calm::run {

struct SweepAxis {
  rig::Setting setting;
  std::vector<double> values;  // SI
};
// "mass of stone block = 100 kg..1 t : 10" (evenly), "... : 10 log" (by equal factors), or "= 100 kg, 200 kg". Throws
// std::invalid_argument, saying what was expected where.
SweepAxis sweepAxis(const std::string& text, const rig::Rig& rig);

// A number made of a run: the peak (largest size), least, mean or last value of a reading, or when a joint parted.
struct Outcome {
  enum class Of { peak, least, most, mean, end, partedAt };
  Of of = Of::peak;
  rig::Reading reading;
  int joint = 0;  // of partedAt
};
// "peak force of hoist chain 14", "end energy", "parting of hoist chain 14". Throws std::invalid_argument.
Outcome outcomeFrom(const std::string& text, const rig::Rig& rig);
std::string textOf(const Outcome& outcome, const rig::Rig& rig);
// NaN for a parting that did not come.
double valueOf(const Recording& recording, const Outcome& outcome);

struct SweepPlan {
  rig::Rig rig;
  std::vector<SweepAxis> axes;  // the last one varies fastest
  std::vector<Outcome> outcomes;

  std::size_t points() const;
  std::vector<double> settingsAt(std::size_t point) const;
  // The rig with the point's settings. Throws std::invalid_argument, naming the point, if it cannot be.
  rig::Rig rigAt(std::size_t point) const;
};

struct SweepPoint {
  std::size_t index = 0;
  std::vector<double> settings, outcomes;
  int met = 0;        // expectations
  std::string fault;  // why there are no outcomes
};

struct SweepOptions {
  int shard = 0, shards = 1;  // every shards-th point, from this one on
  int threads = 1;
  const std::atomic<bool>* stop = nullptr;
  std::vector<char> done = {};                          // points that are known already
  std::function<void(const SweepPoint&)> onPoint = {};  // one at a time, in no order
};
// What onPoint throws ends the sweep and is thrown on.
void sweep(const SweepPlan& plan, const SweepOptions& options);

// The table: a line that names the rig's checksum, a line of column names, a line a point.
std::string sweepHeader(const SweepPlan& plan);
std::string sweepRow(const SweepPoint& point);
// The whole points of a table that was begun; what a crash cut short is left out. Throws std::invalid_argument if the
// table is of another plan or rig.
std::vector<SweepPoint> readSweep(const std::string& text, const SweepPlan& plan);
// One table of several of the same plan, in order and once each. Throws std::invalid_argument if they differ.
std::string mergeSweeps(const std::vector<std::string>& tables);

}  // namespace calm::run
