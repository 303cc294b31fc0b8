// SPDX-License-Identifier: GPL-3.0-or-later
// Two runs side by side: what changed, and between which strengths a joint holds the one and parts in the other.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "run/recording.h"

namespace calm::run {

struct Change {
  std::string what;  // "peak force of hoist chain 14", "at rest since"
  rig::Dimension dimension = rig::Dimension::number;
  double before = 0, after = 0;  // NaN where a run has none
};
// Of the whole rig first; then the joints' peak loads, those that changed most first, at most `joints` of them. Joints
// are known again by identity; what only one of the rigs has is left out.
std::vector<Change> compare(const Recording& before, const Recording& after, std::size_t joints = 12);

// s, from when on no moving part is faster than `speed` (m/s); nothing if that never comes.
std::optional<double> restsSince(const Recording& recording, double speed);

// A joint that is to hold in one run and to part in another: its strength must lie above the first's peak and below the
// second's. Judged by the loads as recorded, so record both with a joint that holds.
struct StrengthInterval {
  double low = 0, high = 0;  // N
  bool isValid() const { return low < high; }
  // The strength in the middle by factors, and by what factor it is safe each way.
  double middle() const;
  double margin() const;
};
StrengthInterval strengthBetween(const Recording& holds, const Recording& parts, rig::Id joint);

}  // namespace calm::run
