// SPDX-License-Identifier: GPL-3.0-or-later
// A moment as the new start, baking and back, frequencies and effort.
#include "run/restart.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "rig/demos.h"
#include "rig/edits.h"
#include "run/effort.h"
#include "run/spectrum.h"

namespace calm::run {
namespace {

rig::Rig pendulum() {
  rig::Rig rig;
  rig.stage.groundHeight.reset();
  rig.stage.duration = 4;
  rig::Part bob;
  bob.name = "bob";
  bob.shape = Sphere{0.1};
  bob.heft = rig::Mass{3};
  bob.pose.position = {1, 0, 0};
  const rig::Id id = rig::addPart(rig, bob);
  rig::addJoint(rig, JointType::hinge, rig::kNone, id, {0, 0, 0}, Vec3::UnitZ());
  return rig;
}

std::shared_ptr<const Recording> runOf(const rig::Rig& rig) {
  return record(std::make_shared<const rig::Rig>(rig));
}

TEST(StartingAt, GoesOnAsTheRunDid) {
  const auto whole = runOf(pendulum());
  const auto late = runOf(startingAt(*whole, 60, true));
  for (std::size_t i = 0; i < 120; i += 10)
    EXPECT_LT((late->frame(i).parts[0].pose.position - whole->frame(i + 60).parts[0].pose.position).norm(), 2e-4)
        << "of the swing, " << i << " frames on: second order from another half step";
}

TEST(StartingAt, AtRestItBeginsWithoutVelocity) {
  const auto whole = runOf(pendulum());
  const rig::Rig rig = startingAt(*whole, 60, false);
  EXPECT_EQ(rig.parts[0].velocity, Vec3(0, 0, 0));
  EXPECT_EQ(rig.parts[0].pose.position, whole->frame(60).parts[0].pose.position);
}

TEST(StartingAt, WhatWasDoneIsDoneAndTheRestComesSooner) {
  rig::Rig rig = pendulum();
  const rig::Id joint = rig.joints[0].id, bob = rig.parts[0].id;
  const auto cue = [&](double at, rig::Cue::Act act) {
    rig::Cue c;
    c.when.at = at;
    c.act = act;
    if (act == rig::Cue::Act::cut) c.joint = joint;
    if (act == rig::Cue::Act::impulse) c.part = bob;
    c.vector = {0, -3, 0};
    return c;
  };
  rig::addCue(rig, cue(0.5, rig::Cue::Act::gravity));
  rig::addCue(rig, cue(0.7, rig::Cue::Act::cut));
  rig::addCue(rig, cue(3, rig::Cue::Act::impulse));
  rig::Expectation rests;
  rests.kind = rig::Expectation::Kind::settles;
  rests.from = 2.5;
  rests.high = 1;
  rig.expectations.push_back(rests);
  const rig::Rig later = startingAt(*runOf(rig), 60, true);
  EXPECT_EQ(later.stage.gravity, Vec3(0, -3, 0));
  EXPECT_TRUE(later.joints.empty()) << "it was cut";
  ASSERT_EQ(later.cues.size(), 1u);
  EXPECT_NEAR(later.cues[0].when.at, 2, 1e-9);
  EXPECT_NEAR(later.expectations[0].from, 1.5, 1e-9);
}

TEST(Baking, FollowsTheRunAndComesBack) {
  const auto whole = runOf(pendulum());
  rig::Rig baked = whole->rig();
  bake(baked, *whole, {baked.parts[0].id});
  EXPECT_EQ(baked.parts[0].role, Role::kinematic);
  EXPECT_EQ(baked.joints.size(), 1u) << "it will be needed again";
  const auto replay = runOf(baked);
  for (std::size_t i = 0; i < whole->size(); i += 17)
    EXPECT_LT((replay->frame(i).parts[0].pose.position - whole->frame(i).parts[0].pose.position).norm(), 1e-9);
  unbake(baked, {baked.parts[0].id});
  EXPECT_EQ(baked.parts[0].role, Role::dynamic);
  EXPECT_LT(baked.parts[0].velocity.norm(), 0.02) << "the keys begin at rest";
  const auto again = runOf(baked);
  EXPECT_LT((again->frame(60).parts[0].pose.position - whole->frame(60).parts[0].pose.position).norm(), 0.02);
  EXPECT_THROW(unbake(baked, {baked.parts[0].id}), std::invalid_argument);
  EXPECT_THROW(bake(baked, *whole, {}), std::invalid_argument);
}

TEST(Spectrum, FindsFrequencyAndAmplitudeOfASine) {
  std::vector<double> samples;
  for (int i = 0; i < 600; ++i) samples.push_back(7 + 2.5 * std::sin(2 * std::numbers::pi * 3.217 * i / 60.0 + 0.4));
  const Spectrum s = spectrumOf(samples, 1 / 60.0);
  EXPECT_NEAR(s.peakFrequency, 3.217, 0.005);
  EXPECT_NEAR(s.peakAmplitude, 2.5, 0.05) << "between bins a Hann window is known to 2 %";
  EXPECT_NEAR(s.amplitude[0], 7, 0.1);
  EXPECT_NEAR(s.frequency.back(), 30, 1e-9);
  EXPECT_TRUE(spectrumOf({1, 2, 3}, 0.1).frequency.empty());
}

// A small swing's period is 2 pi sqrt(I / (m g l)), with the ball's own inertia.
TEST(Spectrum, ASmallPendulumSwingsAtItsFrequency) {
  rig::Rig rig = pendulum();
  rig.stage.duration = 20;
  rig.parts[0].pose.position = {std::sin(0.05), -std::cos(0.05), 0};
  rig.joints.clear();
  rig::addJoint(rig, JointType::hinge, rig::kNone, rig.parts[0].id, {0, 0, 0}, Vec3::UnitZ());
  const auto r = runOf(rig);
  std::vector<double> x;
  for (std::size_t i = 0; i < r->size(); ++i) x.push_back(r->frame(i).parts[0].pose.position.x());
  const double inertia = 1 + 0.4 * 0.01;  // for a kilogram
  EXPECT_NEAR(spectrumOf(x, 1 / 60.0).peakFrequency, std::sqrt(9.81 / inertia) / (2 * std::numbers::pi), 0.002);
}

TEST(Effort, AccountsForTheWholeRun) {
  auto rig = rig::jibHoistSlice();
  rig.stage.duration = 1;
  rig.stage.separationBudget = 1e-5;
  const Effort e = effortOf(*runOf(rig));
  EXPECT_GT(e.time.joints, 0);
  EXPECT_GT(e.time.rest, 0);
  EXPECT_NEAR(e.perFrame * 60, e.time.total(), 1e-9);
  EXPECT_GE(e.slowest, e.perFrame);
  EXPECT_GE(e.leastSubsteps, rig.stage.substeps);
  EXPECT_EQ(e.overBudget, 0);
  EXPECT_LE(e.worst.linear, 1e-5);
}

TEST(Effort, MoreOfTheSameIsMeasured) {
  auto rig = rig::jibHoistSlice();
  std::vector<int> told;
  const auto growth = growthOf(rig, nullptr, [&](const Growth& g) { told.push_back(g.copies); });
  ASSERT_EQ(growth.size(), 3u);
  EXPECT_EQ(told, (std::vector<int>{1, 2, 4}));
  EXPECT_EQ(growth[2].parts, 4 * rig.parts.size());
  EXPECT_EQ(growth[2].joints, 4 * rig.joints.size());
  for (const Growth& g : growth) EXPECT_GT(g.perFrame, 0);
  EXPECT_NEAR(exponentOf({{1, 1, 1, 0.5}, {2, 2, 2, 1}, {4, 4, 4, 2}}), 1, 1e-12);
  std::atomic<bool> stop = true;
  EXPECT_TRUE(growthOf(rig, &stop).empty());
}

}  // namespace
}  // namespace calm::run
