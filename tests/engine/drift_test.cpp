// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/drift.h"

#include <gtest/gtest.h>

#include <random>

namespace calm {
namespace {

// Bodies of every kind of inertia, slow and fast, some with their axes held, one of them led by keys.
std::vector<Body> makeBodies(int count) {
  std::mt19937 random{3};
  std::normal_distribution<double> normal;
  const auto vector = [&] { return Vec3(normal(random), normal(random), normal(random)); };
  const Vec3 moments[] = {Vec3(2, 2, 2), Vec3(1, 3, 3), Vec3(3, 1, 3), Vec3(2, 2, 1), Vec3(1, 2, 2.5), Vec3(2.5, 1, 2)};
  std::vector<Body> bodies(count);
  for (int i = 0; i < count; ++i) {
    Body& b = bodies[i];
    b.role = i == 5 ? Role::kinematic : Role::dynamic;
    b.inertia = PrincipalInertia(moments[i % 6]);
    b.position = vector();
    b.orientation = Quat(normal(random), normal(random), normal(random), normal(random)).normalized();
    b.axes = b.orientation.toRotationMatrix();
    b.velocity = vector();
    b.spin = (i % 7 == 3 ? 200 : 2) * vector();
    b.held = i % 4 == 1 ? 0.7 : 0;
    b.setMark();
  }
  return bodies;
}

// Side by side as each by itself: 19 leave some over.
TEST(Drift, OfManyIsThatOfEach) {
  constexpr double kStep = 1.0 / 480;
  std::vector<Body> together = makeBodies(19), alone = together;
  std::vector<int> ids;
  for (int i = 0; i < static_cast<int>(together.size()); ++i) ids.push_back(i);
  for (int step = 0; step < 5; ++step) {
    driftAll(together, ids, kStep);
    for (Body& b : alone) b.drift(kStep);
    for (int i = 0; i < static_cast<int>(alone.size()); ++i) {
      const Body &a = alone[i], &b = together[i];
      const double size = 1 + a.spin.norm();
      EXPECT_LE((a.position - b.position).norm(), 1e-15 * (1 + a.position.norm())) << "body " << i;
      EXPECT_LE((a.orientation.coeffs() - b.orientation.coeffs()).norm(), 1e-14) << "body " << i;
      EXPECT_LE((a.axes - b.axes).norm(), 1e-14) << "body " << i;
      EXPECT_LE((a.spin - b.spin).norm(), 1e-13 * size) << "body " << i;
      EXPECT_EQ(a.kickedSpin.norm() > 0, b.kickedSpin.norm() > 0) << "body " << i;
    }
    // A kick in between for some, so that their momentum is taken anew.
    for (std::vector<Body>* all : {&together, &alone})
      for (std::size_t i = 0; i < all->size(); ++i) {
        if (i % 3 == 0) (*all)[i].spin += Vec3(0.1, -0.2, 0.3);
        (*all)[i].setMark();
      }
  }
}

// Conservation, as of one: the angular momentum in the world to round-off, the length of the quaternion too.
TEST(Drift, OfManyKeepsTheAngularMomentum) {
  std::vector<Body> bodies = makeBodies(16);
  std::vector<int> ids;
  std::vector<Vec3> before;
  for (int i = 0; i < static_cast<int>(bodies.size()); ++i) {
    ids.push_back(i);
    before.push_back(bodies[i].worldInertia() * bodies[i].spin);
  }
  for (int step = 0; step < 1000; ++step) {
    driftAll(bodies, ids, 1e-3);
    for (Body& b : bodies) b.setMark();
  }
  for (int i = 0; i < static_cast<int>(bodies.size()); ++i) {
    if (!bodies[i].dynamic()) continue;
    EXPECT_LE((bodies[i].worldInertia() * bodies[i].spin - before[i]).norm(), 1e-11 * before[i].norm()) << "body " << i;
    EXPECT_NEAR(bodies[i].orientation.norm(), 1, 1e-14);
  }
}

}  // namespace
}  // namespace calm
