// SPDX-License-Identifier: GPL-3.0-or-later
// A run to its end without a screen, and what is told of it.
#pragma once

#include <functional>
#include <ostream>

#include "run/recording.h"

namespace calm::run {

struct RunOptions {
  double seconds = 8;
  // Called after every frame with the world; for writers.
  std::function<void(const CompiledRig&)> onFrame;
};

struct RunResult {
  std::vector<JointPeaks> joints;         // in the rig's order
  std::vector<BodyState> parts;           // at the end
  double simulated = 0, wall = 0;         // s
  long steps = 0;                         // frames
  int substeps = 0;                       // a frame
  double energyStart = 0, energyEnd = 0;  // J
  Residual residual;                      // the worst of the run
};

// Throws CompileError, and std::runtime_error if the numbers run away.
RunResult runToEnd(const rig::Rig& rig, const RunOptions& options);

// The report of the command line, as JSON; docs/report-format.md lists its keys.
std::string formatReport(const rig::Rig& rig, const RunResult& result);

// Poses and joint readings over time, a row a frame.
void writeCsvHeader(std::ostream& out, const rig::Rig& rig);
void writeCsvRow(std::ostream& out, const CompiledRig& run);

}  // namespace calm::run
