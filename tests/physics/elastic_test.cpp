// SPDX-License-Identifier: GPL-3.0-or-later
// Springs and dampers of joints whose parts are far lighter about their own middle than what they carry round the pin,
// and many stiff springs in a row.
#include <gtest/gtest.h>

#include <Eigen/Eigenvalues>
#include <algorithm>

#include "physics/reference.h"
#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kStep = 1.0 / 480;

// A bob of 1 kg, 1 m from a hinge about z, that moves at `speed`. It has so much inertia about its own middle, or is
// carried by a rod of so little mass.
struct LightRod {
  World world{{.gravity = Vec3::Zero()}};
  double inertia = 1;  // about the hinge
};

void addLightRod(LightRod& r, double light, bool apart, double speed, const AxisDef& axis) {
  const auto body = [&](double at, double mass, double inertia) {
    BodyDef def;
    def.mass = {mass, Vec3::Zero(), Vec3::Constant(inertia).asDiagonal()};
    def.pose.position = {at, 0, 0};
    def.velocity = {0, at * speed, 0};
    def.angularVelocity = {0, 0, speed};
    return r.world.addBody(def);
  };
  const BodyId bob = body(1, 1, apart ? 1e-6 : light);
  r.inertia = 1 + (apart ? 1e-6 + light / 3 : light);
  const BodyId hinged = apart ? body(0.5, light, light / 12) : bob;
  JointDef j = joint(JointType::hinge, kWorld, Vec3::Zero(), hinged, {apart ? -0.5 : -1.0, 0, 0});
  j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  j.axes[0] = axis;
  r.world.addJoint(j);
  if (apart) r.world.addJoint(joint(JointType::fixed, hinged, {0.5, 0, 0}, bob, Vec3::Zero()));
}

struct Light {
  double of;  // kg m^2, or kg of a rod apart
  bool apart;
};
class OnALightRod : public testing::TestWithParam<Light> {};
INSTANTIATE_TEST_SUITE_P(Inertias, OnALightRod,
                         testing::Values(Light{1e-2, false}, Light{1e-4, false}, Light{1e-6, false}, Light{1e-9, false},
                                         Light{1e-2, true}, Light{1e-4, true}, Light{1e-6, true}));

// By the bob alone the spring would be faster than the step.
TEST_P(OnALightRod, SpringKeepsItsEnergyAndItsPeriod) {
  AxisDef axis;
  axis.stiffness = 10;
  LightRod r;
  addLightRod(r, GetParam().of, GetParam().apart, 0.1, axis);
  const double omega = std::sqrt(10 / r.inertia), start = r.world.energy().total();
  double worst = 0, error = 0;
  for (int i = 1; i <= 3600; ++i) {
    r.world.step();
    worst = std::max(worst, std::abs(r.world.energy().total() / start - 1));
    error = std::max(error, std::abs(r.world.reading(0).position[0] - 0.1 / omega * std::sin(omega * r.world.time())));
  }
  // Second order: the phase runs off by (omega h)^2 / 12 of what it has gone through, at most.
  const double w2 = omega * omega * kStep * kStep;
  EXPECT_LE(worst, w2);
  EXPECT_LE(error, 0.1 / omega * w2 / 12 * omega * 60);
}

TEST_P(OnALightRod, DamperBrakesAsFastAsItShould) {
  AxisDef axis;
  axis.damping = 0.5;
  LightRod r;
  addLightRod(r, GetParam().of, GetParam().apart, 0.1, axis);
  for (int i = 0; i < 240; ++i) r.world.step();
  const double rate = 0.5 / r.inertia;
  EXPECT_NEAR(r.world.reading(0).rate[0] / (0.1 * std::exp(-rate * 4)), 1, 4 * rate * std::pow(rate * kStep, 2) + 1e-5);
}

TEST_P(OnALightRod, SoftStopGivesBackWhatCame) {
  for (const double stiffness : {100.0, 1e4}) {
    AxisDef axis;
    axis.high = 0.3;
    axis.stopStiffness = stiffness;
    LightRod r;
    addLightRod(r, GetParam().of, GetParam().apart, 0.1, axis);
    for (int i = 0; i < 480; ++i) r.world.step();
    EXPECT_NEAR(r.world.reading(0).rate[0], -0.1, 0.1 * stiffness * kStep * kStep / 12) << stiffness;
  }
}

// A weight on a light rod whose pivot yields: it bounces along the rod for good.
TEST_P(OnALightRod, YieldingPivotBouncesForGood) {
  for (const double compliance : {1e-3, 1e-4, 1e-5}) {
    World world;
    BodyDef def;
    def.mass = {1, Vec3::Zero(), Vec3::Constant(GetParam().of).asDiagonal()};
    def.pose.position = {0, -1, 0};
    const BodyId bob = world.addBody(def);
    JointDef j = joint(JointType::ball, kWorld, Vec3::Zero(), bob, {0, 1, 0});
    j.compliance = compliance;
    world.addJoint(j);
    const double sag = compliance * kGravity;
    double deepest = 0, sum = 0;
    for (int i = 0; i < 600; ++i) {
      world.step();
      const double sunk = -1 - world.state(bob).pose.position.y();
      sum += sunk / 600;
      if (i >= 480) deepest = std::max(deepest, sunk);
    }
    // Twice the sag, as seen every few radians.
    EXPECT_NEAR(deepest, 2 * sag, 0.02 * sag) << compliance;
    EXPECT_NEAR(sum, sag, 0.02 * sag) << compliance;
  }
}

