// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/rotation.h"

#include <gtest/gtest.h>

#include <numbers>

namespace calm {
namespace {

TEST(RotationFromVector, AgreesWithAngleAndAxis) {
  const Vec3 axis = Vec3(1, -2, 0.5).normalized();
  for (const double angle : {0.0, 1e-9, 1e-3, 0.29, 0.31, 1.0, 3.1, 6.0}) {
    const Quat expected(Eigen::AngleAxisd(angle, axis));
    EXPECT_LE((rotationFromVector(axis * angle).coeffs() - expected.coeffs()).norm(), 1e-15) << "angle " << angle;
  }
}

TEST(PrincipalInertia, TellsTheKinds) {
  EXPECT_EQ(PrincipalInertia(Vec3(2, 2, 2)).kind(), InertiaKind::spherical);
  EXPECT_EQ(PrincipalInertia(Vec3(2, 1, 2)).kind(), InertiaKind::symmetric);
  EXPECT_EQ(PrincipalInertia(Vec3(1, 2, 2.5)).kind(), InertiaKind::general);
}

// Euler's equations for a general body, against a fine Runge-Kutta integration: second order in the step.
TEST(PrincipalInertia, GeneralDriftIsOfSecondOrder) {
  const Vec3 moments(1, 2.2, 3);
  const PrincipalInertia inertia(moments);
  const auto drifted = [&](int steps) {
    Quat q = Quat::Identity();
    const Vec3 momentum = moments.cwiseProduct(Vec3(1, 2, -1.5));
    Vec3 inBody = q.conjugate() * momentum;
    for (int i = 0; i < steps; ++i) inertia.driftFree(q, momentum, inBody, 1.0 / steps);
    return q;
  };
  const Quat exact = drifted(20000);
  const double coarse = drifted(20).angularDistance(exact), fine = drifted(40).angularDistance(exact);
  EXPECT_NEAR(std::log2(coarse / fine), 2, 0.1);
}

}  // namespace
}  // namespace calm
