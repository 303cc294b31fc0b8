// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/broad_phase.h"

#include <algorithm>
#include <numeric>

namespace calm {

std::vector<std::pair<int, int>> overlappingPairs(const std::vector<Aabb>& boxes, const std::vector<char>& moving) {
  std::vector<int> order(boxes.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(),
            [&](int i, int j) { return std::pair(boxes[i].low.x(), i) < std::pair(boxes[j].low.x(), j); });
  std::vector<std::pair<int, int>> pairs;
  std::vector<int> open;
  for (int i : order) {
    std::erase_if(open, [&](int j) { return boxes[j].high.x() < boxes[i].low.x(); });
    for (int j : open)
      if ((moving[i] || moving[j]) && boxes[i].overlaps(boxes[j])) pairs.push_back(std::minmax(i, j));
    open.push_back(i);
  }
  std::sort(pairs.begin(), pairs.end());
  return pairs;
}

}  // namespace calm
