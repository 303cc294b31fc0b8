// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/collide.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <memory>

#include "engine/shape/hull.h"

namespace calm {
namespace {

Manifold meet(const Shape& a, const Pose& pa, const Shape& b, const Pose& pb, double margin = 0.01) {
  Collider ca, cb;
  buildCollider(a, pa, ca);
  buildCollider(b, pb, cb);
  Manifold m;
  collide(ca, cb, margin, m);
  return m;
}

Pose at(double x, double y, double z) {
  return {{x, y, z}, Quat::Identity()};
}

TEST(Collide, BallsTouchAtOnePointBetweenThem) {
  const Manifold m = meet(Sphere{0.5}, at(0, 0, 0), Sphere{0.3}, at(0.79, 0, 0));
  ASSERT_EQ(m.points.size(), 1u);
  EXPECT_NEAR(m.points[0].gap, -0.01, 1e-12);
  EXPECT_LE((m.normal - Vec3::UnitX()).norm(), 1e-12);
  EXPECT_NEAR(m.points[0].position.x(), 0.495, 1e-12);
}

TEST(Collide, NothingBeyondTheMargin) {
  EXPECT_TRUE(meet(Sphere{0.5}, at(0, 0, 0), Sphere{0.5}, at(1.02, 0, 0)).points.empty());
  EXPECT_TRUE(meet(Box{{1, 1, 1}}, at(0, 0, 0), Box{{1, 1, 1}}, at(0, 1.02, 0)).points.empty());
  EXPECT_TRUE(meet(HalfSpace{}, {}, HalfSpace{}, at(0, 1, 0)).points.empty());
}

TEST(Collide, BoxOnGroundRestsOnItsFourCorners) {
  const Manifold m = meet(HalfSpace{}, {}, Box{{0.4, 0.2, 0.6}}, at(1, 0.099, 2));
  ASSERT_EQ(m.points.size(), 4u);
  for (const ManifoldPoint& p : m.points) {
    EXPECT_NEAR(p.gap, -0.001, 1e-12);
    EXPECT_NEAR(std::abs(p.position.x() - 1), 0.2, 1e-12);
    EXPECT_NEAR(std::abs(p.position.z() - 2), 0.3, 1e-12);
  }
  EXPECT_LE((m.normal - Vec3::UnitY()).norm(), 1e-12);
}

TEST(Collide, StackedBoxesMeetInTheSmallerFace) {
  const Manifold m = meet(Box{{2, 1, 2}}, at(0, 0, 0), Box{{1, 1, 1}}, at(0.2, 0.999, -0.1));
  ASSERT_EQ(m.points.size(), 4u);
  for (const ManifoldPoint& p : m.points) {
    EXPECT_NEAR(p.gap, -0.001, 1e-9);
    EXPECT_NEAR(std::abs(p.position.x() - 0.2), 0.5, 1e-9);
    EXPECT_NEAR(std::abs(p.position.z() + 0.1), 0.5, 1e-9);
  }
}

TEST(Collide, CrossedBoxEdgesMeetAtOnePoint) {
  const Quat onEdge(Eigen::AngleAxisd(M_PI / 4, Vec3::UnitZ()));
  const Quat acrossEdge = Quat(Eigen::AngleAxisd(M_PI / 2, Vec3::UnitY())) * onEdge;
  const double reach = std::sqrt(0.5);
  const Manifold m =
      meet(Box{{1, 1, 1}}, {Vec3::Zero(), onEdge}, Box{{1, 1, 1}}, {{0, 2 * reach - 0.002, 0}, acrossEdge});
  ASSERT_EQ(m.points.size(), 1u);
  EXPECT_NEAR(m.points[0].gap, -0.002, 1e-9);
  EXPECT_LE((m.normal - Vec3::UnitY()).norm(), 1e-9);
  EXPECT_LE((m.points[0].position - Vec3(0, reach - 0.001, 0)).norm(), 1e-9);
}

TEST(Collide, LyingCapsuleTouchesAtBothEnds) {
  const Quat lying(Eigen::AngleAxisd(M_PI / 2, Vec3::UnitZ()));
  const Manifold onBox = meet(Box{{4, 1, 4}}, at(0, 0, 0), Capsule{0.1, 1}, {{0, 0.599, 0}, lying});
  EXPECT_EQ(onBox.points.size(), 2u);
  const Manifold onGround = meet(HalfSpace{}, {}, Capsule{0.1, 1}, {{0, 0.099, 0}, lying});
  EXPECT_EQ(onGround.points.size(), 2u);
  const Manifold onCapsule = meet(Capsule{0.1, 1}, {Vec3::Zero(), lying}, Capsule{0.1, 1}, {{0.3, 0.199, 0}, lying});
  EXPECT_EQ(onCapsule.points.size(), 2u);
  for (const ManifoldPoint& p : onCapsule.points) EXPECT_NEAR(p.gap, -0.001, 1e-9);
}

// A wheel against a step, a pipe on a ridge: along the whole line that they share, not at some point of it.
TEST(Collide, RoundSideMeetsAParallelEdgeAtBothEndsOfTheirLine) {
  const Quat lying(Eigen::AngleAxisd(M_PI / 2, Vec3::UnitX()));
  const double off = 0.2 / std::sqrt(2.0) - 0.0005;
  for (const Shape& round : {Shape(Cylinder{0.2, 0.4}), Shape(Capsule{0.2, 0.8})}) {
    const Manifold m = meet(Box{{2, 1, 0.3}}, at(0, 0, 0), round, {{-1 - off, 0.5 + off, 0.1}, lying});
    ASSERT_EQ(m.points.size(), 2u);
    EXPECT_LE((m.normal - Vec3(-1, 1, 0) / std::sqrt(2.0)).norm(), 1e-9);
    const double low = std::min(m.points[0].position.z(), m.points[1].position.z()),
                 high = std::max(m.points[0].position.z(), m.points[1].position.z());
    EXPECT_NEAR(low, -0.1, 1e-9);
    EXPECT_NEAR(high, 0.15, 1e-9);
  }
}

// Going over the rim of a table, it lies on the rim as it lay on the table.
TEST(Collide, RoundSideKeepsItsLineOverAnEdge) {
  const Quat lying(Eigen::AngleAxisd(M_PI / 2, Vec3::UnitX()));
  for (const Shape& round : {Shape(Cylinder{0.05, 0.2}), Shape(Capsule{0.05, 0.3})})
    for (const double past : {-1e-3, 0.0, 1e-7, 1e-5, 5e-5, 1e-3}) {
      const Manifold m = meet(Box{{2, 0.2, 1}}, at(-1, -0.1, 0), round, {{past, 0.05, 0}, lying});
      ASSERT_EQ(m.points.size(), 2u) << past;
      EXPECT_NEAR((m.points[0].position + m.points[1].position).z(), 0, 1e-9) << past;
    }
}

// The face at its first end looks down most, but does not reach to the other end.
TEST(Collide, SharpEdgeOfAHullMeetsAFaceWithBothEnds) {
  const std::vector<Vec3> corners = {{0, 0, 0}, {1, 0, 0}, {-1, 0.3, 0.5}, {-1, 0.3, -0.5}, {0, 1, 0.5}, {0, 1, -0.5}};
  const Shape hull = ConvexHull{std::make_shared<HullData>(makeHull(corners))};
  for (const bool flipped : {false, true}) {
    const Manifold m =
        flipped ? meet(Box{{9, 1, 9}}, at(0, -0.5, 0), hull, {}) : meet(hull, {}, Box{{9, 1, 9}}, at(0, -0.5, 0));
    ASSERT_EQ(m.points.size(), 2u);
    const double ends[] = {m.points[0].position.x(), m.points[1].position.x()};
    EXPECT_NEAR(std::min(ends[0], ends[1]), 0, 1e-12);
    EXPECT_NEAR(std::max(ends[0], ends[1]), 1, 1e-12);
  }
}

TEST(Collide, SwappingTheShapesFlipsTheNormal) {
  const Pose tilted{{0.3, 0.9, 0.1}, Quat(Eigen::AngleAxisd(0.4, Vec3(1, 1, 0).normalized()))};
  const Manifold ab = meet(Box{{1, 1, 1}}, {}, Box{{1, 1, 1}}, tilted, 0.2);
  const Manifold ba = meet(Box{{1, 1, 1}}, tilted, Box{{1, 1, 1}}, {}, 0.2);
  ASSERT_FALSE(ab.points.empty());
  EXPECT_EQ(ab.points.size(), ba.points.size());
  EXPECT_LE((ab.normal + ba.normal).norm(), 1e-9);
}

TEST(Collide, CentresThatCoincideStillPart) {
  for (const Shape& shape : {Shape(Sphere{0.2}), Shape(Capsule{0.1, 0.6})}) {
    const Manifold m = meet(shape, {}, shape, {});
    ASSERT_EQ(m.points.size(), 1u);
    EXPECT_TRUE(m.normal.allFinite());
    EXPECT_LT(m.points[0].gap, 0);
  }
  const Manifold buried = meet(Box{{1, 1, 1}}, {}, Sphere{0.1}, at(0, 0.45, 0));
  ASSERT_EQ(buried.points.size(), 1u);
  EXPECT_NEAR(buried.points[0].gap, -0.15, 1e-9);
}

}  // namespace
}  // namespace calm
