// SPDX-License-Identifier: GPL-3.0-or-later
// What a run cost, by kind of work, and what more of the same would.
#pragma once

#include <atomic>
#include <functional>
#include <vector>

#include "run/recording.h"

namespace calm::run {

struct Effort {
  WorkTime time;                      // s, of the whole run, over all threads
  double perFrame = 0;                // s, mean
  double slowest = 0, slowestAt = 0;  // s: the frame that took longest, and when it was
  int leastSubsteps = 0, mostSubsteps = 0;
  int overBudget = 0;  // frames that the separation asked for could not be reached in
  int fallbacks = 0;   // substeps that could only be taken at velocity level
  Residual worst;      // of all frames
};
Effort effortOf(const Recording& recording);

// A rig beside copies of itself, measured over some frames.
struct Growth {
  int copies = 0;
  std::size_t parts = 0, joints = 0;
  double perFrame = 0;  // s
};
// With 1, 2 and 4 of all that moves side by side, each run for half a second of its motion. `told` hears of each as it
// is known; stopped, it ends early. Throws CompileError.
std::vector<Growth> growthOf(const rig::Rig& rig, const std::atomic<bool>* stop = nullptr,
                             const std::function<void(const Growth&)>& told = {});
// The exponent in cost ~ size^exponent, by least squares over what was measured; 1 for fewer than two.
double exponentOf(const std::vector<Growth>& growth);

}  // namespace calm::run
