// SPDX-License-Identifier: GPL-3.0-or-later
// Whole scenes against real time on one core: figures, piles, vehicles; and the memory that parts and joints take.
#include <benchmark/benchmark.h>
#include <tbb/global_control.h>
#include <unistd.h>

#include <fstream>

#include "physics/figure.h"

namespace {

using namespace calm;
using namespace calm::physics;

void stepAndReport(benchmark::State& state, World& world) {
  const tbb::global_control oneCore(tbb::global_control::max_allowed_parallelism, 1);
  for (auto _ : state) world.step();
  state.counters["x real time"] =
      benchmark::Counter(world.settings().frame, benchmark::Counter::kIsIterationInvariantRate);
}

void droppedFigures(benchmark::State& state) {
  World world;
  world.addBody(ground(0.6));
  for (int i = 0; i < state.range(0); ++i) addFigure(world, {2.0 * (i % 10), 0.5, 2.0 * (i / 10)});
  for (int i = 0; i < 60; ++i) world.step();
  stepAndReport(state, world);
}
BENCHMARK(droppedFigures)->Unit(benchmark::kMillisecond)->Arg(10)->Arg(100)->Iterations(60);

void pileOfBoxes(benchmark::State& state) {
  World world;
  world.addBody(ground(0.6));
  const int side = 10;
  for (int i = 0; i < state.range(0); ++i) {
    const int layer = i / (side * side), row = i / side % side, column = i % side;
    const Vec3 at(0.52 * column + 0.01 * layer, 0.25 + 0.51 * layer, 0.52 * row + 0.013 * layer);
    world.addBody(tangible(Box{Vec3::Constant(0.5)}, 10, {at}));
  }
  for (int i = 0; i < 30; ++i) world.step();
  stepAndReport(state, world);
}
BENCHMARK(pileOfBoxes)->Unit(benchmark::kMillisecond)->Arg(100)->Arg(1000)->Iterations(20);

void vehicles(benchmark::State& state) {
  World world;
  world.addBody(ground(0.9));
  for (int i = 0; i < state.range(0); ++i) {
    const Vec3 at(3.0 * (i % 10), 0, 3.0 * (i / 10));
    const BodyId body = world.addBody(tangible(Box{{1.6, 0.3, 0.9}}, 300, {at + Vec3(0, 0.75, 0)}));
    for (const double x : {-0.6, 0.6})
      for (const double z : {-0.55, 0.55}) {
        const Vec3 hub = at + Vec3(x, 0.3, z);
        const BodyId wheel = world.addBody(tangible(Sphere{0.3}, 15, {hub}));
        JointDef def;
        def.type = JointType::wheel;
        def.a = body, def.b = wheel;
        Mat3 axes;
        axes << Vec3::UnitZ(), Vec3::UnitY(), -Vec3::UnitX();
        def.frameA = world.state(body).pose.inverse() * Pose{hub, Quat(axes)};
        def.frameB.rotation = Quat(axes);
        def.axes[0].frequency = 2, def.axes[0].dampingRatio = 0.3;
        def.axes[2].speed = 6, def.axes[2].cap = 30;
        world.addJoint(def);
      }
  }
  for (int i = 0; i < 30; ++i) world.step();
  stepAndReport(state, world);
}
BENCHMARK(vehicles)->Unit(benchmark::kMillisecond)->Arg(10)->Arg(50);

double residentBytes() {
  std::ifstream file("/proc/self/statm");
  double all = 0, resident = 0;
  file >> all >> resident;
  return resident * static_cast<double>(sysconf(_SC_PAGESIZE));
}

// A long chain: each link is a part with its joint.
void memoryOfALink(benchmark::State& state) {
  constexpr int kLinks = 5000;
  double bytes = 0;
  for (auto _ : state) {
    const double before = residentBytes();
    ChainPlan plan;
    plan.links = kLinks;
    Chain chain = makeChain(plan);
    chain.world.step();
    bytes = (residentBytes() - before) / kLinks;
  }
  state.counters["bytes a part and joint"] = bytes;
}
BENCHMARK(memoryOfALink)->Iterations(1);

}  // namespace
