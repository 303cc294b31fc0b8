// SPDX-License-Identifier: GPL-3.0-or-later
// An arch of loose blocks, held by nothing but weight and friction.
#include <gtest/gtest.h>

#include <memory>

#include "engine/shape/hull.h"
#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A half circle of radius 1 m on two abutments; returns how far its blocks have moved after two seconds.
double movesBy(int blocks, double thickness) {
  constexpr double kDepth = 0.3, kFriction = 1;
  World world;
  for (const double side : {-1.0, 1.0}) {
    BodyDef abutment;
    abutment.role = Role::fixed;
    abutment.shapes = {{Box{{0.6, 0.5, 0.6}}, {{side, -0.25, 0}, Quat::Identity()}}};
    abutment.friction = kFriction;
    world.addBody(abutment);
  }
  struct Block {
    BodyId body;
    Vec3 start;
  };
  std::vector<Block> all;
  for (int i = 0; i < blocks; ++i) {
    std::vector<Vec3> corners;
    Vec3 middle = Vec3::Zero();
    for (const int end : {i, i + 1})
      for (const double radius : {1 - thickness / 2, 1 + thickness / 2})
        for (const double z : {-kDepth / 2, kDepth / 2}) {
          const double angle = kPi * end / blocks - kPi / 2;
          corners.emplace_back(radius * std::sin(angle), radius * std::cos(angle), z);
          middle += corners.back() / 8;
        }
    for (Vec3& corner : corners) corner -= middle;
    BodyDef def = tangible(ConvexHull{std::make_shared<HullData>(makeHull(corners))}, 10, {middle});
    def.friction = kFriction;
    all.push_back({world.addBody(def), middle});
  }
  for (int i = 0; i < 120; ++i) world.step();
  double furthest = 0;
  for (const Block& b : all) furthest = std::max(furthest, (world.state(b.body).pose.position - b.start).norm());
  return furthest;
}

// Blocks that cannot be crushed, nor pulled, nor slide stand as long as some line of thrust lies within them (Heyman,
// "The stone skeleton", 1966); that is a linear programme, whose least thickness for eight blocks is 0.09997 of the
// radius, and for ten 0.10701. For ever more blocks it is 0.1075 (Milankovitch 1907).
TEST(Arch, StandsAsLongAsALineOfThrustLiesWithinIt) {
  struct Least {
    int blocks;
    double thickness;
  };
  for (const Least& least : {Least{8, 0.09997}, Least{10, 0.10701}}) {
    SCOPED_TRACE(least.blocks);
    const double stands = movesBy(least.blocks, 1.01 * least.thickness),
                 falls = movesBy(least.blocks, 0.99 * least.thickness);
    report("arch 1 % thicker than it must be: blocks move by", stands * 1e3, 0.1, "mm");
    EXPECT_LT(stands, 1e-4);
    EXPECT_GT(falls, 1);
  }
}

}  // namespace
}  // namespace calm::physics
