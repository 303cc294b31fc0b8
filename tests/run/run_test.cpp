// SPDX-License-Identifier: GPL-3.0-or-later
// From rig to recording and report.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <chrono>
#include <nlohmann/json.hpp>
#include <sstream>

#include "rig/demos.h"
#include "rig/edits.h"
#include "run/live_run.h"
#include "run/report.h"

namespace calm::run {
namespace {

using nlohmann::json;

rig::Rig hangingCrate(std::optional<double> strength = {}) {
  rig::Rig rig;
  rig.stage.groundHeight.reset();
  rig.stage.duration = 1;
  rig::Part crate;
  crate.name = "crate";
  crate.shape = Box{{1, 1, 1}};
  crate.heft = rig::Mass{10};
  const rig::Id id = rig::addPart(rig, crate);
  rig::addJoint(rig, JointType::ball, rig::kNone, id, {0, 0.5, 0}, Vec3::UnitX());
  rig.joints[0].breakForce = strength;
  return rig;
}

TEST(Compile, NamesTheFaultyThing) {
  rig::Rig rig = hangingCrate();
  rig.parts[0].heft = rig::Mass{-1};
  try {
    compile(rig);
    FAIL();
  } catch (const CompileError& e) {
    EXPECT_THAT(e.what(), testing::HasSubstr("crate"));
    EXPECT_THAT(e.what(), testing::HasSubstr("mass"));
  }
}

TEST(Report, HoldsWhatIsPromised) {
  const rig::Rig rig = hangingCrate();
  const json report = json::parse(formatReport(rig, runToEnd(rig, {.seconds = 1, .every = {}, .onFrame = {}})));
  const json& joint = report.at("joints").at(0);
  for (const char* key : {"name", "type", "separation_peak_m", "separation_end_m", "force_peak_N", "force_end_N",
                          "torque_peak_Nm", "torque_end_Nm", "parted_at_s"})
    EXPECT_TRUE(joint.contains(key)) << key;
  EXPECT_NEAR(joint.at("force_end_N").get<double>(), 98.1, 1e-6);
  EXPECT_TRUE(joint.at("parted_at_s").is_null());
  const json& part = report.at("parts").at(0);
  for (const char* key : {"name", "position_m", "orientation_wxyz", "velocity_m_s", "angular_velocity_rad_s"})
    EXPECT_TRUE(part.contains(key)) << key;
  const json& run = report.at("run");
  for (const char* key :
       {"simulated_s", "wall_s", "steps", "real_time_factor", "energy_start_J", "energy_end_J", "residual_peak"})
    EXPECT_TRUE(run.contains(key)) << key;
  EXPECT_NEAR(run.at("simulated_s").get<double>(), 1, 1e-12);
  EXPECT_EQ(run.at("steps").get<int>(), 60);
}

TEST(Report, TellsWhenAJointParted) {
  const rig::Rig rig = hangingCrate(90);
  const json report = json::parse(formatReport(rig, runToEnd(rig, {.seconds = 1, .every = {}, .onFrame = {}})));
  EXPECT_LE(report.at("joints").at(0).at("parted_at_s").get<double>(), 0.02);
  EXPECT_LT(report.at("parts").at(0).at("position_m").at(1).get<double>(), -4);
}

TEST(Csv, HasARowAFrameAndQuotesNames) {
  rig::Rig rig = hangingCrate();
  rig.parts[0].name = "crate, \"old\"";
  std::ostringstream out;
  writeCsvHeader(out, rig);
  runToEnd(rig, {.seconds = 0.5, .every = {}, .onFrame = [&](const CompiledRig& run, const Residual&) {
                   writeCsvRow(out, run);
                 }});
  const std::string text = out.str();
  EXPECT_EQ(std::count(text.begin(), text.end(), '\n'), 1 + 31);
  EXPECT_THAT(text, testing::HasSubstr("\"crate, \"\"old\"\" x_m\""));
}

void finish(const LiveRun& run) {
  const auto start = std::chrono::steady_clock::now();
  while (!run.finished() && std::chrono::steady_clock::now() - start < std::chrono::seconds(60))
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  ASSERT_TRUE(run.finished());
}

TEST(LiveRun, RecordsEveryFrameOnItsOwnThread) {
  const auto rig = std::make_shared<const rig::Rig>(rig::jibHoistSlice());
  LiveRun run(rig);
  finish(run);
  const Recording& r = *run.recording();
  ASSERT_EQ(r.size(), 8u * 60 + 1);
  EXPECT_EQ(r.frame(0).parts.size(), rig->parts.size());
  EXPECT_NEAR(r.frame(120).time, 2, 1e-12);
  EXPECT_EQ(r.indexAt(2.0), 120u);
  EXPECT_EQ(r.indexAt(-1), 0u);
  EXPECT_EQ(r.indexAt(99), r.size() - 1);
}

// The recording is the same run as without a screen.
TEST(LiveRun, AgreesWithTheRunToTheEnd) {
  const auto rig = std::make_shared<const rig::Rig>(rig::jibHoistSlice());
  LiveRun run(rig);
  finish(run);
  const RunResult result = runToEnd(*rig, {.seconds = 8, .every = {}, .onFrame = {}});
  const Recording& r = *run.recording();
  for (std::size_t i = 0; i < rig->parts.size(); ++i)
    EXPECT_EQ(r.frame(r.size() - 1).parts[i].pose.position, result.end.parts[i].state.pose.position);
}

TEST(LiveRun, StopsAtOnceWhenLetGo) {
  auto rig = std::make_shared<rig::Rig>(rig::jibHoistSlice());
  rig->stage.duration = 1e5;
  const auto start = std::chrono::steady_clock::now();
  { const LiveRun run(rig); }
  EXPECT_LT(std::chrono::steady_clock::now() - start, std::chrono::seconds(2));
}

TEST(LiveRun, KeepsTheFaultOfARigThatCannotRun) {
  auto rig = std::make_shared<rig::Rig>(hangingCrate());
  rig->joints[0].b.part = 99;
  LiveRun run(rig);
  finish(run);
  EXPECT_THAT(run.error(), testing::HasSubstr("99"));
  EXPECT_EQ(run.recording()->size(), 0u);
}

TEST(WouldPartAt, AgreesWithTheRunThatParts) {
  const auto whole = std::make_shared<const rig::Rig>(rig::jibHoistSlice());
  LiveRun run(whole);
  finish(run);
  double peak = 0;
  for (std::size_t f = 0; f < run.recording()->size(); ++f)
    peak = std::max(peak, double(run.recording()->frame(f).joints[5].force));
  EXPECT_FALSE(wouldPartAt(*run.recording(), 5, peak * 1.001, {}));
  const double strength = peak * 0.97;
  const auto foretold = wouldPartAt(*run.recording(), 5, strength, {});
  ASSERT_TRUE(foretold);
  auto weak = std::make_shared<rig::Rig>(*whole);
  weak->joints[5].breakForce = strength;
  weak->stage.duration = *foretold + 0.5;  // the heap that the chain falls into is another test's matter
  LiveRun second(weak);
  finish(second);
  ASSERT_TRUE(second.recording()->partedAt(5));
  EXPECT_NEAR(*second.recording()->partedAt(5), *foretold, 1.0 / 60);
}

}  // namespace
}  // namespace calm::run
