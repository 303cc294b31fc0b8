// SPDX-License-Identifier: GPL-3.0-or-later
// A run with a hand in it, its states and substeps, and the memory of its frames.
#include "run/live_run.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <chrono>

#include "rig/demos.h"
#include "rig/edits.h"

namespace calm::run {
namespace {

using Clock = std::chrono::steady_clock;

bool finish(const LiveRun& run) {
  const auto start = Clock::now();
  while (!run.finished() && Clock::now() - start < std::chrono::seconds(120))
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  return run.finished();
}

std::shared_ptr<const rig::Rig> hoist(double duration) {
  auto rig = std::make_shared<rig::Rig>(rig::jibHoistSlice());
  rig->stage.duration = duration;
  return rig;
}

void expectSameMotion(const Recording& a, const Recording& b, std::size_t frames) {
  ASSERT_GE(a.size(), frames);
  ASSERT_GE(b.size(), frames);
  for (std::size_t i = 0; i < frames; ++i)
    for (std::size_t p = 0; p < a.frame(i).parts.size(); ++p)
      ASSERT_EQ(a.frame(i).parts[p].pose.position, b.frame(i).parts[p].pose.position)
          << "part " << p << " in frame " << i;
}

TEST(LiveRun, ATrialByHandRepeatsToTheLastBit) {
  const auto rig = hoist(2.5);
  LiveRun first(rig);
  ASSERT_TRUE(finish(first));
  rig::Cue hand;
  hand.id = rig->nextId;
  hand.act = rig::Cue::Act::pull;
  hand.part = rig->parts.back().id;
  hand.when.at = 1;
  hand.cap = 4000;
  const Vec3 at = first.recording()->frame(60).parts.back().pose.position;
  LiveRun held(first, 60, hand, at);
  // Led on by what has been computed, however slow that is.
  const auto start = Clock::now();
  while (held.recording()->size() < 61 + 35 && Clock::now() - start < std::chrono::seconds(120)) {
    const double i = static_cast<double>(held.recording()->size()) - 60;
    held.moveHand(at + Vec3(0.05 * i, 0.02 * i, 0));
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  }
  const rig::Cue done = held.letGo();
  ASSERT_GT(done.track.size(), 5u);
  const std::size_t frames = held.recording()->size();
  EXPECT_GT((held.recording()->frame(frames - 1).parts.back().pose.position -
             first.recording()->frame(frames - 1).parts.back().pose.position)
                .norm(),
            0.01)
      << "the hand did something";
  rig::Rig again = *rig;
  again.cues.push_back(done);
  again.nextId = done.id + 1;
  LiveRun second(std::make_shared<const rig::Rig>(again));
  ASSERT_TRUE(finish(second));
  expectSameMotion(*held.recording(), *second.recording(), frames);
  EXPECT_GT(std::abs(second.recording()->frame(frames - 1).cues[0].energy), 1);
}

TEST(LiveRun, AnyFramesStateGoesOnAsTheRunDid) {
  const auto rig = hoist(4);
  LiveRun run(rig);
  ASSERT_TRUE(finish(run));
  for (const std::size_t i : {0u, 1u, 97u, 200u}) {
    CompiledRig state = run.stateAt(i);
    for (int k = 0; k < 5; ++k) state.step();
    EXPECT_EQ(state.world.state(state.bodies.back()).pose.position,
              run.recording()->frame(i + 5).parts.back().pose.position)
        << "from frame " << i;
  }
  EXPECT_THROW(run.stateAt(100000), std::logic_error);
}

// Means of a frame are those of its substeps, up to the halves at its ends, of which each belongs to both neighbours.
TEST(LiveRun, SubstepsAddUpToTheirFrames) {
  const auto rig = hoist(2);
  LiveRun run(rig);
  ASSERT_TRUE(finish(run));
  const Detail detail = run.detail(60, 62);
  ASSERT_EQ(detail.times.size(), 16u);
  EXPECT_NEAR(detail.times[8], 61.0 / 60, 1e-9);
  double sum = 0, separation = 0;
  for (std::size_t s = 0; s < 8; ++s) {
    sum += detail.readings[s][3].force / 8;
    separation = std::max(separation, detail.readings[s][3].separation);
  }
  const JointSample& frame = run.recording()->frame(61).joints[3];
  EXPECT_NEAR(sum, frame.force, 0.01 * frame.force);
  EXPECT_NEAR(separation, frame.separation, 1e-9 + 1e-6 * frame.separation);
}

TEST(FrameMemory, WhatDoesNotFitLiesOnTheDiskAndReadsTheSame) {
  FrameMemory memory(1 << 20);
  std::vector<std::shared_ptr<std::byte>> blocks;
  for (int i = 0; i < 100; ++i) {
    blocks.push_back(memory.take(400000));
    std::fill_n(blocks.back().get(), 400000, std::byte(i));
  }
  EXPECT_GT(memory.onDisk(), 30u << 20);
  EXPECT_GE(memory.used(), 100u * 400000);
  for (int i = 0; i < 100; ++i) {
    EXPECT_EQ(blocks[i].get()[0], std::byte(i));
    EXPECT_EQ(blocks[i].get()[399999], std::byte(i));
    EXPECT_EQ(reinterpret_cast<std::uintptr_t>(blocks[i].get()) % 64, 0u);
  }
}

TEST(FrameMemory, NoRoomIsAnErrorThatSaysWhere) {
  FrameMemory memory(0);
  try {
    memory.take(std::size_t{1} << 60);
    FAIL() << "an exabyte";
  } catch (const std::runtime_error& e) {
    EXPECT_THAT(e.what(), testing::HasSubstr("no room for the recording"));
  }
}

}  // namespace
}  // namespace calm::run
