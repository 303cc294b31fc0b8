// SPDX-License-Identifier: GPL-3.0-or-later
// What a recording adds to a run.
#include <benchmark/benchmark.h>

#include "rig/demos.h"
#include "rig/kits/line.h"
#include "run/recording.h"

namespace {

using namespace calm;

constexpr int kFrames = 240;

void runOfTheHoist(benchmark::State& state) {
  const bool recorded = state.range(0) == 1;
  const auto rig = std::make_shared<const rig::Rig>(rig::jibHoistSlice());
  for (auto _ : state) {
    run::CompiledRig compiled = run::compile(*rig);
    run::Recording recording(rig, kFrames + 1);
    for (int i = 0; i < kFrames; ++i) {
      const Residual residual = compiled.step();
      if (recorded) recording.append(compiled, residual);
    }
    benchmark::DoNotOptimize(recording.size());
  }
}
BENCHMARK(runOfTheHoist)->Unit(benchmark::kMillisecond)->ArgName("recorded")->Arg(0)->Arg(1)->Repetitions(3);

// Jumps to any moment of a minute of 2,000 joints, most of it on the disk: all poses and loads of a frame are read.
void scrubbing(benchmark::State& state) {
  constexpr std::size_t kLinks = 2000, kMinute = 3600;
  auto rig = std::make_shared<rig::Rig>();
  rig::LineChoices chain;
  chain.from = {{0, 60, 0}, rig::kNone, true};
  chain.to = {{80, 60, 0}, rig::kNone, true};
  chain.length = 100;
  chain.links = kLinks;
  rig::makeLine(*rig, chain);
  run::CompiledRig compiled = run::compile(*rig);
  const Residual residual = compiled.step();
  run::FrameData frame = run::sampleOf(compiled, residual);
  run::Recording recording(rig, kMinute);
  for (std::size_t i = 0; i < kMinute; ++i) {
    frame.time = static_cast<double>(i) / 60;
    recording.append(frame);
  }
  std::size_t at = 0;
  for (auto _ : state) {
    at = (at * 1664525 + 1013904223) % kMinute;
    const run::Frame& f = recording.frame(at);
    double sum = 0;
    for (const run::PartSample& p : f.parts) sum += p.pose.position.y();
    for (const run::JointSample& j : f.joints) sum += j.force;
    benchmark::DoNotOptimize(sum);
  }
  state.counters["MB_per_second"] = static_cast<double>(recording.bytes()) / 60e6;
  state.counters["share_on_disk"] =
      static_cast<double>(recording.bytesOnDisk()) / static_cast<double>(recording.bytes());
}
BENCHMARK(scrubbing)->Unit(benchmark::kMicrosecond);

}  // namespace
