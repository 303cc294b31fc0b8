// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/collide.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <functional>
#include <memory>
#include <random>

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

const Cylinder kBarrel{0.1, 0.3};

// Outside, from a point to a cylinder about the origin, along y.
double distanceTo(const Cylinder& c, const Vec3& p) {
  const double over = std::max(std::abs(p.y()) - c.length / 2, 0.0);
  return std::hypot(over, std::max(std::hypot(p.x(), p.z()) - c.radius, 0.0));
}

// How far a shape has to go along a direction, turned as it is, until it is a gap away from the barrel.
Pose placed(const Quat& turn, const Vec3& along, double gap, const std::function<double(const Pose&)>& gapAt) {
  double near = 0, far = 1;
  for (int i = 0; i < 50; ++i) {
    const double middle = (near + far) / 2;
    (gapAt({middle * along, turn}) < gap ? near : far) = middle;
  }
  return {far * along, turn};
}

class AtTheRim : public testing::Test {
 protected:
  static constexpr double kGap = 2e-4;  // m
  Quat rotation() { return Quat(any(), any(), any(), any()).normalized(); }
  // Obliquely from above, where the rim is met.
  Vec3 direction() { return Vec3(any(), 1.5 + any() / 2, any()).normalized(); }

 private:
  double any() { return uniform_(random_); }
  std::mt19937 random_{7};
  std::uniform_real_distribution<double> uniform_{-1, 1};
};

TEST_F(AtTheRim, RoundThingsMeetTheTrueCircle) {
  const Sphere ball{0.07};
  const Capsule rod{0.04, 0.3};
  for (int i = 0; i < 200; ++i) {
    const Quat turn = rotation();
    const Vec3 along = direction();
    const auto ofBall = [&](const Pose& p) { return distanceTo(kBarrel, p.position) - ball.radius; };
    // Convex along the segment: by the golden section.
    const auto ofRod = [&](const Pose& p) {
      double low = -rod.coreHalfLength(), high = -low;
      const auto at = [&](double x) { return distanceTo(kBarrel, p.apply({0, x, 0})); };
      for (int k = 0; k < 90; ++k) {
        const double step = 0.381966 * (high - low);
        if (at(low + step) < at(high - step))
          high -= step;
        else
          low += step;
      }
      return at(low) - rod.radius;
    };
    const Pose ballAt = placed(turn, along, kGap, ofBall), rodAt = placed(turn, along, kGap, ofRod);
    EXPECT_NEAR(meet(kBarrel, {}, ball, ballAt).leastGap(), kGap, 1e-9) << "ball " << i;
    EXPECT_NEAR(meet(kBarrel, {}, rod, rodAt).leastGap(), kGap, 2e-6) << "rod " << i;
  }
}

TEST_F(AtTheRim, EdgesMeetTheTrueCircle) {
  const Box box{{0.2, 0.15, 0.25}};
  constexpr int kCorners = 2000;  // of a polygon for the rim, which is 1.2e-7 m within it
  ConvexCore barrel;
  for (int i = 0; i < kCorners; ++i)
    for (const double side : {-0.5, 0.5})
      barrel.vertices.emplace_back(kBarrel.radius * std::cos(2 * M_PI * i / kCorners), side * kBarrel.length,
                                   kBarrel.radius * std::sin(2 * M_PI * i / kCorners));
  std::vector<double> off, aslant;
  for (int i = 0; i < 200; ++i) {
    ConvexCore core;
    const auto closest = [&](const Pose& p) {
      buildCore(box, p, core);
      return closestPoints(barrel, core);
    };
    const Pose boxAt = placed(rotation(), direction(), kGap, [&](const Pose& p) { return closest(p).distance; });
    const ClosestPoints points = closest(boxAt);
    // Of the box an edge, not a corner or a face; of the barrel its rim.
    const Vec3 own = boxAt.inverse().apply(points.onB).cwiseAbs() - box.size / 2;
    if (std::abs(points.distance - kGap) > 1e-9 || (own.array() > -1e-5).count() != 2) continue;
    if (std::abs(points.onA.y()) < kBarrel.length / 2 - 1e-6 || std::hypot(points.onA.x(), points.onA.z()) < 0.0999)
      continue;
    const Manifold m = meet(kBarrel, {}, box, boxAt);
    ASSERT_FALSE(m.points.empty()) << i;
    off.push_back(std::abs(m.leastGap() - kGap));
    aslant.push_back((m.normal - (points.onB - points.onA).normalized()).norm());
  }
  // Where the edge's faces look at the barrel almost as squarely as the edge does, they are taken for what is met.
  ASSERT_GT(off.size(), 40u);
  for (auto* each : {&off, &aslant})
    std::nth_element(each->begin(), each->begin() + static_cast<std::ptrdiff_t>(each->size() * 4 / 5), each->end());
  EXPECT_LT(off[off.size() * 4 / 5], 1e-6) << "m, four of five";
  EXPECT_LT(aslant[aslant.size() * 4 / 5], 1e-3) << "four of five";
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
