// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts solved exactly: every point obeys its law, and every body gets the momentum of its contacts.
#include "engine/solve/contact_newton.h"

#include <gtest/gtest.h>

#include <cmath>

namespace calm {
namespace {

constexpr double kSide = 0.5, kMass = 10, kFall = 0.02;  // m, kg, m/s
constexpr double kSoftness = 0.003;
constexpr double kGiven = 0.01;  // N s, impulse at each point that the velocities are with

// Cubes on each other, on ground that is body 0; all fall.
struct Tower {
  std::vector<Body> bodies{Body{}};
  Touches touches;

  Tower(int count, double friction) {
    for (int i = 0; i < count; ++i) {
      Body b;
      b.role = Role::dynamic;
      b.mass = kMass;
      b.inverseMass = b.linearResponse = 1 / kMass;
      b.response = 6 / (kMass * kSide * kSide) * Mat3::Identity();
      b.position = Vec3(0, kSide * (i + 0.5), 0);
      b.velocity = Vec3(0, -kFall, 0);
      bodies.push_back(b);
    }
    for (int i = 0; i < count; ++i) {
      ContactPatch patch{};
      patch.a = i, patch.b = i + 1;
      patch.first = touches.size();
      patch.directions << Vec3::UnitY(), Vec3::UnitZ(), Vec3::UnitX();
      patch.middle = Vec3(0, kSide * i, 0);
      patch.friction = friction;
      for (const double x : {-0.5, 0.5})
        for (const double z : {-0.5, 0.5}) {
          ContactPoint p{};
          p.patch = i;
          p.position = patch.middle + kSide * Vec3(x, 0, z);
          p.armA = p.position - bodies[patch.a].position, p.armB = p.position - bodies[patch.b].position;
          p.impulse = Vec3(kGiven, 0, 0);
          touches.points.push_back(p);
        }
      patch.end = touches.size();
      touches.patches.push_back(patch);
    }
    touches.arrange(bodies);
  }

  bool solve() { return ContactNewton().solve(touches, touches.sets.at(0), {kSoftness, nullptr, 1e-5}, bodies); }
  // What it was given more.
  Vec3 impulseOf(const ContactPatch& patch) const {
    Vec3 sum = Vec3::Zero();
    for (int i = patch.first; i < patch.end; ++i)
      sum += patch.directions * (touches.points[i].impulse - Vec3(kGiven, 0, 0));
    return sum;
  }
  Vec3 slipAt(const ContactPoint& p) const {
    const ContactPatch& patch = touches.patches[p.patch];
    return bodies[patch.b].velocityAt(p.armB) - bodies[patch.a].velocityAt(p.armA);
  }
};

TEST(ContactNewton, StopsATowerAtOnce) {
  Tower tower(6, 0.5);
  const std::vector<Body> before = tower.bodies;
  ASSERT_TRUE(tower.solve());
  for (int i = 1; i <= 6; ++i) {
    const Body& b = tower.bodies[i];
    Vec3 got = tower.impulseOf(tower.touches.patches[i - 1]);
    if (i < 6) got -= tower.impulseOf(tower.touches.patches[i]);
    EXPECT_LE((kMass * (b.velocity - before[i].velocity) - got).norm(), 1e-12) << "momentum of body " << i;
    EXPECT_LE(b.spin.norm(), 1e-12) << "body " << i;
  }
  // A point between two of these has the mobility 2/m (1 + 3/2 + 3/2) along its normal, one on the ground half of that.
  for (const ContactPoint& p : tower.touches.points) {
    const double mobility = (p.patch == 0 ? 1 : 2) * 4 / kMass;
    EXPECT_NEAR(tower.slipAt(p).y(), -kSoftness * mobility * p.impulse[0], 1e-12) << "patch " << p.patch;
    EXPECT_GT(p.impulse[0], 0);
  }
}

TEST(ContactNewton, KeepsFrictionInItsCone) {
  for (const double speed : {0.004, 1.0}) {
    constexpr double kFriction = 0.3;
    Tower one(1, kFriction);
    one.bodies[1].velocity.x() = speed;
    ASSERT_TRUE(one.solve());
    const Vec3 impulse = one.impulseOf(one.touches.patches[0]);
    if (speed < kFriction * kFall) {
      for (const ContactPoint& p : one.touches.points) EXPECT_LE(std::abs(one.slipAt(p).x()), 1e-5 * speed);
    } else {
      EXPECT_NEAR(impulse.x(), -kFriction * (impulse.y() + 4 * kGiven), 1e-5 * kMass);
      EXPECT_NEAR(one.bodies[1].velocity.x(), speed + impulse.x() / kMass, 1e-12);
    }
  }
}

TEST(ContactNewton, PullsNothing) {
  Tower two(2, 0.5);
  two.bodies[2].velocity.y() = 1;  // it is on its way up
  ASSERT_TRUE(two.solve());
  for (int i = two.touches.patches[1].first; i < two.touches.size(); ++i)
    EXPECT_EQ(two.touches.points[i].impulse, Vec3::Zero());
  EXPECT_NEAR(two.bodies[2].velocity.y(), 1 - 4 * kGiven / kMass, 1e-12);
  EXPECT_NEAR(two.bodies[1].velocity.y(), 0, 2 * kSoftness * kFall);
}

TEST(ContactNewton, LeavesLargeSetsToSweeps) {
  Tower tall(200, 0.5);
  const Vec3 before = tall.bodies[1].velocity;
  EXPECT_FALSE(tall.solve());
  EXPECT_EQ(tall.bodies[1].velocity, before);
  EXPECT_EQ(tall.touches.points[0].impulse, Vec3(kGiven, 0, 0));
}

}  // namespace
}  // namespace calm
