// SPDX-License-Identifier: GPL-3.0-or-later
// Shapes fitted to surfaces, against surfaces whose tightest shapes are known.
#include "engine/shape/fit.h"

#include <gtest/gtest.h>

#include <cmath>
#include <random>

namespace calm {
namespace {

// A closed box, its corner points moved by `move`.
Surface boxSurface(const Vec3& size, const Pose& pose, const Vec3& center = Vec3::Zero()) {
  Surface s;
  for (int c = 0; c < 8; ++c)
    s.vertices.push_back(
        pose.apply(center + Vec3((c & 1) - 0.5, (c >> 1 & 1) - 0.5, (c >> 2 & 1) - 0.5).cwiseProduct(size)));
  for (const auto& [a, b, c, d] : {std::array{0, 4, 6, 2}, std::array{1, 3, 7, 5}, std::array{0, 1, 5, 4},
                                   std::array{2, 6, 7, 3}, std::array{0, 2, 3, 1}, std::array{4, 5, 7, 6}}) {
    s.triangles.push_back({a, b, c});
    s.triangles.push_back({a, c, d});
  }
  return s;
}
void add(Surface& to, const Surface& more) {
  const int first = static_cast<int>(to.vertices.size());
  to.vertices.insert(to.vertices.end(), more.vertices.begin(), more.vertices.end());
  for (auto t : more.triangles) to.triangles.push_back({t[0] + first, t[1] + first, t[2] + first});
}
// An upright square frame: a unit plate, 0.1 thick, with a square window of 0.6; closed, of volume 0.064.
Surface frameSurface() {
  Surface s;
  for (const double z : {-0.05, 0.05})
    for (const double half : {0.5, 0.3})
      for (const auto& [x, y] : {std::pair(-1, -1), std::pair(1, -1), std::pair(1, 1), std::pair(-1, 1)})
        s.vertices.emplace_back(half * x, half * y, z);
  // 0-3 outer back, 4-7 inner back, 8-11 outer front, 12-15 inner front.
  const auto quad = [&](int a, int b, int c, int d) {
    s.triangles.push_back({a, b, c});
    s.triangles.push_back({a, c, d});
  };
  for (int i = 0; i < 4; ++i) {
    const int j = (i + 1) % 4;
    quad(8 + i, 8 + j, 12 + j, 12 + i);  // front
    quad(j, i, 4 + i, 4 + j);            // back
    quad(i, j, 8 + j, 8 + i);            // outside
    quad(4 + j, 4 + i, 12 + i, 12 + j);  // window
  }
  return s;
}
const Pose kTurned{{0.3, -1, 2}, Quat(Eigen::AngleAxisd(0.8, Vec3(1, 2, -1).normalized()))};

TEST(Surface, KnowsItsVolumeAndWhetherItIsClosed) {
  Surface s = boxSurface({1, 2, 3}, kTurned);
  EXPECT_TRUE(s.isClosed());
  EXPECT_NEAR(s.volume(), 6, 1e-12);
  s.triangles.pop_back();
  EXPECT_FALSE(s.isClosed());
  const Surface frame = frameSurface();
  EXPECT_TRUE(frame.isClosed());
  EXPECT_NEAR(frame.volume(), 0.1 * (1 - 0.36), 1e-12);
}

TEST(Fit, TheBoxOfABoxIsItself) {
  const PlacedShape fit = fitBox(boxSurface({1, 2, 3}, kTurned));
  Vec3 size = std::get<Box>(fit.shape).size;
  std::sort(size.data(), size.data() + 3);
  EXPECT_LT((size - Vec3(1, 2, 3)).norm(), 1e-9);
  EXPECT_LT((fit.pose.position - kTurned.position).norm(), 1e-9);
}

TEST(Fit, TheSphereOfABoxGoesThroughItsCorners) {
  const PlacedShape fit = fitSphere(boxSurface({1, 2, 3}, kTurned));
  EXPECT_NEAR(std::get<Sphere>(fit.shape).radius, std::sqrt(14.0) / 2, 1e-9);
  EXPECT_LT((fit.pose.position - kTurned.position).norm(), 1e-9);
}

TEST(Fit, TheSphereOfManyPointsHoldsThemAndTouchesSome) {
  std::mt19937 random(3);
  std::normal_distribution<double> spread;
  Surface cloud;
  for (int i = 0; i < 4000; ++i) cloud.vertices.emplace_back(spread(random), 2 * spread(random), spread(random));
  const PlacedShape fit = fitSphere(cloud);
  double furthest = 0;
  for (const Vec3& v : cloud.vertices) furthest = std::max(furthest, (v - fit.pose.position).norm());
  EXPECT_NEAR(furthest, std::get<Sphere>(fit.shape).radius, 1e-9);
}

TEST(Fit, TheCapsuleOfARoundRodIsTheRod) {
  Surface rod;
  for (int i = 0; i < 24; ++i)
    for (const double y : {-1.0, 1.0})
      for (const double up : {0.0, 0.3, 0.6, 0.9, 1.5707963267948966}) {
        const double a = i * M_PI / 12;
        rod.vertices.push_back(
            kTurned.apply(0.2 * Vec3(std::cos(a) * std::cos(up), std::sin(up) * y, std::sin(a) * std::cos(up)) +
                          Vec3(0, 0.8 * y, 0)));
      }
  const PlacedShape fit = fitCapsule(rod);
  EXPECT_NEAR(std::get<Capsule>(fit.shape).radius, 0.2, 0.004) << "the tightest box's axis is the rod's";
  EXPECT_NEAR(std::get<Capsule>(fit.shape).length, 2, 0.01);
  EXPECT_GT(std::abs((fit.pose.rotation * Vec3::UnitY()).dot(kTurned.rotation * Vec3::UnitY())), 0.9999);
  EXPECT_LT(checkFit(rod, fit).pokesOut, 1e-6);
}

TEST(Fit, PiecesLeaveAWindowOpen) {
  const Surface frame = frameSurface();
  EXPECT_NEAR(checkFit(frame, fitHull(frame)).excess, 0.36, 0.02) << "the hull closes the window";
  const PlacedShape pieces = fitPieces(frame, 8, 0.02);
  const FitCheck check = checkFit(frame, pieces);
  EXPECT_GT(check.covered, 0.99);
  EXPECT_LT(check.excess, 0.06);
  EXPECT_LT(check.pokesOut, 1e-9);
  EXPECT_LE(std::get<Compound>(pieces.shape).shapes.size(), 8u);
  EXPECT_FALSE(castRay({{0, 0, -3}, Vec3::UnitZ()}, pieces.shape, pieces.pose)) << "one can look through it";
}

TEST(Fit, PiecesOfSomethingConvexAreOne) {
  const PlacedShape fit = fitPieces(boxSurface({1, 2, 3}, kTurned), 8, 0.02);
  EXPECT_TRUE(std::holds_alternative<ConvexHull>(fit.shape));
}

TEST(Fit, ChecksTellWhereTheyDiffer) {
  Surface two = boxSurface({1, 1, 1}, {});
  add(two, boxSurface({1, 1, 1}, {}, {3, 0, 0}));
  const FitCheck hull = checkFit(two, fitHull(two));
  EXPECT_NEAR(hull.excess, 0.5, 0.01);
  EXPECT_NEAR(hull.covered, 1, 0.01);
  ASSERT_FALSE(hull.emptiness.empty());
  for (const Vec3& p : hull.emptiness) EXPECT_TRUE(p.x() > 0.5 && p.x() < 2.5) << "between the two, not at " << p.x();
  const FitCheck small = checkFit(two, {Box{Vec3::Ones()}, {}});
  EXPECT_NEAR(small.covered, 0.5, 0.01);
  EXPECT_NEAR(small.pokesOut, 3, 1e-9) << "from x = 0.5 to 3.5";
  EXPECT_EQ(small.outside.size(), 8u);
}

TEST(Fit, RefusesWhatHasNoExtent) {
  Surface flat;
  flat.vertices = {{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}};
  flat.triangles = {{0, 1, 2}, {0, 2, 3}};
  EXPECT_THROW(fitHull(flat), std::invalid_argument);
  EXPECT_THROW(fitBox(flat), std::invalid_argument);
  EXPECT_THROW(fitPieces(flat, 4, 0.1), std::invalid_argument);
  EXPECT_THROW(fitSphere({}), std::invalid_argument);
  flat.vertices[0].x() = NAN;
  EXPECT_THROW(fitSphere(flat), std::invalid_argument);
}

}  // namespace
}  // namespace calm
