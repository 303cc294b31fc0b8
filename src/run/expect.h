// SPDX-License-Identifier: GPL-3.0-or-later
// Readings of a recording, and whether it did what is expected.
#pragma once

#include <string>
#include <vector>

#include "run/recording.h"

namespace calm::run {

// The reading at frame i, SI; of a joint that has parted its loads are 0. Rates are differences between frames.
double valueOf(const Recording& recording, const rig::Reading& reading, std::size_t i);
// What can be read of a part alone.
double valueOf(const PartSample& sample, rig::Reading::What what);
// At every frame.
std::vector<double> seriesOf(const Recording& recording, const rig::Reading& reading);

struct Verdict {
  bool met = false;
  double at = 0;         // s, of what decided it
  std::string evidence;  // "it parted at 2.31 s", "at most 3.2 kN, at 0.4 s"
};
// Of a finished recording. What is expected of times after its end is judged by what there is.
Verdict judge(const Recording& recording, const rig::Expectation& expectation);
// All of the rig's, in their order.
std::vector<Verdict> judgeAll(const Recording& recording);

}  // namespace calm::run
