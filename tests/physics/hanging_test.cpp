// SPDX-License-Identifier: GPL-3.0-or-later
// Chains that hang: between two points against the discrete catenary, and their small swings against the modes of the
// linked pendulum.
#include <gtest/gtest.h>

#include <Eigen/Dense>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// Uniform rods between two points at one height. The rod i points along the mean of the pulls at its ends, which share
// the horizontal part H; H is such that the rods span the distance.
struct Catenary {
  double pull = 0, sag = 0;  // H in N; m
};

Catenary discreteCatenary(int rods, double length, double weight, double span) {
  const auto slope = [&](int i, double pull) { return weight * (rods / 2.0 - i - 0.5) / pull; };
  const auto reach = [&](double pull) {
    double sum = 0;
    for (int i = 0; i < rods; ++i) sum += length / std::hypot(1, slope(i, pull));
    return sum;
  };
  double low = 1e-6, high = 1e6;
  for (int i = 0; i < 200; ++i) (reach((low + high) / 2) < span ? low : high) = (low + high) / 2;
  Catenary found{low, 0};
  for (int i = 0; i < rods / 2; ++i) found.sag += length * slope(i, low) / std::hypot(1, slope(i, low));
  return found;
}

TEST(Catenary, SagAndEndForces) {
  constexpr int kRods = 40;
  constexpr double kLength = 0.05, kMass = 0.2, kSpan = 1.4;
  World world;
  const Vec3 right(kSpan, 0, 0), low(kSpan / 2, -std::sqrt(1 - kSpan * kSpan / 4), 0);
  BodyId above = kWorld;
  Vec3 anchor = Vec3::Zero(), at = Vec3::Zero();
  std::vector<BodyId> links;
  for (int i = 0; i < kRods; ++i) {
    const Vec3 along = i < kRods / 2 ? low : Vec3(right - low);
    BodyDef def = solid(Capsule{0.01, kLength}, kMass, {at + along * kLength / 2, turnBetween(Vec3::UnitY(), along)});
    def.linearDamping = 2, def.angularDamping = 4;
    links.push_back(world.addBody(def));
    world.addJoint(joint(JointType::ball, above, anchor, links.back(), {0, -kLength / 2, 0}));
    at += along * kLength;
    above = links.back();
    anchor = Vec3(0, kLength / 2, 0);
  }
  const JointId last = world.addJoint(joint(JointType::ball, above, anchor, kWorld, right));
  for (int i = 0; i < 60 * 20; ++i) world.step();
  const Catenary exact = discreteCatenary(kRods, kLength, kMass * kGravity, kSpan);
  const double sag = -world.state(links[kRods / 2]).pose.apply({0, -kLength / 2, 0}).y();
  const Vec3 end = world.reading(last).force;
  const double off = std::max({std::abs(sag / exact.sag - 1), std::abs(std::abs(end.x()) / exact.pull - 1),
                               std::abs(std::abs(end.y()) / (kRods * kMass * kGravity / 2) - 1)});
  report("discrete catenary, sag and end forces", off * 100, 0.1, "%");
  EXPECT_LE(off, 1e-3) << "sag " << sag << " of " << exact.sag << " m, end force " << end.transpose() << " N";
}

// Small swings of n linked rods: M a = w^2 K a in the rods' angles (Goldstein, chapter 6).
TEST(HangingChain, SwingsInItsModes) {
  constexpr int kRods = 10;
  constexpr double kLength = 0.1, kMass = 0.3, kSwing = 1e-4;
  const Shape link = Capsule{0.01, kLength};
  const double inertia = massPropertiesOf(link, kMass).inertia(2, 2);
  Eigen::MatrixXd m(kRods, kRods), k = Eigen::MatrixXd::Zero(kRods, kRods);
  for (int i = 0; i < kRods; ++i) {
    k(i, i) = kMass * kGravity * kLength * (kRods - i - 0.5);
    for (int j = 0; j < kRods; ++j) m(i, j) = kMass * kLength * kLength * (kRods - std::max(i, j) - 0.5);
    m(i, i) = kMass * kLength * kLength * (kRods - i - 0.75) + inertia;
  }
  const Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd> modes(k, m);
  for (int mode = 0; mode < 3; ++mode) {
    const double omega = std::sqrt(modes.eigenvalues()[mode]);
    const Eigen::VectorXd shape = modes.eigenvectors().col(mode).normalized() * kSwing;
    World world({.substeps = 16});
    Vec3 at = Vec3::Zero();
    BodyId above = kWorld;
    Vec3 anchor = Vec3::Zero();
    std::vector<BodyId> links;
    for (int i = 0; i < kRods; ++i) {
      const Vec3 along(std::sin(shape[i]), -std::cos(shape[i]), 0);
      const Quat turned = Quat(Eigen::AngleAxisd(shape[i], Vec3::UnitZ()));
      links.push_back(world.addBody(solid(link, kMass, {at + along * kLength / 2, turned})));
      world.addJoint(joint(JointType::ball, above, anchor, links.back(), {0, kLength / 2, 0}));
      at += along * kLength;
      above = links.back();
      anchor = Vec3(0, -kLength / 2, 0);
    }
    // The time at which the mode has swung ten times, by the last rod's tip passing the middle.
    double tip = at.x(), crossing = 0;
    int crossings = 0;
    while (crossings < 20 && world.time() < 60) {
      world.step();
      const double now = world.state(links.back()).pose.apply(anchor).x();
      if (tip * now < 0) {
        ++crossings;
        crossing = world.time() - world.settings().frame * now / (now - tip);
      }
      tip = now;
    }
    const double measured = (crossings - 0.5) * kPi / crossing;
    report("hanging chain, mode " + std::to_string(mode + 1), std::abs(measured / omega - 1) * 100, 0.1, "%");
    EXPECT_NEAR(measured / omega, 1, 1e-3);
  }
}

}  // namespace
}  // namespace calm::physics
