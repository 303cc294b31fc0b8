// SPDX-License-Identifier: GPL-3.0-or-later
// Joints that are redundant: their compliance decides how they share a load, and they hold all the same.
#include <gtest/gtest.h>

#include <array>

#include "physics/rigs.h"
#include "physics/runge_kutta.h"

namespace calm::physics {
namespace {

const Quat kAboutY = turnBetween(Vec3::UnitX(), Vec3::UnitY());

// A gate on two pins with a man's weight at its edge: the pins share the weight by their compliance, and their
// horizontal forces are the couple over their distance.
TEST(RedundantGate, CarriesItsCoupleBetweenTwoPins) {
  for (const double compliance : {0.0, 1e-12, 1e-11, 1e-10, 1e-9}) {  // 0: the engine's own
    World world;
    const BodyId gate = world.addBody(solid(Box{{2, 1, 0.05}}, 40, {{1, 0, 0}, Quat::Identity()}));
    for (const double y : {0.4, -0.4}) {
      JointDef j = joint(JointType::hinge, kWorld, {0, y, 0}, gate, {-1, y, 0});
      j.frameA.rotation = j.frameB.rotation = kAboutY;
      j.compliance = compliance;
      world.addJoint(j);
    }
    world.addForce(gate, Vec3(0, -500 * kGravity, 0), {2, 0, 0});
    double separation = 0;
    for (int i = 0; i < 300; ++i) {
      world.step();
      for (JointId j : {0, 1}) separation = std::max(separation, world.reading(j).separationPeak);
    }
    const double couple = (40 * 1 + 500 * 2) * kGravity;
    const Vec3 up = world.reading(0).force + world.reading(1).force;
    const std::string name = "two pins, compliance " + std::to_string(compliance * 1e12) + "e-12: ";
    report(name + "vertical", up.y() / (540 * kGravity) - 1, 1e-4, "");
    EXPECT_NEAR(up.y(), 540 * kGravity, 1e-4 * 540 * kGravity);
    // The pins are stiff in turning too; force couple and moments carry the load together.
    const double carried = -world.reading(0).force.x() * 0.4 + world.reading(1).force.x() * 0.4 +
                           world.reading(0).torque.z() + world.reading(1).torque.z();
    report(name + "couple", carried / couple - 1, 1e-2, "");
    EXPECT_NEAR(carried, couple, 1e-2 * couple);
    if (compliance == 0) {
      report(name + "separation", separation * 1e3, 0.01, "mm");
      EXPECT_LE(separation, 1e-5);
    }
  }
}

// A beam on three equal parallel cranks, which two would guide: all of it swings as one pendulum,
// (3 I + M l^2) a = -(3 m l/2 + M l) g sin(angle), I each crank's about its pin.
struct FourBar {
  static constexpr double kLength = 0.5, kCrank = 2, kBeam = 6;
  World world;
  BodyId crank = kWorld;
  std::vector<JointId> pins;  // of the beam
  double omega2 = 0;          // squared frequency of small swings

  FourBar(double angle, double compliance) {
    const Quat turned = Quat(Eigen::AngleAxisd(angle, Vec3::UnitZ()));
    const Quat across = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
    const Vec3 down = turned * Vec3(0, -kLength, 0);
    const Shape bar = Box{{0.03, kLength, 0.02}};
    const BodyId beam = world.addBody(solid(Box{{1, 0.04, 0.04}}, kBeam, {down}));
    for (const double x : {-0.4, 0.0, 0.4}) {
      const Vec3 pivot(x, 0, 0);
      crank = world.addBody(solid(bar, kCrank, {pivot + down / 2, turned}));
      JointDef top = joint(JointType::hinge, kWorld, pivot, crank, {0, kLength / 2, 0});
      JointDef bottom = joint(JointType::hinge, crank, {0, -kLength / 2, 0}, beam, pivot);
      top.frameA.rotation = bottom.frameB.rotation = across;
      top.frameB.rotation = bottom.frameA.rotation = turned.conjugate() * across;
      top.compliance = bottom.compliance = compliance;
      world.addJoint(top);
      pins.push_back(world.addJoint(bottom));
    }
    const double crankInertia = massPropertiesOf(bar, kCrank).inertia(2, 2) + kCrank * kLength * kLength / 4;
    omega2 = (1.5 * kCrank + kBeam) * kLength * kGravity / (3 * crankInertia + kBeam * kLength * kLength);
  }

