// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/core.h"

#include <gtest/gtest.h>

#include <random>

namespace calm {
namespace {

Quat randomRotation(std::mt19937& random) {
  std::normal_distribution<double> n;
  return Quat(n(random), n(random), n(random), n(random)).normalized();
}

// Nearest point of a box to a point: clamp in its frame.
TEST(ClosestPoints, OfAPointAndABoxAreTheClampedPoint) {
  std::mt19937 random(3);
  std::uniform_real_distribution<double> spread(-2, 2);
  for (int i = 0; i < 300; ++i) {
    const Pose pose{{spread(random), spread(random), spread(random)}, randomRotation(random)};
    const Vec3 half(0.3, 0.5, 0.2), p(spread(random), spread(random), spread(random));
    ConvexCore box, point;
    buildCore(Box{2 * half}, pose, box);
    buildCore(Sphere{0.1}, {p, Quat::Identity()}, point);
    const Vec3 nearest = pose.apply(pose.applyInverse(p).cwiseMax(-half).cwiseMin(half));
    const ClosestPoints found = closestPoints(point, box);
    EXPECT_NEAR(found.distance, (p - nearest).norm(), 1e-9);
    if (found.distance > 0) {
      EXPECT_LE((found.onB - nearest).norm(), 1e-7);
    }
  }
}

// Two boxes: the distance is no larger than that between any sampled points, and the closest points lie on the boxes.
TEST(ClosestPoints, OfTwoBoxesAreNotBeatenBySamples) {
  std::mt19937 random(5);
  std::uniform_real_distribution<double> unit(-0.5, 0.5);
  for (int i = 0; i < 60; ++i) {
    const Pose pa{Vec3::Zero(), randomRotation(random)};
    const Pose pb{Vec3(2, 4 * unit(random), 4 * unit(random)), randomRotation(random)};
    const Vec3 size(1, 0.6, 0.8);
    ConvexCore a, b;
    buildCore(Box{size}, pa, a);
    buildCore(Box{size}, pb, b);
    const ClosestPoints found = closestPoints(a, b);
    for (int k = 0; k < 400; ++k) {
      const Vec3 p = pa.apply(Vec3(unit(random), unit(random), unit(random)).cwiseProduct(size));
      const Vec3 q = pb.apply(Vec3(unit(random), unit(random), unit(random)).cwiseProduct(size));
      ASSERT_LE(found.distance, (p - q).norm() + 1e-9);
    }
    if (found.distance == 0) continue;
    const Vec3 la = pa.applyInverse(found.onA).cwiseAbs(), lb = pb.applyInverse(found.onB).cwiseAbs();
    EXPECT_TRUE((la.array() <= (size / 2).array() + 1e-9).all());
    EXPECT_TRUE((lb.array() <= (size / 2).array() + 1e-9).all());
  }
}

TEST(ClosestPoints, OverlapIsDistanceZero) {
  ConvexCore a, b;
  buildCore(Box{{1, 1, 1}}, {}, a);
  buildCore(Box{{1, 1, 1}}, {{0.5, 0.2, 0}, Quat::Identity()}, b);
  EXPECT_EQ(closestPoints(a, b).distance, 0);
}

}  // namespace
}  // namespace calm
