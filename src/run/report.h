// SPDX-License-Identifier: GPL-3.0-or-later
// A run to its end without a screen, and what is told of it.
#pragma once

#include <functional>
#include <optional>
#include <ostream>

#include "run/recording.h"

namespace calm::run {

struct RunOptions {
  double seconds = 8;
  // Interval of the readings that are kept, s; rounded to whole frames. None: only those at the end.
  std::optional<double> every;
  // Called after every frame with the world; for writers.
  std::function<void(const CompiledRig&, const Residual&)> onFrame;
};

// Everything that can be read at one instant.
struct Moment {
  struct Touch {
    std::string a, b;  // names of parts, "ground" or "world"
    Vec3 force;        // N, on b, mean of the last frame
  };
  struct PartReading {
    BodyState state;
    double kinetic = 0, potential = 0;  // J
  };
  double time = 0;  // s
  Energy energy;
  Vec3 momentum = Vec3::Zero(), angularMomentum = Vec3::Zero();  // of all parts, the latter about the origin
  std::vector<PartReading> parts;                                // in the rig's order
  std::vector<JointReading> joints;
  std::vector<Touch> touches;
};

struct RunResult {
  std::vector<JointPeaks> joints;  // in the rig's order
  Moment end;
  std::vector<Moment> readings;    // at the interval asked for, the start included
  double simulated = 0, wall = 0;  // s
  long steps = 0;                  // frames
  int substeps = 0;                // a frame
  Energy energyStart;
  Residual residual;  // the worst of the run
};

// Throws CompileError, and std::runtime_error if the numbers run away.
RunResult runToEnd(const rig::Rig& rig, const RunOptions& options);

// The report of the command line, as JSON; docs/report-format.md lists its keys.
std::string formatReport(const rig::Rig& rig, const RunResult& result);

// Poses, velocities and joint readings over time, a row a frame.
void writeCsvHeader(std::ostream& out, const rig::Rig& rig);
void writeCsvRow(std::ostream& out, const CompiledRig& run);

}  // namespace calm::run
