// SPDX-License-Identifier: GPL-3.0-or-later
// Sweeps: settings by name, ranges, shards, tables that can be gone on with.
#include "run/sweep.h"

#include <gtest/gtest.h>

#include <cmath>

#include "rig/edits.h"
#include "rig/kits/placed.h"

namespace calm::run {
namespace {

// A block on a spring, let go at rest: its frequency follows from mass and stiffness.
rig::Rig springRig() {
  rig::Rig rig;
  rig.stage.duration = 1;
  rig.stage.gravity = Vec3::Zero();
  rig::Part p;
  p.name = "block";
  p.heft = rig::Mass{4};
  p.pose.position = {0, 2, 0};
  const rig::Id block = rig::addPart(rig, p);
  const rig::Id slide = rig::addJoint(rig, JointType::slider, rig::kNone, block, {0, 2, 0}, Vec3::UnitX());
  rig.joint(slide)->name = "slide";
  rig.joint(slide)->axes[0].stiffness = 100;
  rig.joint(slide)->axes[0].target = 0.5;
  return rig;
}

SweepPlan plan() {
  SweepPlan p;
  p.rig = springRig();
  p.axes = {sweepAxis("mass of block = 1 kg..16 kg : 5 log", p.rig),
            sweepAxis("travel stiffness of slide = 100 N/m, 400 N/m", p.rig)};
  p.outcomes = {outcomeFrom("peak speed of block", p.rig), outcomeFrom("end travel of slide", p.rig),
                outcomeFrom("parting of slide", p.rig)};
  return p;
}

std::vector<SweepPoint> run(const SweepPlan& p, SweepOptions options = {}) {
  std::vector<SweepPoint> points;
  options.onPoint = [&](const SweepPoint& point) { points.push_back(point); };
  sweep(p, options);
  std::sort(points.begin(), points.end(), [](const auto& a, const auto& b) { return a.index < b.index; });
  return points;
}

TEST(Settings, AreReadAndSetByName) {
  rig::Rig rig = springRig();
  rig::makePlaced(rig, rig::Ladder{}, "ladder", {});
  for (const rig::Id id : {rig::kNone, rig.parts[0].id, rig.joints[0].id, rig.groups[0].id})
    for (const rig::Setting& s : rig::settingsOf(rig, id)) {
      ASSERT_TRUE(rig::settingNamed(s.name, rig)) << s.name;
      if (const auto now = s.get(rig)) {
        rig::Rig changed = rig;
        s.set(changed, *now);
        EXPECT_EQ(s.get(changed), now) << s.name;
      }
    }
  rig::settingNamed("treads of ladder", rig)->set(rig, 5);
  EXPECT_EQ(std::get<rig::Ladder>(rig.groups[0].form).treads, 5) << "a kit is made anew";
  rig::settingNamed("break force of *", rig)->set(rig, 900);
  for (const rig::Joint& j : rig.joints) EXPECT_EQ(j.breakForce, 900);
  EXPECT_FALSE(rig::settingNamed("mass of nobody", rig));
}

TEST(Sweep, RunsEachPointWithItsSettings) {
  const SweepPlan p = plan();
  ASSERT_EQ(p.points(), 10u);
  const auto points = run(p, {.threads = 2});
  ASSERT_EQ(points.size(), 10u);
  for (const SweepPoint& point : points) {
    const double mass = point.settings[0], k = point.settings[1], omega = std::sqrt(k / mass);
    // Half a metre from its target: it comes by with half a metre times omega, if within the second.
    const double expected = omega > M_PI / 2 ? 0.5 * omega : 0.5 * omega * std::sin(omega);
    EXPECT_NEAR(point.outcomes[0], expected, 0.02 * expected) << mass << " kg, " << k << " N/m";
    EXPECT_NEAR(point.outcomes[1], 0.5 - 0.5 * std::cos(omega), 0.01);
    EXPECT_TRUE(std::isnan(point.outcomes[2])) << "nothing parts";
  }
  EXPECT_NEAR(points[2].settings[0], 2, 1e-12) << "by equal factors, the second setting fastest";
}

TEST(Sweep, ShardsMakeTheSameTableAsOneRun) {
  const SweepPlan p = plan();
  std::vector<std::string> tables;
  for (int shard = 0; shard < 3; ++shard) {
    tables.push_back(sweepHeader(p));
    for (const SweepPoint& point : run(p, {.shard = shard, .shards = 3})) tables.back() += sweepRow(point);
  }
  std::string whole = sweepHeader(p);
  for (const SweepPoint& point : run(p)) whole += sweepRow(point);
  EXPECT_EQ(mergeSweeps(tables), whole);
  EXPECT_THROW(mergeSweeps({tables[0], "nothing"}), std::invalid_argument);
}

TEST(Sweep, GoesOnWithATableThatWasCutShort) {
  const SweepPlan p = plan();
  std::string table = sweepHeader(p);
  for (const SweepPoint& point : run(p)) table += sweepRow(point);
  const std::string cut = table.substr(0, table.size() - 9);
  const auto known = readSweep(cut, p);
  EXPECT_EQ(known.size(), 9u) << "the last line is not whole";
  std::vector<char> done(p.points(), 0);
  for (const SweepPoint& point : known) done[point.index] = 1;
  const auto rest = run(p, {.done = done});
  ASSERT_EQ(rest.size(), 1u);
  EXPECT_EQ(rest[0].index, 9u);
  SweepPlan other = plan();
  other.rig.stage.duration = 2;
  EXPECT_THROW(readSweep(table, other), std::invalid_argument) << "another rig";
  EXPECT_TRUE(readSweep("", p).empty());
}

TEST(Sweep, PointsThatCannotBeSayWhy) {
  SweepPlan p = plan();
  p.axes = {sweepAxis("friction of block = -1, 0.5", p.rig)};
  const auto points = run(p);
  EXPECT_NE(points[0].fault.find("friction"), std::string::npos) << points[0].fault;
  EXPECT_TRUE(points[1].fault.empty());
}

TEST(Sweep, WhatCannotBeKeptEndsItWithItsReason) {
  const SweepPlan p = plan();
  int kept = 0;
  SweepOptions options{.threads = 2};
  options.onPoint = [&](const SweepPoint&) {
    if (++kept == 3) throw std::runtime_error("the disk is full");
  };
  EXPECT_THROW(sweep(p, options), std::runtime_error) << "from whichever thread";
  EXPECT_EQ(kept, 3);
  EXPECT_THROW(mergeSweeps({sweepHeader(p) + "soon,1\n"}), std::invalid_argument);
}

TEST(Sweep, CanBeStopped) {
  const SweepPlan p = plan();
  std::atomic<bool> stop{true};
  EXPECT_TRUE(run(p, {.stop = &stop}).empty());
}

TEST(Sweep, TellsWhatIsWrongWithARangeOrAnOutcome) {
  const rig::Rig rig = springRig();
  const auto complaint = [&](const std::string& text) -> std::string {
    try {
      sweepAxis(text, rig);
    } catch (const std::invalid_argument& e) {
      return e.what();
    }
    return "none";
  };
  EXPECT_NE(complaint("mass of block").find("expected a setting"), std::string::npos);
  EXPECT_NE(complaint("weight of block = 1..2 : 3").find("weight of block"), std::string::npos);
  EXPECT_NE(complaint("mass of block = 1 m..2 kg : 3").find("1 m"), std::string::npos);
  EXPECT_NE(complaint("mass of block = 1 kg..2 kg").find("number of values"), std::string::npos);
  EXPECT_NE(complaint("mass of block = 0 kg..2 kg : 3 log").find("above 0"), std::string::npos);
  EXPECT_NE(complaint("mass of block = 1 kg..2 kg : 1").find("2 to 100000"), std::string::npos);
  EXPECT_THROW(outcomeFrom("peak weight of block", rig), std::invalid_argument);
  EXPECT_THROW(outcomeFrom("parting of nothing", rig), std::invalid_argument);
  EXPECT_THROW(outcomeFrom("sum energy", rig), std::invalid_argument);
}

}  // namespace
}  // namespace calm::run
