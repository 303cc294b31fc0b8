// SPDX-License-Identifier: GPL-3.0-or-later
// What the user's actions cost on a rig of 2,000 parts and as many joints: the model, not the screen.
#include <benchmark/benchmark.h>

#include "rig/advice/advice.h"
#include "rig/copies.h"
#include "rig/edits.h"
#include "rig/features.h"
#include "rig/history.h"
#include "rig/joining.h"
#include "rig/kits/group.h"
#include "rig/kits/line.h"
#include "rig/kits/placed.h"
#include "rig/selection.h"
#include "rig/sharing.h"

namespace {

using namespace calm;
using namespace calm::rig;

// Twenty chains of a hundred links from a beam.
const Rig& bigRig() {
  static const Rig rig = [] {
    Rig r;
    r.stage.groundHeight.reset();
    Part beam;
    beam.name = "beam";
    beam.role = Role::fixed;
    beam.shape = Box{{12, 0.2, 0.2}};
    const Id top = addPart(r, beam);
    for (int i = 0; i < 20; ++i) {
      LineChoices line;
      line.name = "chain";
      line.links = 100, line.length = 5;
      line.from = {Vec3(0.5 * i - 5, -0.1, 0), top, true};
      line.to = {Vec3(0.5 * i - 5, -5.1, 0), kNone, false};
      makeLine(r, line);
    }
    return r;
  }();
  return rig;
}

std::set<Id> allLinks() {
  std::set<Id> ids;
  for (const Part& p : bigRig().parts)
    if (p.group) ids.insert(p.id);
  return ids;
}

template <class Action>
void onTheBigRig(benchmark::State& state, const Action& action) {
  for (auto _ : state) {
    History history(bigRig());
    history.apply("action", action);
    history.undo();
    benchmark::DoNotOptimize(history.now().parts.size());
  }
}

void moveOnePart(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) { place(r, {{r.parts[500].id, {Vec3(1, 1, 1), Quat::Identity()}}}); });
}
void duplicateAll(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) { copyMoved(r, allLinks(), {Vec3(0, 0, 2), Quat::Identity()}); });
}
void mirrorOneChain(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) {
    const Id top = r.parts[0].id;  // which is not mirrored with it
    std::erase_if(r.joints, [&](const Joint& j) { return j.a.part == top; });
    copyMirrored(r, {r.groups[3].id}, Vec3::Zero(), Vec3::UnitZ());
  });
}
void deleteAChain(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) { remove(r, {r.groups[3].id}); });
}
void remakeAChain(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) {
    LineChoices choices = choicesOf(r, r.groups[3].id);
    choices.links = 120;
    remakeLine(r, r.groups[3].id, choices);
  });
}
void makeADoor(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) { makePlaced(r, Door{}, "gate", {}); });
}
void shareWithAll(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) {
    std::vector<Id> others;
    for (const Joint& j : r.joints) others.push_back(j.id);
    r.joints[0].breakForce = 900;
    share(r, others[0], others, {});
  });
}
void tagAll(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) { setTags(r, allLinks(), {"wet"}); });
}
void groupAChain(benchmark::State& state) {
  onTheBigRig(state, [](Rig& r) {
    ungroup(r, r.groups[3].id);
    groupByHand(r, {r.parts[301].id, r.parts[302].id}, "pair");
  });
}
void chooseTheAssembly(benchmark::State& state) {
  for (auto _ : state) benchmark::DoNotOptimize(assemblyOf(bigRig(), {bigRig().parts[500].id}).size());
}
void listAllFeatures(benchmark::State& state) {
  for (auto _ : state)
    for (const Part& p : bigRig().parts) benchmark::DoNotOptimize(featuresOf(p).size());
}
void findNeighbours(benchmark::State& state) {
  for (auto _ : state) benchmark::DoNotOptimize(neighbours(bigRig(), allLinks(), 0.6, 8).size());
}
void seekAdvice(benchmark::State& state) {
  for (auto _ : state) benchmark::DoNotOptimize(adviceFor(bigRig()).size());
}
BENCHMARK(moveOnePart)->Unit(benchmark::kMillisecond);
BENCHMARK(duplicateAll)->Unit(benchmark::kMillisecond);
BENCHMARK(mirrorOneChain)->Unit(benchmark::kMillisecond);
BENCHMARK(deleteAChain)->Unit(benchmark::kMillisecond);
BENCHMARK(remakeAChain)->Unit(benchmark::kMillisecond);
BENCHMARK(makeADoor)->Unit(benchmark::kMillisecond);
BENCHMARK(shareWithAll)->Unit(benchmark::kMillisecond);
BENCHMARK(tagAll)->Unit(benchmark::kMillisecond);
BENCHMARK(groupAChain)->Unit(benchmark::kMillisecond);
BENCHMARK(chooseTheAssembly)->Unit(benchmark::kMillisecond);
BENCHMARK(listAllFeatures)->Unit(benchmark::kMillisecond);
BENCHMARK(findNeighbours)->Unit(benchmark::kMillisecond);
BENCHMARK(seekAdvice)->Unit(benchmark::kMillisecond);

}  // namespace
