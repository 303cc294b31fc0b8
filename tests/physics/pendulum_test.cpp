// SPDX-License-Identifier: GPL-3.0-or-later
// Pendulums: periods against elliptic integrals, order of convergence, reactions.
#include <gtest/gtest.h>

#include <array>
#include <vector>

#include "physics/rigs.h"
#include "physics/runge_kutta.h"

namespace calm::physics {
namespace {

// Angle of a body from hanging, about z.
double angleOf(const World& world, BodyId body) {
  const Vec3 down = world.state(body).pose.rotation * -Vec3::UnitY();
  return std::atan2(down.x(), -down.y());
}

struct CompoundPendulum {
  World world;
  BodyId rod;
  double inertia, arm, mass;
};

CompoundPendulum makePendulum(double amplitude, JointType type, int substeps = 8) {
  const double length = 1, mass = 2;
  const Box box{{0.05, length, 0.08}};
  CompoundPendulum p{World({.substeps = substeps}), 0, 0, length / 2, mass};
  const Quat turned(Eigen::AngleAxisd(amplitude, Vec3::UnitZ()));
  p.rod = p.world.addBody(solid(box, mass, {turned * Vec3(0, -length / 2, 0), turned}));
  JointDef j = joint(type, kWorld, Vec3::Zero(), p.rod, {0, length / 2, 0});
  j.frameA.rotation = j.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  j.frameB.rotation = j.frameA.rotation;
  p.world.addJoint(j);
  p.inertia = massPropertiesOf(box, mass).inertia(2, 2) + mass * p.arm * p.arm;
  return p;
}

// T = 4 K(sin(amplitude/2)) sqrt(I / (m g d)); any text on dynamics, e.g. Landau and Lifshitz, Mechanics, section 11.
double exactPeriod(const CompoundPendulum& p, double amplitude) {
  return 4 * std::comp_ellint_1(std::sin(amplitude / 2)) * std::sqrt(p.inertia / (p.mass * kGravity * p.arm));
}

// Mean period over the run, from upward zero crossings found by linear interpolation of the angle.
double measuredPeriod(CompoundPendulum& p, double seconds) {
  std::vector<double> crossings;
  double before = angleOf(p.world, p.rod);
  while (p.world.time() < seconds) {
    p.world.step();
    const double now = angleOf(p.world, p.rod);
    if (before < 0 && now >= 0) {
      // Near hanging the angle is all but linear in time, to the cube of the phase.
      const double frame = p.world.settings().frame;
      crossings.push_back(p.world.time() - frame * now / (now - before));
    }
    before = now;
  }
  return (crossings.back() - crossings.front()) / (static_cast<double>(crossings.size()) - 1);
}

class Period : public testing::TestWithParam<std::pair<double, JointType>> {};

TEST_P(Period, IsTheEllipticIntegral) {
  const auto [amplitude, type] = GetParam();
  CompoundPendulum p = makePendulum(amplitude, type);
  const double exact = exactPeriod(p, amplitude);
  const double error = measuredPeriod(p, 20) / exact - 1;
  report("compound pendulum at " + std::to_string(amplitude) + " rad, period error", error * 100, 0.1, "%");
  EXPECT_NEAR(error, 0, 1e-3);
}

INSTANTIATE_TEST_SUITE_P(Amplitudes, Period,
                         testing::Values(std::pair{1.0, JointType::ball}, std::pair{1.0, JointType::hinge},
                                         std::pair{0.1, JointType::hinge}, std::pair{2.5, JointType::hinge}));

// Rods of 2 and 3 cm, alone and three in a row, let go at a radian: they swing fast enough for the energy of a step to
// swing by more than a frame may be off, so that some frames are refined and some are not. They hang on
// the world, on a hand that moves evenly, or on joints with stops far away.
struct Short {
  double length;
  int rods;
  enum class Hung { onWorld, byHand, stopped } hung;
};

double energyLost(const Short& plan, double seconds) {
  const double mass = 0.05;
  const Vec3 carried = plan.hung == Short::Hung::byHand ? Vec3(0.5, 0, 0) : Vec3::Zero();
  World world;
  BodyId before = kWorld;
  if (plan.hung == Short::Hung::byHand) {
    BodyDef hand;
    hand.role = Role::kinematic;
    hand.velocity = carried;
    before = world.addBody(hand);
  }
  const Quat turned(Eigen::AngleAxisd(1, Vec3::UnitZ()));
  const Vec3 down = turned * -Vec3::UnitY();
  std::vector<BodyId> rods;
  for (int i = 0; i < plan.rods; ++i) {
    const double l = plan.length;
    BodyDef def = solid(Box{{l / 10, l, l / 10}}, mass, {(i + 0.5) * l * down, turned});
    def.velocity = carried;
    rods.push_back(world.addBody(def));
    JointDef pin =
        joint(JointType::hinge, before, i == 0 ? Vec3::Zero() : Vec3(0, -l / 2, 0), rods.back(), {0, l / 2, 0});
    pin.frameA.rotation = pin.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    if (plan.hung == Short::Hung::stopped) pin.axes[0].low = -50, pin.axes[0].high = 50;
    world.addJoint(pin);
    before = rods.back();
  }
  const auto energy = [&](double& moving) {
    double all = moving = 0;
    for (const BodyId rod : rods) {
      const BodyState s = world.state(rod);
      const Vec3 inBody = s.pose.rotation.conjugate() * s.angularVelocity;
      const Vec3 moments =
          massPropertiesOf(Box{{plan.length / 10, plan.length, plan.length / 10}}, mass).inertia.diagonal();
      moving += 0.5 * mass * (s.velocity - carried).squaredNorm() + 0.5 * inBody.cwiseAbs2().dot(moments);
      all += mass * kGravity * s.pose.position.y();
    }
    return all + moving;
  };
  double moving = 0, most = 0, off = 0;
  const double start = energy(moving);
  while (world.time() < seconds) {
    world.step();
    off = std::max(off, std::abs(energy(moving) - start));
    most = std::max(most, moving);
  }
  return off / most;
}

TEST(ShortPendulum, KeepsItsEnergyForAMinute) {
  double worst = 0, worstCarried = 0;
  for (const auto& [length, rods] : {std::pair{0.02, 1}, {0.03, 1}, {0.03, 3}})
    for (const auto hung : {Short::Hung::onWorld, Short::Hung::byHand, Short::Hung::stopped}) {
      const double off = energyLost({length, rods, hung}, 60);
      // What a hand does that goes at a pendulum's own speed is summed up substep by substep, which swings, too.
      const bool carried = hung == Short::Hung::byHand;
      (carried ? worstCarried : worst) = std::max(carried ? worstCarried : worst, off);
      EXPECT_LE(off, carried ? 5e-3 : 1e-3) << rods << " of " << length << " m, hung as " << static_cast<int>(hung);
    }
  report("pendulums of 2 and 3 cm, 60 s: energy", worst * 100, 0.1, "%");
  report("the same, carried at 0.5 m/s", worstCarried * 100, 0.5, "%");
}

// At the bottom of the swing the pin carries m g + m d omega^2, with I omega^2 / 2 = m g d (1 - cos amplitude).
TEST(PendulumReaction, AtTheBottomIsWeightAndCentripetalForce) {
  CompoundPendulum p = makePendulum(1.2, JointType::hinge);
  const double omega2 = 2 * p.mass * kGravity * p.arm * (1 - std::cos(1.2)) / p.inertia;
  const double exact = p.mass * (kGravity + p.arm * omega2);
  double peak = 0;
  for (int i = 0; i < 120; ++i) {
    p.world.step();
    peak = std::max(peak, p.world.reading(0).forceNow.norm());
  }
  report("pin reaction at the bottom", (peak / exact - 1) * 100, 0.1, "%");
  EXPECT_NEAR(peak, exact, 1e-3 * exact);
}

// Every instant, force on the rod = rate of its momentum, and its moment = rate of its spin.
TEST(PendulumReaction, BalancesTheRatesOfMomentum) {
  CompoundPendulum p = makePendulum(1.5, JointType::hinge);
  for (int i = 0; i < 40; ++i) p.world.step();
  const double angle = angleOf(p.world, p.rod), omega = p.world.state(p.rod).angularVelocity.z();
  const double alpha = -p.mass * kGravity * p.arm * std::sin(angle) / p.inertia;
  const Vec3 outward(std::sin(angle), -std::cos(angle), 0), sideways(std::cos(angle), std::sin(angle), 0);
  const Vec3 acceleration = p.arm * (alpha * sideways - omega * omega * outward);
  const Vec3 expected = p.mass * (acceleration + Vec3(0, kGravity, 0));
  EXPECT_LE((p.world.reading(0).forceNow - expected).norm(), 1e-3 * expected.norm());
}

// Two equal uniform rods, integrated in their angles by the classical Runge-Kutta method with a tiny step.
struct DoublePendulum {
  double length = 0.5, mass = 1;

