// SPDX-License-Identifier: GPL-3.0-or-later
// Hulls, compounds and meshes.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>
#include <stdexcept>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"

namespace calm {
namespace {

std::vector<Vec3> corners(const Vec3& size, const Vec3& at = Vec3::Zero()) {
  std::vector<Vec3> points;
  for (int i = 0; i < 8; ++i)
    points.push_back(at + Vec3(i & 1 ? 0.5 : -0.5, i & 2 ? 0.5 : -0.5, i & 4 ? 0.5 : -0.5).cwiseProduct(size));
  return points;
}

ConvexHull hullOf(const std::vector<Vec3>& points) {
  return {std::make_shared<HullData>(makeHull(points))};
}

TEST(Hull, OfABoxIsThatBox) {
  std::vector<Vec3> points = corners({1, 2, 3}, {4, 5, 6});
  std::mt19937 random(3);
  std::uniform_real_distribution<double> inside(-0.49, 0.49);
  for (int i = 0; i < 50; ++i)
    points.push_back(Vec3(4, 5, 6) + Vec3(inside(random), 2 * inside(random), 3 * inside(random)));
  const HullData hull = makeHull(points);
  EXPECT_EQ(hull.vertices.size(), 8u);
  EXPECT_EQ(hull.faces.size(), 6u);
  EXPECT_EQ(hull.edgeDirections.size(), 3u);
  EXPECT_NEAR(hull.volume, 6, 1e-12);
  EXPECT_LT((hull.center - Vec3(4, 5, 6)).norm(), 1e-12);
  const MassProperties box = massPropertiesOf(Box{{1, 2, 3}}, 6);
  EXPECT_LT((hull.inertia - box.inertia).norm(), 1e-11);
  for (const HullData::Face& f : hull.faces) {
    EXPECT_EQ(f.vertices.size(), 4u);
    const Vec3 area = (hull.vertices[f.vertices[1]] - hull.vertices[f.vertices[0]])
                          .cross(hull.vertices[f.vertices[2]] - hull.vertices[f.vertices[1]]);
    EXPECT_GT(area.dot(f.normal), 0) << "corners run counter-clockwise seen from outside";
  }
}

// A right-angled tetrahedron with legs a: volume a^3/6, centre at a/4.
TEST(Hull, TetrahedronHasItsVolumeAndCentre) {
  const HullData hull = makeHull({{0, 0, 0}, {2, 0, 0}, {0, 2, 0}, {0, 0, 2}});
  EXPECT_NEAR(hull.volume, 8.0 / 6, 1e-12);
  EXPECT_LT((hull.center - Vec3(0.5, 0.5, 0.5)).norm(), 1e-12);
  // About its centre Ixx = 3 V a^2 / 40 for density 1.
  EXPECT_NEAR(hull.inertia(0, 0), 3 * hull.volume * 4 / 40, 1e-12);
}

TEST(Hull, RefusesWhatHasNoVolume) {
  EXPECT_THROW(makeHull({{0, 0, 0}, {1, 0, 0}, {0, 1, 0}}), std::invalid_argument);
  EXPECT_THROW(makeHull({{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {1, 1, 0}, {0.3, 0.2, 0}}), std::invalid_argument);
  EXPECT_THROW(makeHull({{1, 1, 1}, {1, 1, 1}, {1, 1, 1}, {1, 1, 1}}), std::invalid_argument);
  EXPECT_THROW(makeHull({{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, std::nan("")}}), std::invalid_argument);
}

TEST(Hull, RayEntersWhereTheBoxSays) {
  const Shape hull = hullOf(corners({1, 2, 3})), box = Box{{1, 2, 3}};
  const Pose pose{{0.3, -0.2, 0.1}, Quat(Eigen::AngleAxisd(0.7, Vec3(1, 2, 3).normalized()))};
  std::mt19937 random(5);
  std::normal_distribution<double> normal;
  int hits = 0;
  for (int i = 0; i < 300; ++i) {
    const Vec3 from = 5 * Vec3(normal(random), normal(random), normal(random)).normalized();
    const Vec3 to = Vec3(normal(random), normal(random), normal(random)) * 0.7;
    const Ray ray{from, (to - from).normalized()};
    const auto a = castRay(ray, hull, pose), b = castRay(ray, box, pose);
    ASSERT_EQ(a.has_value(), b.has_value()) << "ray " << i;
    if (!a) continue;
    ++hits;
    EXPECT_NEAR(a->distance, b->distance, 1e-12);
    EXPECT_LT((a->normal - b->normal).norm(), 1e-9);
  }
  EXPECT_GT(hits, 100);
}

// A dumb-bell of two balls: parallel axes.
TEST(Compound, AddsUpItsShapes) {
  const Shape bell = Compound{{{Sphere{0.1}, {{-0.5, 0, 0}}}, {Sphere{0.1}, {{0.5, 0, 0}}}}};
  const MassProperties m = massPropertiesOf(bell, 4);
  EXPECT_NEAR(m.mass, 4, 1e-12);
  EXPECT_LT(m.center.norm(), 1e-12);
  EXPECT_NEAR(m.inertia(0, 0), 4 * 0.4 * 0.01, 1e-12);
  EXPECT_NEAR(m.inertia(1, 1), 4 * 0.4 * 0.01 + 4 * 0.25, 1e-12);
  const auto hit = castRay({{-0.5, 3, 0}, {0, -1, 0}}, bell, {});
  ASSERT_TRUE(hit);
  EXPECT_NEAR(hit->distance, 2.9, 1e-12);
  EXPECT_THAT(faultOf(Shape(Compound{})), testing::HasSubstr("at least one shape"));
}

TEST(Mesh, RayMeetsItFromOutsideOnly) {
  const Shape mesh =
      TriangleMesh{std::make_shared<MeshData>(makeHeightField(5, 4, 0.5, 1, std::vector<double>(20, 2.0)))};
  const auto hit = castRay({{0.3, 5, 0.2}, {0, -1, 0}}, mesh, {});
  ASSERT_TRUE(hit);
  EXPECT_NEAR(hit->distance, 3, 1e-12);
  EXPECT_LT((hit->normal - Vec3::UnitY()).norm(), 1e-12);
  EXPECT_FALSE(castRay({{0.3, 0, 0.2}, {0, 1, 0}}, mesh, {})) << "from below";
  EXPECT_FALSE(castRay({{1.3, 5, 0.2}, {0, -1, 0}}, mesh, {})) << "beside it";
}

TEST(Mesh, OnlyEdgesThatStickOutAreSharp) {
  const MeshData flat = makeHeightField(3, 3, 1, 1, std::vector<double>(9, 0.0));
  int sharp = 0;
  for (const auto& t : flat.triangles)
    for (const bool s : t.sharp) sharp += s;
  EXPECT_EQ(sharp, 8) << "the rim alone";
  const MeshData ridge = makeHeightField(3, 2, 1, 1, {0, 1, 0, 0, 1, 0});
  const MeshData valley = makeHeightField(3, 2, 1, 1, {1, 0, 1, 1, 0, 1});
  const auto count = [](const MeshData& m) {
    int n = 0;
    for (const auto& t : m.triangles)
      for (const bool s : t.sharp) n += s;
    return n;
  };
  EXPECT_EQ(count(ridge) - count(valley), 2) << "the ridge, from both its sides";
}

// Whether an edge of each triangle lacks its neighbour, not how it is wound, makes a sheet.
TEST(Mesh, WithOpenEdgesIsASheet) {
  const std::vector<Vec3> corners{{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}};
  const MeshData closed = makeMesh(corners, {{0, 2, 1}, {0, 1, 3}, {1, 2, 3}, {2, 0, 3}}),
                 open = makeMesh(corners, {{0, 2, 1}, {0, 1, 3}, {1, 2, 3}}),
                 turnedOver = makeMesh(corners, {{0, 2, 1}, {0, 1, 3}, {1, 2, 3}, {0, 2, 3}}),
                 twoSided = makeMesh(corners, {{0, 2, 1}, {0, 1, 2}});
  EXPECT_FALSE(closed.sheet);
  EXPECT_TRUE(open.sheet);
  EXPECT_TRUE(turnedOver.sheet);
  EXPECT_FALSE(twoSided.sheet) << "each side has its own triangle";
  EXPECT_FALSE(makeHeightField(2, 2, 1, 1, {0, 0, 0, 0}).sheet) << "solid below";
  // The ridge of a roof is sharp from above and a hollow from below.
  const MeshData roof = makeMesh({{-1, -1, 0}, {-1, -1, 1}, {0, 0, 0}, {0, 0, 1}, {1, -1, 0}, {1, -1, 1}},
                                 {{0, 1, 2}, {1, 3, 2}, {2, 3, 4}, {3, 5, 4}});
  EXPECT_TRUE(roof.triangles[1].sharp[1]);
  EXPECT_FALSE(roof.triangles[1].sharpBehind[1]);
}

TEST(Mesh, SheetsAreSeenFromBothSides) {
  const Shape sheet =
      TriangleMesh{std::make_shared<MeshData>(makeMesh({{0, 0, 0}, {0, 0, 1}, {1, 0, 0}}, {{0, 1, 2}}))};
  for (const double side : {1.0, -1.0}) {
    const auto hit = castRay({{0.2, 3 * side, 0.2}, {0, -side, 0}}, sheet, {});
    ASSERT_TRUE(hit) << side;
    EXPECT_NEAR(hit->distance, 3, 1e-12);
    EXPECT_LT((hit->normal - side * Vec3::UnitY()).norm(), 1e-12) << "towards where it came from";
  }
}

TEST(Mesh, RefusesNonsense) {
  EXPECT_THROW(makeMesh({{0, 0, 0}, {1, 0, 0}, {0, 1, 0}}, {{0, 1, 3}}), std::invalid_argument);
  EXPECT_THROW(makeMesh({{0, 0, 0}, {1, 0, 0}, {2, 0, 0}}, {{0, 1, 2}}), std::invalid_argument);
  EXPECT_THROW(makeHeightField(3, 3, 1, 1, {0, 1}), std::invalid_argument);
}

}  // namespace
}  // namespace calm
