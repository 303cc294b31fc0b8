// SPDX-License-Identifier: GPL-3.0-or-later
// Elimination order for a sparse symmetric factorisation.
#pragma once

#include <utility>
#include <vector>

namespace calm {

struct Elimination {
  std::vector<int> order;               // order[k]: the node eliminated k-th
  std::vector<std::vector<int>> below;  // below[k]: positions > k coupled with it then, ascending (fill included)
};

// Minimum-degree elimination of the graph on nodes 0..count-1 (Rose 1972; George and Liu, SIAM Review 31, 1989);
// ties go to the lower node, so that the order is the same every time. Trees and chains get no fill. Takes
// O(n log n) for graphs of bounded degree.
Elimination eliminateByMinimumDegree(int count, const std::vector<std::pair<int, int>>& edges);

}  // namespace calm
