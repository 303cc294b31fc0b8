// SPDX-License-Identifier: GPL-3.0-or-later
// The tree against looking at every box.
#include "engine/shape/box_tree.h"

#include <gtest/gtest.h>

#include <cmath>
#include <random>
#include <set>

namespace calm {
namespace {

class Crowd {
 public:
  Aabb randomBox() {
    std::uniform_real_distribution<double> place(-10, 10), size(0.05, 1.5);
    const Vec3 low(place(random_), place(random_), place(random_));
    return {low, low + Vec3(size(random_), size(random_), size(random_))};
  }
  std::mt19937& random() { return random_; }

 private:
  std::mt19937 random_{7};
};

TEST(BoxTree, FindsWhatLookingAtEveryBoxFinds) {
  Crowd crowd;
  BoxTree tree;
  std::vector<Aabb> boxes;
  std::vector<int> leaves;
  std::set<int> gone;
  for (int i = 0; i < 500; ++i) boxes.push_back(crowd.randomBox()), leaves.push_back(tree.insert(boxes[i], i));
  for (int round = 0; round < 20; ++round) {
    for (int k = 0; k < 60; ++k) {
      const int i = static_cast<int>(crowd.random()() % boxes.size());
      if (gone.count(i)) continue;
      if (k % 10 == 0) {
        tree.remove(leaves[i]);
        gone.insert(i);
      } else {
        boxes[i] = crowd.randomBox();
        tree.move(leaves[i], boxes[i], boxes[i]);
      }
    }
    const Aabb probe = crowd.randomBox();
    std::set<int> found, expected;
    tree.query(probe, [&](int i) {
      if (boxes[i].overlaps(probe)) found.insert(i);
    });
    for (int i = 0; i < static_cast<int>(boxes.size()); ++i)
      if (!gone.count(i) && boxes[i].overlaps(probe)) expected.insert(i);
    EXPECT_EQ(found, expected) << "round " << round;
  }
  EXPECT_EQ(tree.size(), 500 - static_cast<int>(gone.size()));
}

TEST(BoxTree, StaysShallowWhateverTheOrder) {
  BoxTree tree;
  for (int i = 0; i < 4096; ++i) {
    const Vec3 low(i, 0, 0);
    tree.insert({low, low + Vec3::Ones()}, i);
  }
  EXPECT_LE(tree.height(), 3 * std::log2(4096));
}

TEST(BoxTree, RayVisitsWhatItMeets) {
  BoxTree tree;
  for (int i = 0; i < 100; ++i) tree.insert({Vec3(i, 0, 0), Vec3(i + 0.5, 1, 1)}, i);
  std::set<int> met;
  tree.cast({Vec3(20.25, 5, 0.5), Vec3(0, -1, 0)}, 100, [&](int tag, double furthest) {
    met.insert(tag);
    return furthest;
  });
  EXPECT_EQ(met, std::set<int>{20});
  met.clear();
  tree.cast({Vec3(20.25, 5, 0.5), Vec3(0, -1, 0)}, 3, [&](int tag, double furthest) {
    met.insert(tag);
    return furthest;
  });
  EXPECT_TRUE(met.empty()) << "the box lies beyond three metres";
}

}  // namespace
}  // namespace calm