// Links of a beam 1 m long and 1 kg, held at its end, with a spring in each hinge. Its modes are those of its mass and
// stiffness in the hinges' angles. From the straight line it swings in one of them.
class Beam : public testing::TestWithParam<double> {};
INSTANTIATE_TEST_SUITE_P(Stiffnesses, Beam, testing::Values(50, 200, 1000, 5000));

TEST_P(Beam, OfStiffSpringsSwingsInItsLowestMode) {
  constexpr int kLinks = 10;
  const double stiffness = GetParam(), length = 1.0 / kLinks, mass = 1.0 / kLinks,
               inertia = mass * length * length / 12;
  Eigen::MatrixXd lean = Eigen::MatrixXd::Zero(kLinks, kLinks), rise = lean;  // of each link, by the hinges' angles
  for (int i = 0; i < kLinks; ++i)
    for (int j = 0; j <= i; ++j) lean(i, j) = 1, rise(i, j) = (i - j + 0.5) * length;
  const Eigen::MatrixXd masses = mass * rise.transpose() * rise + inertia * lean.transpose() * lean;
  const Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd> modes(
      stiffness * Eigen::MatrixXd::Identity(kLinks, kLinks), masses);
  const double omega = std::sqrt(modes.eigenvalues()[0]);
  Eigen::VectorXd shape = modes.eigenvectors().col(0);
  shape *= 1e-3 / (length * (lean * shape).sum());  // at the tip, m

  World world({.gravity = Vec3::Zero()});
  BodyId before = kWorld;
  for (int i = 0; i < kLinks; ++i) {
    BodyDef def;
    def.mass = {mass, Vec3::Zero(), Vec3::Constant(inertia).asDiagonal()};
    def.pose.position = {(i + 0.5) * length, 0, 0};
    def.velocity = {0, omega * rise.row(i).dot(shape), 0};
    def.angularVelocity = {0, 0, omega * lean.row(i).dot(shape)};
    const BodyId link = world.addBody(def);
    JointDef j = joint(JointType::hinge, before, {before == kWorld ? 0 : length / 2, 0, 0}, link, {-length / 2, 0, 0});
    j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    j.axes[0].stiffness = stiffness;
    world.addJoint(j);
    before = link;
  }
  const double start = world.energy().total();
  double lowest = start, highest = start, error = 0;
  const int frames = static_cast<int>(std::ceil(10 * 2 * kPi / omega * 60));
  for (int i = 0; i < frames; ++i) {
    world.step();
    lowest = std::min(lowest, world.energy().total());
    highest = std::max(highest, world.energy().total());
    const Vec3 tip = world.state(before).pose.apply({length / 2, 0, 0});
    error = std::max(error, std::abs(tip.y() - 1e-3 * std::sin(omega * world.time())));
  }
  // Of second order: the springs' share c = 0.28 of the step's inertia slows the mode by (c - 1/12) (omega h)^2 / 2,
  // and lets it swing out further by half of (c + 1/4) (omega h)^2. The lag takes 0.02 (omega h)^4 of its energy a
  // substep.
  const double w2 = std::pow(omega * kStep, 2), substeps = frames * 8;
  EXPECT_LE(error / 1e-3, 0.15 * w2 * omega * frames / 60 + 1e-3);
  EXPECT_LE(highest / start - 1, 0.53 * w2 + w2 * w2 + 1e-4);
  EXPECT_GE(lowest / start - 1, -0.53 * w2 - 0.02 * w2 * w2 * substeps - 1e-4);
  report("beam of ten links, lowest mode, energy lost in ten periods", (1 - lowest / start) * 100, 5, "%");
}

// Two rods in line with 2 m and m at their ends and equal springs, pushed along the second one whichever way it turns:
// they stand, for all that nothing else would tell, up to P = (7/2 - sqrt 2) k / l, and swing up beyond it (Ziegler,
// "Die Stabilitaetskriterien der Elastomechanik", Ingenieur-Archiv 20, 1952).
TEST(FollowerLoad, SwingsTwoRodsUpBeyondZieglersLoad) {
  const auto growth = [](double load) {
    World world({.gravity = Vec3::Zero()});
    BodyId before = kWorld;
    for (int i = 0; i < 2; ++i) {
      BodyDef def;
      def.mass = {i == 0 ? 2.0 : 1.0, Vec3::Zero(), Vec3::Constant(1e-6).asDiagonal()};
      def.pose.position = {1.0 + i, 0, 0};
      if (i == 0) def.velocity = {0, 1e-3, 0};
      const BodyId body = world.addBody(def);
      JointDef j = joint(JointType::hinge, before, Vec3::Zero(), body, {-1, 0, 0});
      j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
      j.axes[0].stiffness = 10;
      world.addJoint(j);
      before = body;
    }
    world.addPush({.body = before, .force = {-10 * load, 0, 0}, .follows = true});
    double early = 0, late = 0;
    for (int i = 0; i < 1200; ++i) {
      world.step();
      double& most = i < 600 ? early : late;
      most = std::max(most, std::abs(world.reading(0).position[0]));
    }
    return late / early;
  };
  const double critical = 3.5 - std::sqrt(2);
  EXPECT_NEAR(growth(0.99 * critical), 1, 0.05);
  EXPECT_GT(growth(1.01 * critical), 5);
}

}  // namespace
}  // namespace calm::physics
