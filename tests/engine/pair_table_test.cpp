// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/pair_table.h"

#include <gtest/gtest.h>

#include <map>
#include <random>

namespace calm {
namespace {

ContactPair pairOf(const PairTable::Key& key) {
  ContactPair pair;
  pair.shapeA = key[0], pair.shapeB = key[1], pair.triangle = key[2];
  return pair;
}

TEST(PairTable, KeepsWhatStaysWithAllThatItRemembers) {
  PairTable table;
  table.keepOnly({{1, 2, -1}, {1, 5, -1}, {3, 4, 7}}, pairOf);
  ASSERT_EQ(table.size(), 3u);
  table[1].friction = 0.7;
  const ContactPair* place = &table[1];
  table.keepOnly({{1, 5, -1}, {2, 3, -1}}, pairOf);
  ASSERT_EQ(table.size(), 2u);
  EXPECT_EQ(&table[0], place);
  EXPECT_EQ(table[0].friction, 0.7);
  EXPECT_EQ(table[1].shapeA, 2);
  EXPECT_EQ(table[1].shapeB, 3);
}

// Against a map that does the same.
TEST(PairTable, IsInTheOrderOfItsKeysThroughManyChanges) {
  std::mt19937 random{11};
  PairTable table;
  std::map<PairTable::Key, double> expected;
  double made = 0;
  for (int round = 0; round < 200; ++round) {
    std::map<PairTable::Key, double> next;
    std::vector<PairTable::Key> keys;
    for (int a = 0; a < 8; ++a)
      for (int b = a + 1; b < 8; ++b)
        if (random() % 3 > 0) keys.push_back({a, b, -1});
    std::vector<double> names;
    table.keepOnly(keys, [&](const PairTable::Key& key) {
      ContactPair pair = pairOf(key);
      pair.friction = next[key] = ++made;
      return pair;
    });
    for (const PairTable::Key& key : keys)
      if (const auto old = expected.find(key); old != expected.end()) next[key] = old->second;
    expected = next;
    ASSERT_EQ(table.size(), expected.size()) << "round " << round;
    std::size_t i = 0;
    for (const auto& [key, name] : expected) {
      EXPECT_EQ((PairTable::Key{table[i].shapeA, table[i].shapeB, table[i].triangle}), key) << "round " << round;
      EXPECT_EQ(table[i++].friction, name) << "round " << round;
    }
  }
}

TEST(PairTable, ForgetsAllWhenCleared) {
  PairTable table;
  table.keepOnly({{1, 2, -1}}, pairOf);
  table.clear();
  EXPECT_EQ(table.size(), 0u);
  table.keepOnly({{1, 2, -1}}, pairOf);
  EXPECT_EQ(table.size(), 1u);
}

}  // namespace
}  // namespace calm
