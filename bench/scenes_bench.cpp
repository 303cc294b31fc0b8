// SPDX-License-Identifier: GPL-3.0-or-later
// Whole scenes against real time: figures, piles, vehicles; and the memory that parts and joints take.
#include <benchmark/benchmark.h>
#include <unistd.h>

#include <fstream>

#include "physics/rigs.h"

namespace {

using namespace calm;
using namespace calm::physics;

void stepAndReport(benchmark::State& state, World& world) {
  for (auto _ : state) world.step();
  state.counters["x real time"] =
      benchmark::Counter(world.settings().frame, benchmark::Counter::kIsIterationInvariantRate);
}

// A figure of fifteen bones: trunk of three, head, two arms and two legs of two bones each, hands left to the arms,
// feet.
void addFigure(World& world, const Vec3& at) {
  const auto bone = [&](const Vec3& middle, double length, double mass, bool level) {
    BodyDef def = tangible(Capsule{length * 0.22, length}, mass, {at + middle, Quat::Identity()});
    if (level) def.pose.rotation = Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitZ()));
    def.angularDamping = 1;
    return world.addBody(def);
  };
  const auto tie = [&](BodyId a, BodyId b, const Vec3& pivot) {
    JointDef def;
    def.type = JointType::limb;
    def.a = a, def.b = b;
    def.frameA = world.state(a).pose.inverse() * Pose{at + pivot, Quat::Identity()};
    def.frameB = world.state(b).pose.inverse() * Pose{at + pivot, Quat::Identity()};
    def.form.coneY = 0.9, def.form.coneZ = 0.9;
    def.axes[0].low = -0.5, def.axes[0].high = 0.5;
    world.addJoint(def);
  };
  const BodyId hips = bone({0, 1.0, 0}, 0.25, 9, false), belly = bone({0, 1.2, 0}, 0.25, 8, false),
               chest = bone({0, 1.42, 0}, 0.28, 14, false), head = bone({0, 1.7, 0}, 0.24, 5, false);
  tie(hips, belly, {0, 1.1, 0});
  tie(belly, chest, {0, 1.3, 0});
  tie(chest, head, {0, 1.57, 0});
  for (const double side : {-1.0, 1.0}) {
    const BodyId upper = bone({side * 0.3, 1.5, 0}, 0.3, 2.2, true),
                 lower = bone({side * 0.58, 1.5, 0}, 0.28, 1.4, true);
    tie(chest, upper, {side * 0.15, 1.5, 0});
    tie(upper, lower, {side * 0.45, 1.5, 0});
    const BodyId thigh = bone({side * 0.1, 0.68, 0}, 0.42, 8, false), shin = bone({side * 0.1, 0.27, 0}, 0.4, 4, false);
    tie(hips, thigh, {side * 0.1, 0.9, 0});
    tie(thigh, shin, {side * 0.1, 0.47, 0});
  }
  // Three more light bones, as hands and a tail of a coat, make fifteen.
  const BodyId hem = bone({0, 0.85, -0.2}, 0.2, 0.8, false);
  tie(hips, hem, {0, 0.95, -0.15});
  const BodyId bag = bone({0, 1.4, -0.3}, 0.3, 3, false), cap = bone({0, 1.9, 0}, 0.14, 0.3, false);
  tie(chest, bag, {0, 1.5, -0.2});
  tie(head, cap, {0, 1.83, 0});
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
