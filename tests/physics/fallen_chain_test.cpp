// SPDX-License-Identifier: GPL-3.0-or-later
// Chains that part and fall in a heap: links jam between their neighbours, under loads and on the ground, and whip
// about while others lie. What touches takes energy; that none comes from nowhere is all that theory says, and it is
// enough.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct FallenChain {
  const char* name;
  JointType type;
  int links;
  double ratio;  // of the load's mass to a link's
  double angle;  // of the chain, from hanging, rad
  int parts;     // the joint that parts at once; none below zero
};

class FallenChains : public testing::TestWithParam<FallenChain> {
 protected:
  World world;
  double mass = 0.6, length = 0.06;  // of a link, kg and m

  void SetUp() override {
    const FallenChain& plan = GetParam();
    const Vec3 down(std::sin(plan.angle), -std::cos(plan.angle), 0), up = Vec3::UnitY();
    const Vec3 start(0, 0.6 - std::min(0.0, down.y()) * plan.links * length, 0);
    const Quat along = turnBetween(up, down), across = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    world.addBody(ground(0.4));
    BodyId above = kWorld;
    Vec3 anchor = start;
    const auto hang = [&](const Shape& shape, double weighs, double from, double half, int number) {
      const BodyId part = world.addBody(tangible(shape, weighs, {start + down * (from + half), along}));
      JointDef j = joint(plan.type, above, anchor, part, -half * up);
      j.frameA.rotation = above == kWorld ? across : Quat(along.conjugate() * across);
      j.frameB.rotation = along.conjugate() * across;
      if (number == plan.parts) j.breakForce = 1e-3;
      world.addJoint(j);
      above = part;
      anchor = half * up;
    };
    for (int i = 0; i < plan.links; ++i) hang(Capsule{0.02, length}, mass, i * length, length / 2, i);
    hang(Box{Vec3::Constant(0.3)}, plan.ratio * mass, plan.links * length, 0.15, plan.links);
  }
};

TEST_P(FallenChains, GainNothing) {
  const double start = world.energy().total();
  double before = start, lowest = start, gains = 0;
  for (int frame = 0; frame < 360; ++frame) {
    world.step();
    const double now = world.energy().total();
    gains += std::max(0.0, now - before);
    lowest = std::min(lowest, now);
    before = now;
  }
  const double share = gains / (start - lowest);
  report(std::string("fallen chain, ") + GetParam().name + ": all gains", share, 0.01, "of what it lost");
  EXPECT_LE(share, 0.01);
  for (BodyId b = 0; b < world.bodyCount(); ++b) EXPECT_GT(world.state(b).pose.position.y(), -1e-3) << "in the ground";
}

INSTANTIATE_TEST_SUITE_P(Cases, FallenChains,
                         testing::Values(FallenChain{"hinges", JointType::hinge, 39, 250, 0.4, 14},
                                         FallenChain{"hingesInAJam", JointType::hinge, 39, 252.96, 0.4, 14},
                                         FallenChain{"hingesInAnother", JointType::hinge, 39, 256.29, 0.402, 14},
                                         FallenChain{"hingesThrownFar", JointType::hinge, 39, 250, 1.4, 14},
                                         FallenChain{"hingesUnderTheirLoad", JointType::hinge, 20, 100, 1.9, 0},
                                         FallenChain{"balls", JointType::ball, 38, 20, 0.7, 10},
                                         FallenChain{"ballsAlike", JointType::ball, 38, 1, 1.2, 38}),
                         [](const auto& chain) { return std::string(chain.param.name); });

}  // namespace
}  // namespace calm::physics
