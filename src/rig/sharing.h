// SPDX-License-Identifier: GPL-3.0-or-later
// Handing the settings of one joint to a family of others, the other way round where they are mirrored.
#pragma once

#include <vector>

#include "rig/model.h"

namespace calm::rig {

struct Shared {
  bool stops = true, motor = true, friction = true, spring = true, strength = true, cone = true;
  // Joints that stand to the first as in a mirror take ranges, speeds and targets as the mirror shows them.
  bool mirrored = false;
};

// Gives what is chosen of the joint's settings to the others, which must be of its type: std::invalid_argument names
// the first that is not.
void share(Rig& rig, Id from, const std::vector<Id>& to, const Shared& what);

// Whether axis k of the second joint counts the other way than that of the first as seen in the mirror half way
// between their pivots. Joints at one place have no mirror between them: false.
bool countsReversed(const Rig& rig, const Joint& first, const Joint& second, int k);

}  // namespace calm::rig
