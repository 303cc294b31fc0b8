// SPDX-License-Identifier: GPL-3.0-or-later
// Thousands of rigs that no one would build: nothing crashes, every number stays finite, no energy comes from nowhere.
#include <gtest/gtest.h>

#include "physics/random_rig.h"

namespace calm::physics {
namespace {

struct Crowd {
  const char* name;
  Nastiness how;
  unsigned rigs;
};

constexpr int kFrames = 12;

class Abuse : public testing::TestWithParam<Crowd> {};

TEST_P(Abuse, EndsFiniteAndWithoutEnergyFromNowhere) {
  int bad = 0;
  for (unsigned seed = 1; seed <= GetParam().rigs; ++seed) {
    RandomRig rig(seed, GetParam().how);
    World& world = rig.world();
    const double start = world.energy().total();
    double scale = world.energy().kinetic + world.energy().springs, work = 0, worst = 0;
    for (int frame = 0; frame < kFrames; ++frame) {
      world.step();
      const Energy e = world.energy();
      ASSERT_TRUE(std::isfinite(e.total())) << "seed " << seed << ", frame " << frame;
      scale = std::max(scale, std::abs(e.potential));
      work = 0;
      for (JointId j = 0; j < world.jointCount(); ++j)
        for (const double w : world.reading(j).work) work += std::max(0.0, w);
      const double put = start + (GetParam().how.drives ? work : 0);
      // What springs hold is theirs; what moves and what has risen was put in or came out of them.
      worst = std::max(worst, e.kinetic + e.potential - put - 0.01 * (scale + work) - rig.allowance());
    }
    if (worst > 0) {
      ++bad;
      std::cout << "seed " << seed << ": " << worst << " J too many of " << scale << "\n";
    }
  }
  EXPECT_EQ(bad, 0);
}

INSTANTIATE_TEST_SUITE_P(
    Crowds, Abuse,
    testing::Values(Crowd{"clean", {}, 500}, Crowd{"misfits", {.misfit = true}, 200},
                    Crowd{"overlaps", {.overlaps = true}, 100}, Crowd{"driven", {.drives = true}, 200},
                    Crowd{"fast", {.speed = 1e4}, 100}, Crowd{"yielding", {.yields = true}, 300},
                    Crowd{"everything", {.misfit = true, .overlaps = true, .drives = true, .speed = 100}, 100}),
    [](const auto& crowd) { return std::string(crowd.param.name); });

}  // namespace
}  // namespace calm::physics
