// SPDX-License-Identifier: GPL-3.0-or-later
// Attraction: orbits by Kepler, swings about a centre, and what falls through it.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kSun = 4 * kPi * kPi;  // m^3/s^2: a circle of a metre takes a second

struct Orbit {
  World world{{.gravity = Vec3::Zero()}};
  BodyId body;
  Orbit(const Attraction& law, const Vec3& at, const Vec3& velocity)
      : body(world.addBody(solid(Sphere{0.01}, 2, {at}))) {
    world.setVelocity(body, velocity, Vec3::Zero());
    world.addField({law, {}});
  }
  void run(double seconds) {
    for (long i = std::lround(seconds / world.settings().frame); i > 0; --i) world.step();
  }
};

// Where what leaves its furthest point, (1, 0), at this share of the speed of a circle is after a time.
Vec3 byKepler(double share, double time) {
  const double half = 1 / (2 - share * share), e = 1 / half - 1,
               mean = kPi + std::sqrt(kSun / (half * half * half)) * time;
  double anomaly = mean;
  for (int i = 0; i < 100; ++i) anomaly -= (anomaly - e * std::sin(anomaly) - mean) / (1 - e * std::cos(anomaly));
  return half * Vec3(e - std::cos(anomaly), -std::sqrt(1 - e * e) * std::sin(anomaly), 0);
}

// The nearest point of the last is at 5 cm, passed at 40 m/s: all are where they should be to 0.3 ms of the way.
TEST(Orbit, IsKeplersEllipse) {
  for (const double share : {1.0, 0.9, 0.6, 0.3}) {
    Orbit orbit({Vec3::Zero(), kSun, 2}, {1, 0, 0}, {0, share * 2 * kPi, 0});
    const double start = orbit.world.energy().total();
    double worst = 0;
    for (int i = 1; i <= 60; ++i) {
      orbit.world.step();
      worst = std::max(worst, (orbit.world.state(orbit.body).pose.position - byKepler(share, i / 60.0)).norm());
    }
    const std::string name = "orbit from " + std::to_string(share) + " of a circle's speed: ";
    const double nearest = share * share / (2 - share * share), late = worst * nearest / (share * 2 * kPi);
    report(name + "late, within a second", 1e3 * late, 0.3, "ms");
    EXPECT_LT(late, 3e-4) << share;
    EXPECT_NEAR(orbit.world.energy().total(), start, 1e-3 * std::abs(start)) << share;
  }
}

// x = cos(omega t), however many turns a frame takes.
TEST(Orbit, TrapHasItsFrequency) {
  for (const double turns : {1.0, 7.0, 20.0}) {
    const double omega = 2 * kPi * turns;
    Orbit orbit({Vec3::Zero(), omega * omega, -1, 1e-9}, {1, 0, 0}, {0, 0, 0});
    orbit.run(1);
    EXPECT_NEAR(orbit.world.state(orbit.body).pose.position.x(), 1, 1e-3) << turns;
  }
}

// Within its core the pull is the same everywhere: from rest at r it is through the centre after sqrt(2 r / a).
TEST(Orbit, FallsThroughACore) {
  Orbit orbit({Vec3::Zero(), 2, 2, 0.5}, {0.4, 0, 0}, Vec3::Zero());
  const double start = orbit.world.energy().total(), pull = 2 / 0.25;
  double worst = 0;
  for (int i = 1; i <= 120; ++i) {
    orbit.world.step();
    worst = std::max(worst, std::abs(orbit.world.energy().total() - start));
  }
  EXPECT_LT(worst, 2 * pull * 0.4 * 2e-2);
  const double quarter = std::sqrt(2 * 0.4 / pull), phase = std::fmod(2.0, 4 * quarter) / quarter;
  const double from = phase < 2 ? 1 - phase : phase - 3, side = from < 0 ? -1 : 1;
  EXPECT_NEAR(orbit.world.state(orbit.body).pose.position.x(), side * 0.4 * (1 - (1 - side * from) * (1 - side * from)),
              1e-2);
}

}  // namespace
}  // namespace calm::physics
