// SPDX-License-Identifier: GPL-3.0-or-later
// What a cue changes evenly over a time, frame by frame.
#pragma once

#include "engine/joint/axis.h"
#include "engine/solve/field.h"

namespace calm::run {

// How far such a change has come, as a share of it: at the start and the end of a frame, and in the frame's mean.
struct Progress {
  double frame;  // s
  double start, mean, end;
};

// In the frame (s) that begins so long (s) after the start of a change that lasts so long (s; 0: comes at once).
Progress progressOf(double since, double frame, double lasts);

// The axis as it is now, with what differs between the two on its way; what does not may have another cue. Motors
// gather speed within the frame, stops are where they will be at its end, and what pushes is as in the mean. The axis
// stands at `at` (m or rad), from where stops come that were not there.
AxisDef onItsWay(AxisDef axis, const AxisDef& from, const AxisDef& to, const Progress& progress, double at);

Field atShare(const Field& field, double share);
// The same kind of field, `share` of the way from one strength to the other.
Field onItsWay(const Field& from, const Field& to, double share);

}  // namespace calm::run
