// SPDX-License-Identifier: GPL-3.0-or-later
// Surfaces of triangles against what they are made to look like, from either side and however they are written.
#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "engine/shape/hull.h"
#include "physics/rigs.h"
#include "physics/surfaces.h"

namespace calm::physics {
namespace {

BodyDef fixedPart(const Shape& shape, double friction = 0.5) {
  BodyDef def;
  def.role = Role::fixed;
  def.friction = friction;
  def.shapes = {{shape, {}}};
  return def;
}

Shape pebble() {
  return ConvexHull{std::make_shared<HullData>(makeHull({{0.1, 0, 0},
                                                         {-0.1, 0, 0},
                                                         {0, 0.1, 0.02},
                                                         {0, -0.1, 0},
                                                         {0, 0, 0.12},
                                                         {0.03, 0.02, -0.1},
                                                         {0.06, 0.06, 0.06}}))};
}

struct Thrown {
  const char* name;
  Shape shape;
};
std::ostream& operator<<(std::ostream& out, const Thrown& thrown) {
  return out << thrown.name;
}

const Vec3 kBlock(1, 0.5, 0.8);

class OnABlock : public testing::TestWithParam<Thrown> {};

// Of sixteen throws on its faces and edges half go on within round-off; the others met two features at a time.
TEST_P(OnABlock, OfTrianglesIsAsOnABlock) {
  constexpr int kThrows = 16, kFrames = 36;
  std::mt19937 random(3);
  std::uniform_real_distribution<double> any(-1, 1);
  std::map<Made, std::vector<double>> apart;
  for (int i = 0; i < kThrows; ++i) {
    BodyDef def = tangible(GetParam().shape, 1, {{0.55 * any(random), 0.8, 0.45 * any(random)}});
    def.pose.rotation = Quat(any(random), any(random), any(random), any(random)).normalized();
    def.velocity = Vec3(any(random), any(random), any(random));
    def.angularVelocity = 3 * Vec3(any(random), any(random), any(random));
    def.restitution = i % 2 ? 0.5 : 0;
    const auto ends = [&](const Shape& block) {
      World world;
      world.addBody(fixedPart(block));
      const BodyId id = world.addBody(def);
      double energy = world.energy().total(), gain = 0;
      for (int frame = 0; frame < kFrames; ++frame) {
        world.step();
        gain = std::max(gain, world.energy().total() - energy);
        energy = world.energy().total();
      }
      EXPECT_LT(gain, 0.01) << "J in a frame, of 8";
      return world.state(id).pose.position;
    };
    const Vec3 there = ends(Box{kBlock});
    for (const Made made : {Made::closed, Made::open, Made::openAndTurned})
      apart[made].push_back((ends(blockOfTriangles(kBlock, 3, made)) - there).norm());
  }
  for (auto& [made, each] : apart) {
    std::nth_element(each.begin(), each.begin() + kThrows / 2, each.end());
    EXPECT_LT(each[kThrows / 2], 1e-4) << "m apart, median; made in way " << static_cast<int>(made);
  }
}
INSTANTIATE_TEST_SUITE_P(Shapes, OnABlock,
                         testing::Values(Thrown{"ball", Sphere{0.1}}, Thrown{"box", Box{{0.2, 0.15, 0.25}}},
                                         Thrown{"capsule", Capsule{0.05, 0.4}}, Thrown{"cylinder", Cylinder{0.1, 0.15}},
                                         Thrown{"pebble", pebble()}));

// What was put into a surface by less than its half does not fall through, wherever its triangles end.
TEST_P(OnABlock, WhatIsSunkStaysAbove) {
  const Vec3 size(4, 0.8, 4);
  std::mt19937 random(5);
  std::uniform_real_distribution<double> any(-1.5, 1.5);
  for (const Made made : {Made::closed, Made::open, Made::openAndTurned})
    for (int i = 0; i < 8; ++i) {
      World world;
      world.addBody(fixedPart(blockOfTriangles(size, 7, made)));
      const Pose upright{{any(random), 0, any(random)}, Quat::Identity()};
      const double half = -boundsOf(GetParam().shape, {}).low.y();
      BodyDef def = tangible(GetParam().shape, 1, upright);
      def.pose.position.y() = size.y() / 2 + 0.4 * half;
      const BodyId id = world.addBody(def);
      for (int frame = 0; frame < 30; ++frame) world.step();
      EXPECT_GT(world.state(id).pose.position.y(), size.y() / 2) << static_cast<int>(made) << ", place " << i;
    }
}

// It rises out no faster than half of its weight takes back until it is out, on whatever it stands.
TEST(Overlap, RisesOutAndStays) {
  const Vec3 size(4, 0.8, 4);
  const Shape shapes[] = {Sphere{0.1}, Box{{0.2, 0.15, 0.25}}, Capsule{0.05, 0.4}, Cylinder{0.1, 0.15}};
  const Shape floors[] = {HalfSpace{}, Box{size}, blockOfTriangles(size, 7, Made::open)};
  for (const Shape& shape : shapes)
    for (const Shape& floor : floors)
      for (const double depth : {0.003, 0.02, 0.04}) {
        World world;
        BodyDef below = fixedPart(floor);
        if (!std::holds_alternative<HalfSpace>(floor)) below.pose.position.y() = -size.y() / 2;
        world.addBody(below);
        const double half = -boundsOf(shape, {}).low.y();
        const BodyId id = world.addBody(tangible(shape, 1, {{0, half - depth, 0}, Quat::Identity()}));
        double highest = -1, fastest = 0;
        for (int frame = 0; frame < 60; ++frame) {
          world.step();
          highest = std::max(highest, world.state(id).pose.position.y() - half);
          fastest = std::max(fastest, world.state(id).velocity.norm());
        }
        const auto where = [&] {
          return "shape " + std::to_string(shape.index()) + ", floor " + std::to_string(floor.index()) + ", depth " +
                 std::to_string(depth);
        };
        EXPECT_LT(highest, 1e-5) << "hops; " << where();
        EXPECT_GT(world.state(id).pose.position.y() - half, -1e-5) << where();
        EXPECT_LT(fastest, std::sqrt(kGravity * depth)) << where();
        EXPECT_LT(world.state(id).velocity.norm(), 1e-4) << where();
      }
}

// A ball that does not bounce keeps what it has across the line from the edge to its centre, and flies on with it.
TEST(Mesh, EdgeStopsABallAsItLiesWhenItIsMet) {
  constexpr double kRadius = 0.1, kNeeded = 1e-3;
  std::mt19937 random(7);
  std::uniform_real_distribution<double> share(0, 1);
  double worst = 0;
  for (int i = 0; i < 12; ++i) {
    const double beyond = kRadius * (0.1 + 0.8 * share(random)), over = std::sqrt(kRadius * kRadius - beyond * beyond);
    const Vec3 velocity(0, -1 - 3 * share(random), 0.3 * share(random) - 0.15);
    const Vec3 normal = Vec3(0, over, beyond) / kRadius, edge(0.1, kBlock.y() / 2, kBlock.z() / 2);
    const Vec3 after = velocity - normal.dot(velocity) * normal;
    const double time = 0.1 + 0.02 * share(random);
    for (const Made made : {Made::closed, Made::open, Made::openAndTurned}) {
      World world({.gravity = Vec3::Zero()});
      world.addBody(fixedPart(blockOfTriangles(kBlock, 1, made), 0));
      BodyDef def = tangible(Sphere{kRadius}, 1, {edge + kRadius * normal - time * velocity});
      def.velocity = velocity;
      def.friction = 0;
      const BodyId id = world.addBody(def);
      for (int frame = 0; frame < 15; ++frame) world.step();
      worst = std::max(worst, (world.state(id).velocity - after).norm() / velocity.norm());
    }
  }
  report("ball that stops at the edge of a mesh: speed after it", worst, kNeeded, "of its speed");
  EXPECT_LE(worst, kNeeded);
}

// A roof whose ridge runs along z, of 16 by 12 cells; each triangle may begin with any of its corners, or be turned.
Shape roof(double slope, int firstCorner, bool turned) {
  constexpr int kAcross = 16, kAlong = 12;
  std::vector<Vec3> corners;
  std::vector<std::array<int, 3>> triangles;
  for (int i = 0; i <= kAcross; ++i)
    for (int j = 0; j <= kAlong; ++j) {
      const double x = 3.0 * i / kAcross - 1.5;
      corners.emplace_back(x, -slope * std::abs(x), 2.0 * j / kAlong - 1);
    }
  for (int i = 0; i < kAcross; ++i)
    for (int j = 0; j < kAlong; ++j) {
      const int a = i * (kAlong + 1) + j, b = a + 1, c = b + kAlong, d = c + 1;
      for (std::array<int, 3> t : {std::array{a, b, c}, std::array{c, b, d}}) {
        std::rotate(t.begin(), t.begin() + firstCorner, t.end());
        if (turned) std::swap(t[1], t[2]);
        triangles.push_back(t);
      }
    }
  return meshOf(corners, triangles);
}

// What comes down across a ridge, alike on both sides of the middle of a cell, turns in that plane alone. Contacts are
// solved to well below 1 mm/s, at a sixth of a metre from the middle.
TEST(Mesh, RidgeHoldsWhatLandsAcrossItAllAlong) {
  const auto landed = [](double slope, int firstCorner, bool turned) {
    World world;
    world.addBody(fixedPart(roof(slope, firstCorner, turned)));
    BodyDef def = tangible(Box{{0.8, 0.05, 1.0 / 3}}, 1, {{-0.15, 0.3, 0}});
    def.velocity.x() = 0.7;
    const BodyId id = world.addBody(def);
    double twist = 0;
    for (int frame = 0; frame < 20; ++frame) {
      world.step();
      twist = std::max(twist, world.state(id).angularVelocity.head<2>().norm());
    }
    EXPECT_LT(twist, 1e-3) << "rad/s out of its plane, slope " << slope << ", corner " << firstCorner << turned;
    return world.state(id).pose.position;
  };
  for (const double slope : {1.0, 2.5}) {
    const Vec3 there = landed(slope, 0, false);
    for (const int corner : {0, 1, 2})
      for (const bool turned : {false, true})
        EXPECT_LT((landed(slope, corner, turned) - there).norm(), 1e-5) << slope << corner << turned;
  }
}

// An open surface holds what comes from either side, a closed one what comes from outside.
TEST(Mesh, SheetsHoldFromBothSides) {
  const std::vector<Vec3> corners{{-2, 0, -2}, {-2, 0, 2}, {2, 0, 2}, {2, 0, -2}};
  const Shape up = meshOf(corners, {{0, 1, 2}, {0, 2, 3}}), down = meshOf(corners, {{0, 2, 1}, {0, 3, 2}});
  for (const Shape& sheet : {up, down})
    for (const Shape& shape : {Shape(Sphere{0.1}), Shape(Box{Vec3::Constant(0.2)})})
      for (const double side : {1.0, -1.0}) {
        World world({.gravity = {0, -side * kGravity, 0}});
        world.addBody(fixedPart(sheet));
        BodyDef def = tangible(shape, 1, {{0.3, side, 0.1}});
        def.velocity.y() = -50 * side;
        const BodyId id = world.addBody(def);
        for (int frame = 0; frame < 60; ++frame) world.step();
        EXPECT_NEAR(side * world.state(id).pose.position.y(), 0.1, 1e-4) << shape.index() << " from side " << side;
      }
}

}  // namespace
}  // namespace calm::physics
