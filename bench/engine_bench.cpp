// SPDX-License-Identifier: GPL-3.0-or-later
// What a chain costs: one frame of 8 substeps against the number of links, the growth exponent, and the ratio to real
// time.
#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>

#include "physics/rigs.h"

namespace {

using namespace calm;
using namespace calm::physics;

// A chain with a tenth of its own mass on the end, swinging.
void frameOfChain(benchmark::State& state) {
  ChainPlan plan;
  plan.links = static_cast<int>(state.range(0));
  plan.angle = 0.3;
  plan.payload = 0.1 * plan.links * plan.mass;
  Chain chain = makeChain(plan);
  chain.world.step();
  for (auto _ : state) chain.world.step();
  const double perLink = 1.0 / (plan.links * 8.0);
  state.counters["s/link/substep"] =
      benchmark::Counter(perLink, benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
  state.counters["x real time"] =
      benchmark::Counter(chain.world.settings().frame, benchmark::Counter::kIsIterationInvariantRate);
  state.SetComplexityN(plan.links);
}
BENCHMARK(frameOfChain)
    ->Unit(benchmark::kMillisecond)
    ->RangeMultiplier(2)
    ->Range(10, 2000)
    ->Complexity(benchmark::oN)
    ->Complexity([](benchmark::IterationCount n) { return static_cast<double>(n); });

// The same chain of other joints; friction lets many hinges slip at once.
void frameOfJoints(benchmark::State& state, JointType type, double friction) {
  ChainPlan plan;
  plan.links = static_cast<int>(state.range(0));
  plan.angle = 0.3;
  plan.type = type;
  plan.friction = friction;
  Chain chain = makeChain(plan);
  chain.world.step();
  for (auto _ : state) chain.world.step();
  state.counters["x real time"] =
      benchmark::Counter(chain.world.settings().frame, benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK_CAPTURE(frameOfJoints, hinge, JointType::hinge, 0)->Unit(benchmark::kMillisecond)->Arg(200)->Arg(2000);
BENCHMARK_CAPTURE(frameOfJoints, universal, JointType::universal, 0)
    ->Unit(benchmark::kMillisecond)
    ->Arg(200)
    ->Arg(2000);
BENCHMARK_CAPTURE(frameOfJoints, limb, JointType::limb, 0)->Unit(benchmark::kMillisecond)->Arg(200)->Arg(2000);
BENCHMARK_CAPTURE(frameOfJoints, fixed, JointType::fixed, 0)->Unit(benchmark::kMillisecond)->Arg(200)->Arg(2000);
BENCHMARK_CAPTURE(frameOfJoints, rubbingHinge, JointType::hinge, 0.001)
    ->Unit(benchmark::kMillisecond)
    ->Arg(200)
    ->Arg(2000)
    ->Iterations(20);

// The slope of time against links on logarithmic axes, 100 to 10,000, as a number of its own.
void growthExponent(benchmark::State& state) {
  const auto frameTime = [](int links) {
    ChainPlan plan{links, 0.05, 0.2, 0.02 * links, 0.3};
    Chain chain = makeChain(plan);
    chain.world.step();
    const int frames = 4000 / links + 5;
    // The best of a few: what else the machine does only ever adds.
    double best = 1e300;
    for (int run = 0; run < 4; ++run) {
      const auto start = std::chrono::steady_clock::now();
      for (int i = 0; i < frames; ++i) chain.world.step();
      const std::chrono::duration<double> spent = std::chrono::steady_clock::now() - start;
      best = std::min(best, spent.count() / frames);
    }
    return best;
  };
  double slope = 0;
  for (auto _ : state) {
    double n = 0, x = 0, y = 0, xx = 0, xy = 0;
    for (int links : {100, 300, 1000, 3000, 10000}) {
      const double a = std::log(links), b = std::log(frameTime(links));
      ++n, x += a, y += b, xx += a * a, xy += a * b;
    }
    slope = (n * xy - x * y) / (n * xx - x * x);
  }
  state.counters["exponent"] = slope;
}
BENCHMARK(growthExponent)->Unit(benchmark::kSecond)->Iterations(1);

}  // namespace

BENCHMARK_MAIN();