  using State = std::array<double, 4>;  // angles from hanging, their rates

  State rate(const State& s) const {
    const double l = length, m = mass, rod = m * l * l / 12;
    const double d = s[0] - s[1];
    const double a = rod + m * l * l / 4 + m * l * l, b = m * l * l / 2 * std::cos(d), c = rod + m * l * l / 4;
    const double sine = m * l * l / 2 * std::sin(d);
    const double f = -sine * s[3] * s[3] - 1.5 * m * kGravity * l * std::sin(s[0]);
    const double g = sine * s[2] * s[2] - 0.5 * m * kGravity * l * std::sin(s[1]);
    const double determinant = a * c - b * b;
    return {s[2], s[3], (c * f - b * g) / determinant, (a * g - b * f) / determinant};
  }

  Vec3 tipAfter(State s, double seconds) const {
    const int steps = 20000;
    const double h = seconds / steps;
    for (int i = 0; i < steps; ++i) s = rungeKutta(s, h, [this](const State& now) { return rate(now); });
    return length * Vec3(std::sin(s[0]) + std::sin(s[1]), -std::cos(s[0]) - std::cos(s[1]), 0);
  }
};

double tipError(int substeps, double seconds) {
  const DoublePendulum reference;
  const double first = 2.0, second = 1.2;
  World world({.substeps = substeps});
  const Box rod{{0.04, reference.length, 0.04}};
  // A rod this thin and one of zero thickness differ in inertia; the reference takes the bar's own.
  const Quat q1(Eigen::AngleAxisd(first, Vec3::UnitZ())), q2(Eigen::AngleAxisd(second, Vec3::UnitZ()));
  const Vec3 elbow = q1 * Vec3(0, -reference.length, 0);
  const auto slender = [&](const Pose& pose) {
    BodyDef def = solid(rod, reference.mass, pose);
    const double i = reference.mass * reference.length * reference.length / 12;
    def.mass.inertia = Vec3(i, 0.01 * i, i).asDiagonal();
    return def;
  };
  const BodyId upper = world.addBody(slender({elbow / 2, q1}));
  const BodyId lower = world.addBody(slender({elbow + q2 * Vec3(0, -reference.length / 2, 0), q2}));
  const double half = reference.length / 2;
  world.addJoint(joint(JointType::ball, kWorld, Vec3::Zero(), upper, {0, half, 0}));
  world.addJoint(joint(JointType::ball, upper, {0, -half, 0}, lower, {0, half, 0}));
  while (world.time() < seconds - 1e-9) world.step();
  const Vec3 tip = world.state(lower).pose.apply({0, -half, 0});
  return (tip - reference.tipAfter({first, second, 0, 0}, seconds)).norm();
}

TEST(DoublePendulumTip, ConvergesWithSecondOrder) {
  const double coarse = tipError(8, 2), fine = tipError(16, 2), finest = tipError(32, 2);
  const double order = std::log2(coarse / fine), next = std::log2(fine / finest);
  report("double pendulum tip error at 2 s", coarse * 1e3, 0.3, "mm");
  report("double pendulum order", order, 1.9, "(at least)");
  report("double pendulum order, finer", next, 1.9, "(at least)");
  EXPECT_GE(order, 1.9);
  EXPECT_GE(next, 1.9);
}

// Three rods let go level: chaos, whose every crack the step resolves. None of it may be left to the velocity level,
// and the energy stays within half a percent of the largest that moves.
TEST(TriplePendulum, KeepsItsEnergy) {
  World world;
  const double length = 0.4;
  BodyId above = kWorld;
  for (int i = 0; i < 3; ++i) {
    const BodyId rod = world.addBody(solid(Box{{length, 0.03, 0.03}}, 1, {{(i + 0.5) * length, 0, 0}}));
    JointDef hinge =
        joint(JointType::hinge, above, i == 0 ? Vec3(0, 0, 0) : Vec3(length / 2, 0, 0), rod, Vec3(-length / 2, 0, 0));
    hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    world.addJoint(hinge);
    above = rod;
  }
  const double start = world.energy().total();
  double drift = 0, most = 0;
  Residual residual;
  for (int i = 0; i < 1200; ++i) {
    residual.include(world.step());
    most = std::max(most, world.energy().kinetic);
    drift = std::max(drift, std::abs(world.energy().total() - start));
  }
  report("triple pendulum, 20 s: energy", 100 * drift / most, 0.5, "%");
  EXPECT_LE(drift, 0.005 * most);
  EXPECT_EQ(residual.fallbacks, 0);
}

}  // namespace
}  // namespace calm::physics
