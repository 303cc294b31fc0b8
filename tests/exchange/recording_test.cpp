// SPDX-License-Identifier: GPL-3.0-or-later
// Runs kept as HDF5: what is written reads back the same, and what is damaged is told.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdio>
#include <filesystem>
#include <fstream>

#include "exchange/recording/hdf5.h"
#include "rig/demos.h"
#include "rig/edits.h"

namespace calm::exchange {
namespace {

using testing::HasSubstr;

class RecordingFile : public testing::Test {
 protected:
  void SetUp() override {
    folder_ = std::filesystem::temp_directory_path() /
              ("calm-tether-" + std::string(testing::UnitTest::GetInstance()->current_test_info()->name()));
    std::filesystem::remove_all(folder_);
    std::filesystem::create_directories(folder_);
  }
  void TearDown() override { std::filesystem::remove_all(folder_); }
  std::string at(const char* name) const { return (folder_ / name).string(); }

  // The hoist with a part let go, a ball thrown at it and a joint that parts.
  static std::shared_ptr<const run::Recording> hoist(double duration = 1.5) {
    auto rig = std::make_shared<rig::Rig>(rig::jibHoistSlice());
    rig->stage.duration = duration;
    rig->joints[5].breakForce = 3000;
    rig::Cue ball;
    ball.when.at = 0.2;
    ball.act = rig::Cue::Act::ball;
    ball.point = {-6, 4, 0};
    ball.vector = {9, 0, 0};
    rig::addCue(*rig, ball);
    return run::record(rig);
  }
  static std::string faultOf(const std::string& path) {
    try {
      loadRecording(path);
    } catch (const RecordingError& e) {
      return e.what();
    }
    return "none";
  }

  std::filesystem::path folder_;
};

TEST_F(RecordingFile, ReadsBackTheSame) {
  const auto before = hoist();
  ASSERT_TRUE(saveRecording(*before, at("a.h5")));
  const auto after = loadRecording(at("a.h5"));
  ASSERT_TRUE(after);
  ASSERT_EQ(after->size(), before->size());
  EXPECT_EQ(after->rig().parts.size(), before->rig().parts.size());
  for (std::size_t i = 0; i < before->size(); i += 7) {
    const run::Frame &a = before->frame(i), &b = after->frame(i);
    EXPECT_EQ(a.time, b.time);
    EXPECT_EQ(a.energy, b.energy);
    EXPECT_EQ(a.residual.linear, b.residual.linear);
    for (std::size_t p = 0; p < a.parts.size(); ++p) {
      ASSERT_EQ(a.parts[p].pose.position, b.parts[p].pose.position) << "frame " << i << ", part " << p;
      ASSERT_EQ(a.parts[p].pose.rotation.coeffs(), b.parts[p].pose.rotation.coeffs());
      ASSERT_EQ(a.parts[p].velocity, b.parts[p].velocity);
      ASSERT_EQ(a.parts[p].touch, b.parts[p].touch);
    }
    for (std::size_t j = 0; j < a.joints.size(); ++j) {
      ASSERT_EQ(a.joints[j].force, b.joints[j].force);
      ASSERT_EQ(a.joints[j].position, b.joints[j].position);
      ASSERT_EQ(a.joints[j].activity, b.joints[j].activity);
    }
    ASSERT_EQ(a.cues.size(), b.cues.size());
    EXPECT_EQ(a.cues[0].begunAt, b.cues[0].begunAt);
    EXPECT_EQ(a.cues[0].body, b.cues[0].body);
    EXPECT_EQ(a.cues[0].pose.position, b.cues[0].pose.position);
  }
  for (std::size_t j = 0; j < before->rig().joints.size(); ++j) EXPECT_EQ(before->partedAt(j), after->partedAt(j));
  EXPECT_FALSE(std::filesystem::exists(at("a.h5.part")));
}

// The layout is for others to read: h5dump or h5py see what docs/recording-format.md says.
TEST_F(RecordingFile, ARigWithoutJointsOrCuesIsWritten) {
  auto rig = std::make_shared<rig::Rig>();
  rig->stage.duration = 0.1;
  rig::Part stone;
  stone.name = "stone \xC3\xA4";
  rig::addPart(*rig, stone);
  ASSERT_TRUE(saveRecording(*run::record(rig), at("stone.h5")));
  const auto after = loadRecording(at("stone.h5"));
  EXPECT_EQ(after->rig().parts[0].name, "stone \xC3\xA4");
  EXPECT_EQ(after->size(), 7u);
}

TEST_F(RecordingFile, CancelledItLeavesWhatWasThere) {
  std::ofstream(at("a.h5")) << "precious";
  std::atomic<bool> stop = false;
  const auto stopSoon = [&](std::size_t done, std::size_t) { stop = done > 3; };
  EXPECT_FALSE(saveRecording(*hoist(), at("a.h5"), stopSoon, &stop));
  std::string text;
  std::ifstream(at("a.h5")) >> text;
  EXPECT_EQ(text, "precious");
  EXPECT_FALSE(std::filesystem::exists(at("a.h5.part")));
}

TEST_F(RecordingFile, AReadingCanBeCancelled) {
  saveRecording(*hoist(), at("a.h5"));
  std::atomic<bool> stop = true;
  EXPECT_EQ(loadRecording(at("a.h5"), {}, &stop), nullptr);
}

TEST_F(RecordingFile, FaultsAreNamed) {
  EXPECT_THAT(faultOf(at("none.h5")), HasSubstr("none.h5"));
  std::ofstream(at("text.h5")) << "this is no HDF5";
  EXPECT_THAT(faultOf(at("text.h5")), HasSubstr("HDF5"));
  try {
    saveRecording(*hoist(), at("no/such/folder/a.h5"));
    FAIL();
  } catch (const RecordingError& e) {
    EXPECT_THAT(e.what(), HasSubstr("cannot be written"));
  }
}

// Bytes changed anywhere, and files cut short: an error or a recording, never a crash.
TEST_F(RecordingFile, DamagedFilesAreRefusedOrRead) {
  saveRecording(*hoist(0.3), at("a.h5"));
  std::ifstream file(at("a.h5"), std::ios::binary);
  const std::string whole((std::istreambuf_iterator<char>(file)), {});
  unsigned state = 7;
  const auto next = [&] { return state = state * 1664525u + 1013904223u; };
  int refused = 0;
  for (int i = 0; i < 40; ++i) {
    std::string bytes = whole;
    if (i % 3 == 0) bytes.resize(next() % bytes.size());
    for (int k = 0; k < 20 && !bytes.empty(); ++k)
      // Where the structure lies, mostly.
      bytes[next() % std::min<std::size_t>(bytes.size(), k % 2 ? bytes.size() : 4096)] = static_cast<char>(next());
    std::ofstream(at("b.h5"), std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    try {
      loadRecording(at("b.h5"));
    } catch (const std::exception&) {
      ++refused;
    }
  }
  EXPECT_GT(refused, 20);
}

}  // namespace
}  // namespace calm::exchange
