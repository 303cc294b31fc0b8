// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/joint/axis.h"

#include <gtest/gtest.h>

#include <cmath>
#include <complex>

namespace calm {
namespace {

// One step of x, u as the solver takes it, on a lone mass.
struct Map {
  double m[2][2];
  double spectralRadius() const {
    const double trace = m[0][0] + m[1][1], determinant = m[0][0] * m[1][1] - m[0][1] * m[1][0];
    const std::complex<double> root = std::sqrt(std::complex<double>(trace * trace / 4 - determinant));
    return std::max(std::abs(trace / 2 + root), std::abs(trace / 2 - root));
  }
  double trace() const { return m[0][0] + m[1][1]; }
  double determinant() const { return m[0][0] * m[1][1] - m[0][1] * m[1][0]; }
};

Map mapOf(double k, double c, double mass, double h, bool crowded) {
  const SpringStep s = springStep(k, c, mass, h, crowded);
  const double force = h * k / (mass + s.inertia), brake = s.brake / (mass + s.inertia);
  return {{{1 - h * force, h * (1 - brake)}, {-force, 1 - brake}}};
}

// Trace and determinant of the exact map of a damped oscillator over h.
TEST(SpringStep, IsTheExactMapForSlowSprings) {
  const double h = 1.0 / 480;
  for (const double w : {5.0, 60.0, 200.0})
    for (const double ratio : {0.0, 0.1, 0.7, 1.3}) {
      const Map map = mapOf(2 * w * w, 2 * 2 * ratio * w, 2, h, false);
      const double decay = ratio * w * h, disc = w * w * h * h * (1 - ratio * ratio);
      const double wave = disc >= 0 ? std::cos(std::sqrt(disc)) : std::cosh(std::sqrt(-disc));
      EXPECT_NEAR(map.trace(), 2 * std::exp(-decay) * wave, 1e-10) << w << " " << ratio;
      EXPECT_NEAR(map.determinant(), std::exp(-2 * decay), 1e-10) << w << " " << ratio;
    }
}

TEST(SpringStep, IsStableAtAnyStiffnessAndDamping) {
  const double h = 1.0 / 480;
  for (double k = 1e-3; k < 1e14; k *= 3)
    for (const double c : {0.0, 1e-3, 1.0, 1e3, 1e6, 1e9})
      for (const bool crowded : {false, true})
        EXPECT_LE(mapOf(k, c, 1, h, crowded).spectralRadius(), 1 + 1e-9) << k << " " << c;
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
