// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/ordering.h"

#include <algorithm>
#include <set>

namespace calm {

Elimination eliminateByMinimumDegree(int count, const std::vector<std::pair<int, int>>& edges) {
  std::vector<std::set<int>> neighbours(count);
  for (const auto& [i, j] : edges) {
    if (i == j) continue;
    neighbours[i].insert(j);
    neighbours[j].insert(i);
  }
  std::set<std::pair<std::size_t, int>> queue;  // (degree, node)
  for (int i = 0; i < count; ++i) queue.insert({neighbours[i].size(), i});

  Elimination result;
  result.below.resize(count);
  std::vector<int> position(count);
  while (!queue.empty()) {
    const int node = queue.begin()->second;
    queue.erase(queue.begin());
    position[node] = static_cast<int>(result.order.size());
    result.order.push_back(node);
    const std::vector<int> clique(neighbours[node].begin(), neighbours[node].end());
    for (int i : clique) {
      const std::size_t degree = neighbours[i].size();
      neighbours[i].erase(node);
      for (int j : clique)
        if (j != i) neighbours[i].insert(j);
      if (neighbours[i].size() != degree) {
        queue.erase({degree, i});
        queue.insert({neighbours[i].size(), i});
      }
    }
    result.below[position[node]] = clique;
    neighbours[node].clear();
  }
  for (auto& below : result.below) {
    for (int& node : below) node = position[node];
    std::sort(below.begin(), below.end());
  }
  return result;
}

}  // namespace calm