  double angle() const {
    const Vec3 along = world.state(crank).pose.rotation * Vec3(0, -1, 0);
    return std::atan2(along.x(), -along.y());
  }
};

TEST(RedundantFourBar, SwingsAsOnePendulum) {
  constexpr double kRelease = kPi / 3;
  FourBar bar(kRelease, 0);
  using State = std::array<double, 2>;  // angle and its rate
  const auto rate = [&](const State& s) { return State{s[1], -bar.omega2 * std::sin(s[0])}; };
  State s{kRelease, 0};
  double worst = 0, separation = 0;
  for (int frame = 0; frame < 300; ++frame) {
    bar.world.step();
    constexpr int kSteps = 50;
    for (int i = 0; i < kSteps; ++i) s = rungeKutta(s, bar.world.settings().frame / kSteps, rate);
    worst = std::max(worst, std::abs(bar.angle() - s[0]));
    for (JointId j = 0; j < bar.world.jointCount(); ++j)
      separation = std::max(separation, bar.world.reading(j).separationPeak);
  }
  report("redundant four-bar, path over 5 s", worst, 1e-3, "rad");
  report("redundant four-bar, separation", separation * 1e3, 1e-3, "mm");
  EXPECT_LE(worst, 1e-3);
  EXPECT_LE(separation, 1e-6);
}

TEST(RedundantFourBar, SharesItsLoadAlikeAtAnyCompliance) {
  std::vector<double> middle;
  for (const double compliance : {1e-12, 1e-11, 1e-10, 1e-9}) {
    FourBar bar(kPi / 3, compliance);
    for (int frame = 0; frame < 60; ++frame) bar.world.step();
    middle.push_back(bar.world.reading(bar.pins[1]).force.norm());
  }
  const auto [least, most] = std::minmax_element(middle.begin(), middle.end());
  report("redundant four-bar, middle pin's force over compliances", (*most / *least - 1) * 100, 1, "%");
  EXPECT_LE(*most / *least - 1, 0.01);
  FourBar still(0, 0);
  for (int frame = 0; frame < 30; ++frame) still.world.step();
  for (const JointId pin : still.pins)
    EXPECT_NEAR(still.world.reading(pin).force.norm(), FourBar::kBeam * kGravity / 3,
                0.01 * FourBar::kBeam * kGravity / 3)
        << "three equal pins under the middle of the load carry a third each";
}

// Two bars from a wall to one pin, with a weight on it: the level one is pushed with W, the sloping one pulled with
// W sqrt(2). The bars lie in each other at the pin, which is not to count as a touch.
TEST(Truss, CarriesByStaticsWhereItsBarsOverlapAtThePin) {
  const double weight = 1000;
  World world;
  const auto bar = [&](const Vec3& from, const Vec3& to) {
    const Quat along = turnBetween(Vec3::UnitX(), to - from);
    return world.addBody(tangible(Box{{(to - from).norm(), 0.02, 0.02}}, 0.01, {(from + to) / 2, along}));
  };
  const Vec3 foot(0, 0, 0), top(0, 1, 0), pin(1, 0, 0);
  const BodyId level = bar(foot, pin), slope = bar(top, pin);
  BodyDef load = tangible(Sphere{0.05}, weight / kGravity, {pin});
  const BodyId stone = world.addBody(load);
  const auto tie = [&](BodyId a, BodyId b, const Vec3& at) {
    JointDef def;
    def.type = JointType::ball;
    def.a = a, def.b = b;
    def.frameA.position = world.state(a).pose.applyInverse(at);
    def.frameB.position = world.state(b).pose.applyInverse(at);
    return world.addJoint(def);
  };
  const JointId pushed = tie(kWorld, level, foot), pulled = tie(kWorld, slope, top);
  tie(level, stone, pin), tie(slope, stone, pin);
  for (int i = 0; i < 60; ++i) world.step();
  const double push = world.reading(pushed).force.norm(), pull = world.reading(pulled).force.norm();
  report("truss: forces in its bars", std::max(std::abs(push / weight - 1), std::abs(pull / weight - std::sqrt(2))),
         1e-3, "of the weight");
  EXPECT_NEAR(push, weight, 1e-3 * weight);
  EXPECT_NEAR(pull, std::sqrt(2) * weight, 1e-3 * weight);
}

// A heavy leaf on two hinges, one of them redundant, driven into its stop: it stops there, with its joints closed.
TEST(RedundantGate, StopsDeadAtItsStop) {
  World world({.gravity = Vec3(0, -kGravity, 0)});
  BodyDef def = solid(Box{{2.45, 3, 0.22}}, 1500, {{1.225, 0, 0}});
  const double speed = 0.3;
  def.angularVelocity = Vec3(0, speed, 0);
  def.velocity = def.angularVelocity.cross(def.pose.position);
  const BodyId leaf = world.addBody(def);
  JointId pintle = 0;
  for (const double y : {-1.4, 1.4}) {
    JointDef hinge = joint(JointType::hinge, kWorld, {0, y, 0}, leaf, {-1.225, y, 0});
    hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
    if (y < 0) {
      hinge.axes[0].low = -0.1, hinge.axes[0].high = 0.25;
      hinge.axes[0].speed = speed, hinge.axes[0].cap = 900;
      pintle = world.addJoint(hinge);
    } else {
      world.addJoint(hinge);
    }
  }
  Residual residual;
  double furthest = 0;
  for (int i = 0; i < 300; ++i) {
    residual.include(world.step());
    furthest = std::max(furthest, world.reading(pintle).position[0]);
  }
  const double degree = 180 / kPi;
  report("redundant gate at its stop: overshoot", (furthest - 0.25) * degree, 0.01, "deg");
  EXPECT_LE(furthest - 0.25, 0.01 / degree);
  EXPECT_NEAR(world.reading(pintle).position[0], 0.25, 1e-6);
  EXPECT_LE(residual.linear, 1e-6);
  EXPECT_EQ(residual.redone, 0);
}

// Uprights of a metre side by side under beams of a metre, one way to move in all, over the top at 1 m/s: each turn
// takes them twice through where all bars lie in one line and could move apart (Gonzalez, Dopico, Lugris and Cuadrado,
// "A benchmarking system for MBS simulation software", Multibody System Dynamics 16, 2006, problem A02: 0.1 J in 10 s).
// They move as one pendulum.
TEST(FourBars, PassTheirDeadCentres) {
  constexpr int kWindows = 2;
  World world;
  const Quat aboutZ = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  const auto rod = [&](const Vec3& middle, double angle, const Vec3& velocity, double spin) {
    const Pose pose{middle, Quat(Eigen::AngleAxisd(angle, Vec3::UnitZ()))};
    BodyDef def = solid(Box{{1, 0.01, 0.01}}, 1, pose);
    def.mass.inertia = Vec3(1e-4, 1.0 / 12, 1.0 / 12).asDiagonal();
    def.velocity = velocity;
    def.angularVelocity = Vec3(0, 0, spin);
    return world.addBody(def);
  };
  // `a` and `b`: along each rod's x, from its middle; both turned by their own angles at the start.
  const auto pin = [&](BodyId a, const Vec3& onA, double angleA, BodyId b, double onB, double angleB) {
    JointDef def = joint(JointType::hinge, a, onA, b, Vec3(onB, 0, 0));
    def.frameA.rotation = Quat(Eigen::AngleAxisd(-angleA, Vec3::UnitZ())) * aboutZ;
    def.frameB.rotation = Quat(Eigen::AngleAxisd(-angleB, Vec3::UnitZ())) * aboutZ;
    world.addJoint(def);
  };
  std::vector<BodyId> uprights;
  for (int i = 0; i <= kWindows; ++i) {
    uprights.push_back(rod(Vec3(i, 0.5, 0), kPi / 2, Vec3(0.5, 0, 0), -1));
    pin(kWorld, Vec3(i, 0, 0), 0, uprights.back(), -0.5, kPi / 2);
  }
  for (int i = 0; i < kWindows; ++i) {
    const BodyId beam = rod(Vec3(i + 0.5, 1, 0), 0, Vec3(1, 0, 0), 0);
    pin(uprights[i], Vec3(0.5, 0, 0), kPi / 2, beam, -0.5, 0);
    pin(beam, Vec3(0.5, 0, 0), 0, uprights[i + 1], 0.5, kPi / 2);
  }
  // The pendulum: inertia and weight's moment about the pivots, in steps far below any error looked for.
  const double inertia = (kWindows + 1) / 3.0 + kWindows, moment = ((kWindows + 1) / 2.0 + kWindows) * kGravity;
  double turned = 0, rate = 1, off = 0, gained = 0;
  const double start = world.energy().total();
  constexpr int kFine = 2000;
  for (int f = 0; f < 600; ++f) {
    world.step();
    constexpr double kStep = 1.0 / 60 / kFine;
    for (int i = 0; i < kFine; ++i) {
      rate += kStep / 2 * moment / inertia * std::sin(turned);
      turned += kStep * rate;
      rate += kStep / 2 * moment / inertia * std::sin(turned);
    }
    const Vec3 along = world.state(uprights[0]).pose.rotation * Vec3::UnitX();
    const Vec3 there(std::sin(turned), std::cos(turned), 0);
    off = std::max(off, (along - there).norm());
    gained = std::max(gained, std::abs(world.energy().total() - start));
  }
  report("two four-bars through their dead centres, 10 s: energy", gained, 0.1, "J");
  report("two four-bars through their dead centres, 10 s: angle", off, 2e-3, "rad");
  EXPECT_LE(gained, 0.1);
  EXPECT_LE(off, 2e-3);
}

}  // namespace
}  // namespace calm::physics
