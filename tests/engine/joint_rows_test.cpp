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
      movedA.drift(h);
      movedB.drift(h);
      std::vector<double> memory(RowBlock::storage(count.rows, count.angular));
      RowBlock rows(memory.data(), count.rows);
      evaluateRows(GetParam(), g, movedA, movedB, rows);
      return std::vector<double>(rows.error(), rows.error() + count.rows);
    };
    std::vector<double> memory(RowBlock::storage(count.rows, count.angular));
    RowBlock rows(memory.data(), count.rows);
    evaluateRows(GetParam(), g, a, b, rows);
    EXPECT_EQ(rows.linear(), count.rows - count.angular);
    const double h = 1e-5;
    const std::vector<double> before = errorsAfter(-h), after = errorsAfter(h);
    for (int r = 0; r < count.rows; ++r) {
      const double* j = rows.jacobian() + r * kRowWidth;
      double rate = 0;
      for (int i = 0; i < 3; ++i)
        rate += j[i] * a.velocity[i] + j[3 + i] * a.spin[i] + j[6 + i] * b.velocity[i] + j[9 + i] * b.spin[i];
      EXPECT_NEAR(rate, (after[r] - before[r]) / (2 * h), 1e-7 * (1 + std::abs(rate))) << "row " << r;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Types, JointRows,
                         testing::Values(JointType::fixed, JointType::ball, JointType::hinge, JointType::slider,
                                         JointType::cylinder, JointType::universal, JointType::planar));

}  // namespace
}  // namespace calm
