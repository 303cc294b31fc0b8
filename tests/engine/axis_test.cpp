// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/joint/axis.h"

#include <gtest/gtest.h>

#include <Eigen/Eigenvalues>
#include <cmath>

namespace calm {
namespace {

// One step of x, u and the u before, as the solver takes it, on a mass of which the spring sees the part `seen`.
Eigen::Matrix3d mapOf(double k, double c, double mass, double h, bool crowded, double seen = 1) {
  const SpringStep s = springStep(k, c, seen * mass, h, crowded);
  const double all = mass + s.inertia, pull = h * k / all, lag = pull * s.lag * h, brake = s.brake / all + lag;
  Eigen::Matrix3d map;
  map << 1 - h * pull, h * (1 - brake), h * lag, -pull, 1 - brake, lag, 0, 1, 0;
  return map;
}

double largestFactor(const Eigen::Matrix3d& map) {
  return map.eigenvalues().cwiseAbs().maxCoeff();
}

// Trace and determinant of the exact map of a damped oscillator over h.
TEST(SpringStep, IsTheExactMapForSlowSprings) {
  const double h = 1.0 / 480;
  for (const double w : {5.0, 60.0, 200.0})
    for (const double ratio : {0.0, 0.1, 0.7, 1.3}) {
      const Eigen::Matrix3d map = mapOf(2 * w * w, 2 * 2 * ratio * w, 2, h, false);
      const double determinant = map(0, 0) * map(1, 1) - map(0, 1) * map(1, 0);
      const double decay = ratio * w * h, disc = w * w * h * h * (1 - ratio * ratio);
      const double wave = disc >= 0 ? std::cos(std::sqrt(disc)) : std::cosh(std::sqrt(-disc));
      EXPECT_EQ(map(0, 2), 0) << "no lag: the two others are all of it";
      EXPECT_NEAR(map.trace(), 2 * std::exp(-decay) * wave, 1e-10) << w << " " << ratio;
      EXPECT_NEAR(determinant, std::exp(-2 * decay), 1e-10) << w << " " << ratio;
    }
}

TEST(SpringStep, IsStableAtAnyStiffnessAndDamping) {
  const double h = 1.0 / 480;
  for (double k = 1e-3; k < 1e14; k *= 3)
    for (const double c : {0.0, 1e-3, 1.0, 1e3, 1e6, 1e9})
      for (const bool crowded : {false, true})
        for (const double seen : {1.0, 0.1, 1e-3, 1e-6})
          EXPECT_LE(largestFactor(mapOf(k, c, 1, h, crowded, seen)), 1 + 1e-9) << k << " " << c << " " << seen;
}

// What is faster than the step settles, and what is slow is not braked by it, though its spring is taken for fast.
TEST(SpringStep, SettlesFastSpringsAndLeavesSlowModes) {
  const double h = 1.0 / 480;
  for (const double w : {4.0, 10.0, 100.0, 1e4})
    EXPECT_LE(largestFactor(mapOf(w * w / (h * h), 0, 1, h, false)), 0.91) << w;
  for (const double w : {0.01, 0.03, 0.1, 0.3}) {
    const double factor = largestFactor(mapOf(w * w / (h * h), 0, 1, h, false, 1e-8));
    EXPECT_NEAR(1 - factor, 0.01 * std::pow(w, 4), 1e-3 * std::pow(w, 4) + 1e-13) << w;
  }
}

TEST(SpringStep, OfAPureDamperIsItsExactDecay) {
  const double h = 1.0 / 480;
  for (const double c : {0.1, 10.0, 1e4}) {
    const SpringStep s = springStep(0, c, 3, h, false);
    EXPECT_NEAR(1 - s.brake / (3 + s.inertia), std::exp(-c * h / 3), 1e-12) << c;
  }
}

TEST(AxisDef, FrictionHasAWayOfItsOwnBesideAMotorThatRuns) {
  AxisDef axis;
  axis.cap = 10, axis.friction = 3;
  EXPECT_EQ(axis.drive(), 13);
  EXPECT_FALSE(axis.rubsAgainstMotor());  // both hold it
  axis.speed = 1;
  EXPECT_TRUE(axis.rubsAgainstMotor());
  axis.cap = 0;
  EXPECT_FALSE(axis.rubsAgainstMotor());  // the motor is off
}

}  // namespace
}  // namespace calm
