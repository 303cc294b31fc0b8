// SPDX-License-Identifier: GPL-3.0-or-later
// What joints have no part in goes on beside them as it would alone; and a joint to next to nothing changes nothing.
#include <gtest/gtest.h>

#include <functional>
#include <vector>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr int kFrames = 20;

struct Thrown {
  const char* name;
  Shape shape;
  double restitution;
  double up;  // m, that it falls
};
std::ostream& operator<<(std::ostream& out, const Thrown& thrown) {
  return out << thrown.name;
}

class BesideJoints : public testing::TestWithParam<Thrown> {
 protected:
  // Spins, and flies over the ground away from the origin.
  static BodyId addThrown(World& world) {
    BodyDef floor = ground(0.5);
    floor.restitution = GetParam().restitution;
    world.addBody(floor);
    BodyDef def = tangible(GetParam().shape, 5, {{0.32, 0.05 + GetParam().up, 0}});
    def.velocity = {3, 0, 0};
    def.angularVelocity = {0, 20, 0};
    return world.addBody(def);
  }
  static Vec3 placeWith(const std::function<void(World&, BodyId)>& add) {
    World world;
    const BodyId thrown = addThrown(world);
    add(world, thrown);
    for (int i = 0; i < kFrames; ++i) world.step();
    return world.state(thrown).pose.position;
  }
  static Vec3 placeAlone() {
    return placeWith([](World&, BodyId) {});
  }
  static void pinBall(World& world, const Vec3& at) {
    const BodyId ball = world.addBody(tangible(Sphere{0.1}, 1, {at}));
    world.addJoint(joint(JointType::ball, kWorld, at, ball, Vec3::Zero()));
  }
};

// There is nothing between them: what is left is the solver's tolerance.
TEST_P(BesideJoints, LandsAsAlone) {
  const Vec3 place = placeWith([](World& world, BodyId) { pinBall(world, {0, 0.1, 0}); });
  report(std::string(GetParam().name) + " beside a jointed ball: elsewhere by", (place - placeAlone()).norm(), 1e-6,
         "m");
  EXPECT_LT((place - placeAlone()).norm(), 1e-6);
}

TEST_P(BesideJoints, LandsAsAloneBesideMany) {
  const Vec3 place = placeWith([](World& world, BodyId) {
    for (const double z : {-0.6, -0.3, 0.0, 0.3, 0.6})
      for (const double x : {-0.3, 0.0}) pinBall(world, {x, 0.1, z});
  });
  EXPECT_LT((place - placeAlone()).norm(), 1e-6) << "m";
}

// It is heavier by two parts in ten million. Steps with joints and without may differ by their own error, some
// hundredth of a percent of the way.
TEST_P(BesideJoints, LandsAlikeWithNextToNothingFixedToIt) {
  const Vec3 place = placeWith([](World& world, BodyId thrown) {
    BodyDef def = solid(Sphere{0.03}, 1e-6, world.state(thrown).pose);
    def.velocity = world.state(thrown).velocity;
    def.angularVelocity = world.state(thrown).angularVelocity;
    world.addJoint(joint(JointType::fixed, thrown, Vec3::Zero(), world.addBody(def), Vec3::Zero()));
  });
  const double off = (place - placeAlone()).norm();
  report(std::string(GetParam().name) + " with 1 mg fixed to it: elsewhere by", off, 2e-4, "m");
  EXPECT_LT(off, 2e-4);
}

INSTANTIATE_TEST_SUITE_P(Shapes, BesideJoints,
                         testing::Values(Thrown{"disc", Cylinder{0.2, 0.1}, 0, 0.02},
                                         Thrown{"disc_that_bounces", Cylinder{0.2, 0.1}, 0.5, 0.02},
                                         Thrown{"block", Box{{0.3, 0.1, 0.3}}, 0, 0.04},
                                         Thrown{"block_that_bounces", Box{{0.3, 0.1, 0.3}}, 0.5, 0.01},
                                         Thrown{"block_that_lies", Box{{0.3, 0.1, 0.3}}, 0, 0},
                                         Thrown{"ball", Sphere{0.05}, 0.5, 0.02}),
                         [](const auto& thrown) { return std::string(thrown.param.name); });

// A stack has more points than are solved together with joints.
TEST(BesideJointsToo, AStackSettlesAsAlone) {
  const auto settled = [](bool beside) {
    World world;
    world.addBody(ground(0.5));
    std::vector<BodyId> stack;
    for (int i = 0; i < 27; ++i) {
      const double layer = i / 9, row = i / 3 % 3, column = i % 3;
      const Vec3 at(0.51 * column + 0.02 * layer, 0.25 + 0.51 * layer, 0.51 * row + 0.01 * layer);
      stack.push_back(world.addBody(tangible(Box{Vec3::Constant(0.5)}, 10, {at})));
    }
    const Vec3 at(-0.354, 0.1, 0.5);
    const BodyId ball = beside ? world.addBody(tangible(Sphere{0.1}, 1, {at})) : kWorld;
    if (beside) world.addJoint(joint(JointType::ball, kWorld, at, ball, Vec3::Zero()));
    for (int i = 0; i < 60; ++i) world.step();
    std::vector<Vec3> places;
    for (const BodyId box : stack) places.push_back(world.state(box).pose.position);
    return places;
  };
  const std::vector<Vec3> beside = settled(true), alone = settled(false);
  for (std::size_t i = 0; i < alone.size(); ++i) EXPECT_LT((beside[i] - alone[i]).norm(), 1e-6) << "m, box " << i;
}

// What a chain gains or loses where it cracks is its own to give back.
TEST(BesideJointsToo, ABallRollsOnPastACrackingChain) {
  const auto rolled = [](bool past) {
    World world;
    world.addBody(ground(0.5));
    BodyDef def = tangible(Sphere{0.1}, 2, {{-2, 0.1, 0}});
    def.velocity = {1.5, 0, 0};
    def.angularVelocity = {0, 0, -15};
    const BodyId ball = world.addBody(def);
    BodyId above = kWorld;
    Vec3 on(-0.6, 0.75, 0.25);
    for (int i = 0; i < 10 && past; ++i) {
      const BodyId link = world.addBody(tangible(Capsule{0.01, 0.03}, 0.02, {{-0.575 + 0.05 * i, 0.75, 0.25}}));
      world.addJoint(joint(JointType::ball, above, on, link, {-0.025, 0, 0}));
      above = link, on = {0.025, 0, 0};
    }
    for (int i = 0; i < 150; ++i) world.step();
    return world.state(ball).pose.position;
  };
  EXPECT_LT((rolled(true) - rolled(false)).norm(), 1e-6) << "m";
}

}  // namespace
}  // namespace calm::physics
