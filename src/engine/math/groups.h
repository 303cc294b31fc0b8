// SPDX-License-Identifier: GPL-3.0-or-later
// Disjoint sets of the numbers 0 to n - 1, each named by its least member.
#pragma once

#include <algorithm>
#include <numeric>
#include <vector>

namespace calm {

class Groups {
 public:
  explicit Groups(std::size_t count) : parent_(count) { std::iota(parent_.begin(), parent_.end(), 0); }
  int root(int i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  void join(int i, int j) {
    i = root(i), j = root(j);
    parent_[std::max(i, j)] = std::min(i, j);
  }

 private:
  std::vector<int> parent_;
};

}  // namespace calm
