// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/shape.h"

#include <gtest/gtest.h>

#include <random>

namespace calm {
namespace {

bool inside(const Shape& shape, const Vec3& p) {
  if (const auto* s = std::get_if<Sphere>(&shape)) return p.norm() <= s->radius;
  if (const auto* c = std::get_if<Capsule>(&shape)) {
    const double y = std::clamp(p.y(), -c->coreHalfLength(), c->coreHalfLength());
    return (p - Vec3(0, y, 0)).norm() <= c->radius;
  }
  if (const auto* c = std::get_if<Cylinder>(&shape))
    return std::hypot(p.x(), p.z()) <= c->radius && std::abs(p.y()) <= c->length / 2;
  return (p.cwiseAbs().array() <= (std::get<Box>(shape).size / 2).array()).all();
}

class Solid : public testing::TestWithParam<Shape> {};

// The closed forms against a sum over a fine grid of points.
TEST_P(Solid, VolumeAndInertiaMatchASumOverPoints) {
  const Shape& shape = GetParam();
  const Aabb box = boundsOf(shape, {});
  constexpr int kCells = 120;
  const Vec3 cell = (box.high - box.low) / kCells;
  double volume = 0;
  Mat3 inertia = Mat3::Zero();
  for (int i = 0; i < kCells; ++i)
    for (int j = 0; j < kCells; ++j)
      for (int k = 0; k < kCells; ++k) {
        const Vec3 p = box.low + cell.cwiseProduct(Vec3(i + 0.5, j + 0.5, k + 0.5));
        if (!inside(shape, p)) continue;
        volume += cell.prod();
        inertia += cell.prod() * (p.squaredNorm() * Mat3::Identity() - p * p.transpose());
      }
  EXPECT_NEAR(volume, volumeOf(shape), 0.01 * volume);
  const Mat3 closed = massPropertiesOf(shape, volumeOf(shape)).inertia;
  EXPECT_LE((inertia - closed).norm(), 0.015 * closed.norm());
}

TEST_P(Solid, RaysEnterOnTheSurface) {
  const Shape& shape = GetParam();
  const Pose pose{{0.3, -0.2, 1}, Quat(Eigen::AngleAxisd(0.8, Vec3(1, 2, -1).normalized()))};
  std::mt19937 random(7);
  std::uniform_real_distribution<double> spread(-1, 1);
  int hits = 0;
  for (int i = 0; i < 500; ++i) {
    const Vec3 origin = Vec3(spread(random), spread(random), spread(random)).normalized() * 5;
    const Vec3 target = pose.apply(0.6 * Vec3(spread(random), spread(random), spread(random)));
    const Ray ray{origin, (target - origin).normalized()};
    const auto hit = castRay(ray, shape, pose);
    if (!hit) continue;
    ++hits;
    const Vec3 p = origin + hit->distance * ray.direction;
    EXPECT_FALSE(inside(shape, pose.applyInverse(p - 1e-6 * ray.direction)));
    EXPECT_TRUE(inside(shape, pose.applyInverse(p + 1e-6 * ray.direction)));
    EXPECT_LE(hit->normal.dot(ray.direction), 0);
    EXPECT_NEAR(hit->normal.norm(), 1, 1e-12);
  }
  EXPECT_GT(hits, 50);
}

INSTANTIATE_TEST_SUITE_P(Shapes, Solid,
                         testing::Values(Shape(Sphere{0.7}), Shape(Capsule{0.3, 1.5}), Shape(Box{{0.5, 1.2, 0.9}}),
                                         Shape(Cylinder{0.4, 0.9})));

TEST(FaultOf, NamesBadSizes) {
  EXPECT_EQ(faultOf(Shape(Box{{1, 1, 1}})), "");
  EXPECT_NE(faultOf(Shape(Box{{1, 0, 1}})).find("size"), std::string::npos);
  EXPECT_NE(faultOf(Shape(Sphere{-1})).find("radius"), std::string::npos);
  EXPECT_NE(faultOf(Shape(Sphere{std::nan("")})).find("radius"), std::string::npos);
  EXPECT_NE(faultOf(Shape(Capsule{0.5, 0.9})).find("twice the radius"), std::string::npos);
}

}  // namespace
}  // namespace calm
