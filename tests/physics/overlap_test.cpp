// SPDX-License-Identifier: GPL-3.0-or-later
// Blocks and hulls that strike each other with edges and corners, at up to a step's way of 2 cm, keep out of each
// other.
#include <gtest/gtest.h>

#include <algorithm>
#include <memory>
#include <vector>

#include "engine/contact/core.h"
#include "engine/shape/hull.h"
#include "physics/random.h"

namespace calm::physics {
namespace {

// The separating axis theorem (Ericson 2005, section 5.2.1): over all faces and pairs of edges, the largest distance
// that a plane between the two leaves; below zero, how deep they overlap. By sums over all corners, for a check.
double distanceBetween(const ConvexCore& a, const ConvexCore& b) {
  double most = -1e300;
  const auto take = [&](const Vec3& normal) {
    double highest = -1e300, lowest = 1e300;
    for (const Vec3& v : a.vertices) highest = std::max(highest, v.dot(normal));
    for (const Vec3& v : b.vertices) lowest = std::min(lowest, v.dot(normal));
    most = std::max(most, lowest - highest);
  };
  for (const CoreFace& face : a.faces) take(face.normal);
  for (const CoreFace& face : b.faces) take(-face.normal);
  for (const Vec3& along : a.edgeDirections)
    for (const Vec3& other : b.edgeDirections) {
      const Vec3 normal = along.cross(other);
      if (normal.norm() < 1e-6) continue;
      take(normal.normalized());
      take(-normal.normalized());
    }
  return most;
}

class Scatter : private Random {
 public:
  explicit Scatter(unsigned seed) : Random(seed) {}

  // `count` parts that fall on a fixed block, each hinged to the one before if `hinged`.
  void drop(int count, bool hinged) {
    hinged_ = hinged;
    BodyDef below;
    below.role = Role::fixed;
    below.shapes = {{solidOf(1), {}}};
    below.pose.rotation = rotation();
    below.friction = uniform(0, 1);
    add(below);
    Vec3 at(uniform(-0.4, 0.4), uniform(1.6, 2.2), uniform(-0.4, 0.4));
    const Vec3 velocity(uniform(-1, 1), uniform(-8, -1), uniform(-1, 1));
    for (int i = 0; i < count; ++i) {
      const Shape shape = hinged ? Shape(Box{{uniform(0.05, 0.2), kRod, uniform(0.05, 0.2)}}) : solidOf(1);
      BodyDef def = tangible(shape, uniform(0.5, 4), {at, hinged ? Quat::Identity() : rotation()});
      def.velocity = velocity;
      if (!hinged) def.angularVelocity = vector(10);
      def.friction = below.friction;
      const BodyId part = add(def);
      constexpr double kPlay = 0.02;  // m
      if (hinged && i > 0) {
        JointDef hinge =
            joint(JointType::hinge, part - 1, {0, (kRod + kPlay) / 2, 0}, part, {0, -(kRod + kPlay) / 2, 0});
        hinge.frameA.rotation = hinge.frameB.rotation = rotation();
        world_.addJoint(hinge);
      }
      at.y() += hinged ? kRod + kPlay : 1.8;
    }
  }

  // m, that any two are ever in each other, over so long (s); but for what a joint holds together.
  double deepestIn(double seconds) {
    double deepest = 0;
    for (int frame = 0; frame < seconds / world_.settings().frame; ++frame) {
      world_.step();
      std::vector<ConvexCore> cores(shapes_.size());
      for (std::size_t i = 0; i < shapes_.size(); ++i)
        buildCore(shapes_[i], world_.state(static_cast<BodyId>(i) + first_).pose, cores[i]);
      for (std::size_t i = 0; i < cores.size(); ++i)
        for (std::size_t k = 0; k < (hinged_ ? std::min<std::size_t>(i, 1) : i); ++k)
          deepest = std::max(deepest, -distanceBetween(cores[k], cores[i]));
    }
    return deepest;
  }

 private:
  static constexpr double kRod = 0.5;  // m

  // A block or the hull of a few points, of about that size.
  Shape solidOf(double size) {
    const Vec3 share(uniform(0.2, 1), uniform(0.2, 1), uniform(0.2, 1));
    if (whole(2) == 0) return Box{size * share};
    std::vector<Vec3> points;
    for (int i = 5 + whole(10); i > 0; --i) points.push_back(0.6 * size * vector(1).normalized().cwiseProduct(share));
    return ConvexHull{std::make_shared<HullData>(makeHull(points))};
  }

  BodyId add(const BodyDef& def) {
    const BodyId id = world_.addBody(def);
    if (shapes_.empty()) first_ = id;
    shapes_.push_back(def.shapes[0].shape);
    return id;
  }

  World world_;
  std::vector<Shape> shapes_;
  BodyId first_ = 0;
  bool hinged_ = false;
};

struct Fall {
  const char* name;
  int parts;
  bool hinged;
};
std::ostream& operator<<(std::ostream& out, const Fall& fall) {
  return out << fall.name;
}

class Overlap : public testing::TestWithParam<Fall> {};

// What strikes is met at its instant, or not before it is as deep as it goes in a step. The need: as deep as a quarter
// of that, and a millimetre in the mean.
TEST_P(Overlap, IsFarBelowAStepsWay) {
  constexpr unsigned kTries = 150;
  constexpr double kDeepest = 5e-3, kMean = 1e-3;  // m
  double deepest = 0, sum = 0;
  for (unsigned seed = 1; seed <= kTries; ++seed) {
    Scatter scatter(seed);
    scatter.drop(GetParam().parts, GetParam().hinged);
    const double deep = scatter.deepestIn(1.5);
    deepest = std::max(deepest, deep);
    sum += deep;
  }
  report(std::string("deepest overlap of ") + GetParam().name, deepest, kDeepest, "m");
  report(std::string("mean of the deepest overlaps of ") + GetParam().name, sum / kTries, kMean, "m");
  EXPECT_LT(deepest, kDeepest);
  EXPECT_LT(sum / kTries, kMean);
}

INSTANTIATE_TEST_SUITE_P(Falls, Overlap,
                         testing::Values(Fall{"a block or hull on another", 1, false},
                                         Fall{"four, one after the other", 4, false},
                                         Fall{"two hinged rods on a block", 2, true}));

}  // namespace
}  // namespace calm::physics
