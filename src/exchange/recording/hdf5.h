// SPDX-License-Identifier: GPL-3.0-or-later
// A run as an HDF5 file, with the rig that it is of: see docs/recording-format.md. Frames are written as they come, so
// that a run may be longer than the memory.
#pragma once

#include <atomic>
#include <filesystem>
#include <functional>
#include <memory>
#include <stdexcept>
#include <string>

#include "run/recording.h"

namespace calm::exchange {

// The file cannot be written, or is none of ours; the message names it, the place in it and what was expected.
class RecordingError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

class RecordingWriter {
 public:
  // Writes beside the path until finish() puts the whole file there.
  RecordingWriter(const std::filesystem::path& path, const rig::Rig& rig, const std::string& name);
  // What was not finished leaves nothing behind.
  ~RecordingWriter();
  RecordingWriter(const RecordingWriter&) = delete;
  RecordingWriter& operator=(const RecordingWriter&) = delete;

  void append(const run::FrameData& frame);
  void append(const run::Frame& frame);
  // With the times at which joints parted (s, below 0: they have not), in the rig's order.
  void finish(const std::vector<double>& partedAt);

 private:
  struct File;
  std::unique_ptr<File> file_;
};

// Told after each frame: how many are done, of how many.
using Progress = std::function<void(std::size_t, std::size_t)>;

// Stopped, neither leaves anything: saveRecording returns false, loadRecording nothing.
bool saveRecording(const run::Recording& recording, const std::filesystem::path& path, const Progress& progress = {},
                   const std::atomic<bool>* stop = nullptr);
std::shared_ptr<run::Recording> loadRecording(const std::filesystem::path& path, const Progress& progress = {},
                                              const std::atomic<bool>* stop = nullptr);

}  // namespace calm::exchange
