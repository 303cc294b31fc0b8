// SPDX-License-Identifier: GPL-3.0-or-later
// What a recording adds to a run.
#include <benchmark/benchmark.h>

#include "rig/demos.h"
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

}  // namespace
