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

// A rotor whose axis something holds in part or whole: the step is a turn about its momentum and one about its axis, so
// that momentum and energy stay; it goes back the way it came; and a full and a small share differ by what is second
// order in the step.
TEST(PrincipalInertia, HeldDriftKeepsMomentumAndEnergyAndGoesBack) {
  const Vec3 moments(1.2, 2, 1.2);
  const PrincipalInertia inertia(moments);
  const Quat from = Quat(0.8, 0.1, -0.3, 0.5).normalized();
  const Vec3 momentum = from * moments.cwiseProduct(Vec3(0.7, 20, -0.4));
  const auto energy = [&](const Vec3& inBody) { return inBody.cwiseAbs2().dot(moments.cwiseInverse()) / 2; };
  for (const double held : {0.0, 0.3, 1.0})
    for (const double h : {1e-5, 0.01, 0.1}) {
      Quat q = from;
      Vec3 inBody = q.conjugate() * momentum;
      const double before = energy(inBody);
      inertia.driftFree(q, momentum, inBody, h, held);
      EXPECT_LE((q * inBody - momentum).norm(), 1e-13 * momentum.norm()) << held << ", " << h;
      EXPECT_NEAR(energy(inBody), before, 1e-13 * before) << held << ", " << h;
      inertia.driftFree(q, momentum, inBody, -h, held);
      EXPECT_LE(q.angularDistance(from), 1e-7) << held << ", " << h;
    }
}

TEST(PrincipalInertia, HeldDriftIsOfSecondOrder) {
  const Vec3 moments(1.2, 2, 1.2), momentum = moments.cwiseProduct(Vec3(0.7, 20, -0.4));
  const PrincipalInertia inertia(moments);
  const auto drifted = [&](int steps, double held) {
    Quat q = Quat::Identity();
    Vec3 inBody = momentum;
    for (int i = 0; i < steps; ++i) inertia.driftFree(q, momentum, inBody, 1.0 / steps, held);
    return q;
  };
  const Quat exact = drifted(1, 0);
  const double coarse = drifted(200, 1).angularDistance(exact), fine = drifted(400, 1).angularDistance(exact);
  EXPECT_NEAR(std::log2(coarse / fine), 2, 0.1);
}

// At both ends of the step in a plane across x, as a gimbal about x would hold it, the axis answers torque about x by
// the rotor's own inertia: the momentum about x over the angle it goes in the step.
TEST(PrincipalInertia, HeldAxisGoesAlongItsPlane) {
  const Vec3 moments(1.2, 2, 1.2);
  const PrincipalInertia inertia(moments);
  const double h = 0.01, rate = 0.1;
  for (const double spin : {5.0, 50.0, 150.0}) {
    // The momentum across the axis, in the plane, with which it ends where it began to.
    double tilt = 0;
    Vec3 axis;
    for (int i = 0; i < 50; ++i) {
      const Vec3 momentum(moments.x() * rate, moments.y() * spin, moments.y() * spin * tilt);
      Quat q = Quat::Identity();
      Vec3 inBody = momentum;
      inertia.driftFree(q, momentum, inBody, h, 1);
      axis = q * Vec3::UnitY();
      tilt += axis.x() * moments.x() / (h * moments.y() * spin);
    }
    EXPECT_NEAR(axis.x(), 0, 1e-12) << spin << " rad/s";
    EXPECT_NEAR(std::atan2(axis.z(), axis.y()), rate * h, 1e-6 * rate * h) << spin << " rad/s";
  }
}

}  // namespace
}  // namespace calm
