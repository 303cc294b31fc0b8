// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/ordering.h"

#include <gtest/gtest.h>

#include <algorithm>

namespace calm {
namespace {

std::size_t fill(const Elimination& e) {
  std::size_t sum = 0;
  for (const auto& below : e.below) sum += below.size();
  return sum;
}

TEST(Elimination, OfAChainHasNoFill) {
  std::vector<std::pair<int, int>> edges;
  for (int i = 0; i + 1 < 1000; ++i) edges.emplace_back(i, i + 1);
  EXPECT_EQ(fill(eliminateByMinimumDegree(1000, edges)), 999u);
}

TEST(Elimination, OfATreeHasNoFill) {
  std::vector<std::pair<int, int>> edges;
  for (int i = 1; i < 255; ++i) edges.emplace_back((i - 1) / 2, i);
  EXPECT_EQ(fill(eliminateByMinimumDegree(255, edges)), 254u);
}

TEST(Elimination, OfARingHasOneFillANode) {
  std::vector<std::pair<int, int>> edges;
  for (int i = 0; i < 57; ++i) edges.emplace_back(i, (i + 1) % 57);
  EXPECT_EQ(fill(eliminateByMinimumDegree(57, edges)), 57u + 57 - 3);
}

TEST(Elimination, VisitsEveryNodeOnceAndLooksForward) {
  const Elimination e = eliminateByMinimumDegree(5, {{0, 1}, {1, 2}, {3, 4}, {1, 3}, {1, 1}, {0, 1}});
  std::vector<int> sorted = e.order;
  std::sort(sorted.begin(), sorted.end());
  EXPECT_EQ(sorted, (std::vector<int>{0, 1, 2, 3, 4}));
  for (int k = 0; k < 5; ++k)
    for (int i : e.below[k]) EXPECT_GT(i, k);
}

}  // namespace
}  // namespace calm
