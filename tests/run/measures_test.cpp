// SPDX-License-Identifier: GPL-3.0-or-later
// What follows from a rig without a run, against closed forms.
#include "run/measures.h"

#include <gtest/gtest.h>

#include <cmath>

#include "rig/edits.h"

namespace calm::run {
namespace {

TEST(SpringResponse, IsTheDampedOscillators) {
  const double f = 2, omega = 2 * M_PI * f;
  for (const double z : {0.0, 0.2, 1.0, 2.5}) {
    SCOPED_TRACE(z);
    const SpringResponse r{f, z};
    EXPECT_NEAR(r.at(0), 1, 1e-12);
    // m x'' + c x' + k x = 0, by central differences of second order.
    const double h = 1e-4;
    for (const double t : {0.05, 0.2, 0.7}) {
      const double x = r.at(t), v = (r.at(t + h) - r.at(t - h)) / (2 * h),
                   a = (r.at(t + h) - 2 * x + r.at(t - h)) / (h * h);
      EXPECT_NEAR(a + 2 * z * omega * v + omega * omega * x, 0, omega * omega * 1e-4);
    }
  }
}

TEST(SpringResponse, SettlesWhereItsEnvelopeSays) {
  EXPECT_FALSE((SpringResponse{1, 0}).settling());
  const SpringResponse r{1, 0.1};
  const double settled = r.settling().value();
  // ln(50) over the decay rate bounds it; it is less than half a swing before that.
  const double bound = std::log(50 / std::sqrt(1 - 0.01)) / (0.1 * 2 * M_PI);
  EXPECT_LE(settled, bound + 1e-3);
  EXPECT_GE(settled, bound - 0.51);
  for (double t = settled + 1e-3; t < settled + 5; t += 0.01) EXPECT_LE(std::abs(r.at(t)), 0.02 + 1e-9) << t;
}

// A rod that turns about its end: m l^2 / 3; a slider between two parts: their reduced mass.
TEST(InertiaAlong, IsThatOfTheTwoParts) {
  rig::Rig rig;
  rig::Part rod;
  rod.shape = Box{{1.2, 0.02, 0.02}};
  rod.heft = rig::Mass{3};
  rod.pose.position = {0.6, 1, 0};
  const rig::Id a = rig::addPart(rig, rod);
  const rig::Id pin = rig::addJoint(rig, JointType::hinge, rig::kNone, a, {0, 1, 0}, Vec3::UnitZ());
  EXPECT_NEAR(inertiaAlong(rig, pin, 0).value(), 3 * (1.2 * 1.2 + 0.02 * 0.02) / 12 + 3 * 0.36, 1e-12);
  rod.heft = rig::Mass{6};
  const rig::Id b = rig::addPart(rig, rod);
  const rig::Id slide = rig::addJoint(rig, JointType::slider, a, b, {0, 1, 0}, Vec3::UnitX());
  EXPECT_NEAR(inertiaAlong(rig, slide, 0).value(), 3 * 6 / 9.0, 1e-12);
  EXPECT_FALSE(inertiaAlong(rig, slide, 1)) << "there is no such axis";
  rig.joint(slide)->axes[0].stiffness = 800, rig.joint(slide)->axes[0].damping = 8;
  const SpringResponse r = springResponse(rig, slide, 0).value();
  EXPECT_NEAR(r.frequency, std::sqrt(800 / 2.0) / (2 * M_PI), 1e-12);
  EXPECT_NEAR(r.dampingRatio, 8 / (2 * std::sqrt(800 * 2.0)), 1e-12);
  EXPECT_FALSE(springResponse(rig, pin, 0));
}

}  // namespace
}  // namespace calm::run
