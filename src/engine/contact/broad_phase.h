// SPDX-License-Identifier: GPL-3.0-or-later
// Which boxes overlap.
#pragma once

#include <utility>
#include <vector>

#include "engine/shape/shape.h"

namespace calm {

// All pairs (i < j) of overlapping boxes of which at least one is marked as moving, in ascending order. Sorts along x
// and sweeps (Baraff 1992): O(n log n + pairs that overlap along x).
std::vector<std::pair<int, int>> overlappingPairs(const std::vector<Aabb>& boxes, const std::vector<char>& moving);

}  // namespace calm
