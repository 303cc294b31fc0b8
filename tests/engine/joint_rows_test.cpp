// SPDX-License-Identifier: GPL-3.0-or-later
// Every joint type's Jacobian against finite differences of its errors, at poses off the constraint too.
#include <gtest/gtest.h>

#include <random>

#include "engine/joint/joint.h"

namespace calm {
namespace {

class JointRows : public testing::TestWithParam<JointType> {};

TEST_P(JointRows, JacobianIsTheDerivativeOfTheErrors) {
  std::mt19937 random(static_cast<unsigned>(GetParam()) + 1);
  std::normal_distribution<double> normal;
  const auto vector = [&] { return Vec3(normal(random), normal(random), normal(random)); };
  const auto rotation = [&] {
    return Quat(normal(random), normal(random), normal(random), normal(random)).normalized();
  };
  const RowCount count = rowCount(GetParam());
  for (int trial = 0; trial < 10; ++trial) {
    Body a, b;
    for (Body* body : {&a, &b}) {
      body->role = Role::dynamic;
      body->inertia = PrincipalInertia(Vec3(1, 1, 1));
      body->position = vector();
      body->orientation = rotation();
      body->axes = body->orientation.toRotationMatrix();
      body->velocity = vector();
      body->spin = vector();
    }
    const JointGeometry g{vector(), vector(), rotation().toRotationMatrix(), rotation().toRotationMatrix()};
    const auto errorsAfter = [&](double h) {
      Body movedA = a, movedB = b;
      movedA.setMark(), movedA.drift(h);
      movedB.setMark(), movedB.drift(h);
      std::vector<double> memory(RowBlock::storage(count.rows, count.angular, {count.pivot}));
      RowBlock rows(memory.data(), count.rows, {count.pivot});
      evaluateRows(GetParam(), g, movedA, movedB, rows);
      return std::vector<double>(rows.error(), rows.error() + count.rows);
    };
    std::vector<double> memory(RowBlock::storage(count.rows, count.angular, {count.pivot}));
    RowBlock rows(memory.data(), count.rows, {count.pivot});
    evaluateRows(GetParam(), g, a, b, rows);
    EXPECT_EQ(rows.linear(), count.rows - count.angular);
    const double h = 1e-5;
    const std::vector<double> before = errorsAfter(-h), after = errorsAfter(h);
    for (int r = 0; r < count.rows; ++r) {
      Eigen::Matrix<double, kRowWidth, 1> motion;
      motion << a.velocity, a.spin, b.velocity, b.spin;
      const double rate = rows.fullRow(r).dot(motion);
      EXPECT_NEAR(rate, (after[r] - before[r]) / (2 * h), 1e-7 * (1 + std::abs(rate))) << "row " << r;
    }
  }
}

// Rows along directions, and such as only turn the bodies, may be kept as one vector each: the same rows.
TEST_P(JointRows, AreTheSameWhereTheyAreKeptInShort) {
  std::mt19937 random(static_cast<unsigned>(GetParam()) + 7);
  std::normal_distribution<double> normal;
  const auto vector = [&] { return Vec3(normal(random), normal(random), normal(random)); };
  const auto axes = [&] { return Quat(normal(random), normal(random), normal(random), 1).normalized().matrix(); };
  Body a, b;
  for (Body* body : {&a, &b}) body->position = vector(), body->axes = axes();
  const JointGeometry g{vector(), vector(), axes(), axes()};
  const RowCount count = rowCount(GetParam());
  std::vector<double> whole(RowBlock::storage(count.rows, count.angular, {count.pivot}));
  const ShortRows all{count.pivot, count.rows - count.pivot - count.angular, count.angular};
  std::vector<double> compact(RowBlock::storage(count.rows, count.angular, all));
  EXPECT_EQ(whole.size() - compact.size(), 9u * (count.rows - count.pivot));
  RowBlock rows(whole.data(), count.rows, {count.pivot});
  RowBlock kept(compact.data(), count.rows, all);
  evaluateRows(GetParam(), g, a, b, rows);
  evaluateRows(GetParam(), g, a, b, kept);
  for (int r = 0; r < count.rows; ++r) {
    EXPECT_EQ(rows.error()[r], kept.error()[r]) << "row " << r;
    EXPECT_EQ(rows.fullRow(r), kept.fullRow(r)) << "row " << r;
  }
  for (int i = 0; i < count.angular; ++i) {
    EXPECT_EQ(Vec3(rows.u(i)), Vec3(kept.u(i)));
    EXPECT_EQ(Vec3(rows.w(i)), Vec3(kept.w(i)));
  }
}

class AxisRows : public testing::TestWithParam<JointType> {};

// Far from any constraint, turned at random: what holds for every pose holds for the ones that joints allow, too. Types
// whose coordinates are written for poses on their locks are put there.
TEST_P(AxisRows, JacobianIsTheDerivativeOfTheCoordinate) {
  std::mt19937 random(static_cast<unsigned>(GetParam()) + 100);
  std::normal_distribution<double> normal;
  const auto vector = [&] { return Vec3(normal(random), normal(random), normal(random)); };
  const auto rotation = [&] {
    return Quat(normal(random), normal(random), normal(random), normal(random)).normalized();
  };
  for (int trial = 0; trial < 20; ++trial)
    for (int k = 0; k < axesOf(GetParam()).all(); ++k) {
      Body a, b;
      for (Body* body : {&a, &b}) {
        body->role = Role::dynamic;
        body->inertia = PrincipalInertia(Vec3(1, 1, 1));
        body->position = vector();
        body->orientation = rotation();
        body->axes = body->orientation.toRotationMatrix();
        body->velocity = vector();
        body->spin = vector();
      }
      JointGeometry g{vector(), vector(), rotation().toRotationMatrix(), rotation().toRotationMatrix()};
      g.form.ratio = -0.7, g.form.coneY = 0.4, g.form.coneZ = 0.9;
      g.form.route = {{RouteOn::a, vector()}, {RouteOn::world, vector()}, {RouteOn::b, vector()}};
      const Vec3 axle = a.axes * g.axesA.col(0);
      if (GetParam() == JointType::gear && trial % 2) {
        // Parallel axles, so that the line of centres counts; both bodies turn about them only.
        g.axesB = b.axes.transpose() * (a.axes * g.axesA);
        a.spin = 2.3 * axle, b.spin = -1.1 * axle;
      }
      if (GetParam() == JointType::rack) {
        g.axesB = b.axes.transpose() * (a.axes * g.axesA) * Mat3(Eigen::AngleAxisd(1.5707963267948966, Vec3::UnitZ()));
        a.spin = b.spin + 0.8 * axle;
      }
      const bool turnsAboutX = GetParam() == JointType::hinge || GetParam() == JointType::cylinder ||
                               GetParam() == JointType::planar || GetParam() == JointType::screw;
      if (turnsAboutX) {
        g.axesB = b.axes.transpose() * (a.axes * g.axesA);
        b.spin = a.spin + 0.8 * axle;
      }
      if (GetParam() == JointType::universal || GetParam() == JointType::wheel) {
        // The second axis at right angles to the first, and only spins that keep it so.
        g.axesB = b.axes.transpose() * (a.axes * g.axesA);
        b.spin = a.spin + (k == 0 || GetParam() == JointType::universal ? 0.0 : 0.6) * (a.axes * g.axesA.col(1)) +
                 0.9 * axle;
      }
      const auto coordinateAfter = [&](double h, double near) {
        Body movedA = a, movedB = b;
        movedA.setMark(), movedA.drift(h);
        movedB.setMark(), movedB.drift(h);
        std::array<double, RowBlock::storage(1, 1)> memory{};
        RowBlock rows(memory.data(), 1);
        Winding winding;
        winding.before = {near, 0};
        evaluateCoordinate(GetParam(), k, g, movedA, movedB, winding, rows);
        return rows.error()[0];
      };
      std::array<double, RowBlock::storage(1, 1)> memory{};
      RowBlock rows(memory.data(), 1);
      Winding winding;
      evaluateCoordinate(GetParam(), k, g, a, b, winding, rows);
      const double h = 1e-6, rate = rowVelocity(rows.jacobian(), rowMotion(a.velocity, a.spin, b.velocity, b.spin));
      const double measured = (coordinateAfter(h, winding.now[0]) - coordinateAfter(-h, winding.now[0])) / (2 * h);
      EXPECT_NEAR(rate, measured, 1e-6 * (1 + std::abs(rate))) << "axis " << k << ", trial " << trial;
    }
}

INSTANTIATE_TEST_SUITE_P(Types, JointRows,
                         testing::Values(JointType::fixed, JointType::ball, JointType::hinge, JointType::slider,
                                         JointType::cylinder, JointType::universal, JointType::planar, JointType::limb,
                                         JointType::wheel, JointType::screw));
INSTANTIATE_TEST_SUITE_P(Types, AxisRows,
                         testing::Values(JointType::hinge, JointType::slider, JointType::cylinder, JointType::universal,
                                         JointType::planar, JointType::limb, JointType::wheel, JointType::screw,
                                         JointType::sixAxis, JointType::distance, JointType::spring, JointType::pulley,
                                         JointType::winch, JointType::gear, JointType::rack));

}  // namespace
}  // namespace calm
