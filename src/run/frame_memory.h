// SPDX-License-Identifier: GPL-3.0-or-later
// Memory for the frames of a recording. What goes beyond a share of it lies in a file on the disk that has no name, so
// that the system may take the pages back when it needs them, and a long run is as quick to scrub as a short one.
#pragma once

#include <cstddef>
#include <memory>
#include <stdexcept>

namespace calm::run {

class FrameMemory {
 public:
  // Bytes kept in memory proper.
  explicit FrameMemory(std::size_t inMemory = std::size_t{512} << 20) : inMemory_(inMemory) {}

  // A block of so many bytes, aligned for any sample, that lives as long as the pointer. Throws std::runtime_error if
  // there is no room, in memory or on the disk.
  std::shared_ptr<std::byte> take(std::size_t size);
  std::size_t used() const { return used_; }
  std::size_t onDisk() const { return onDisk_; }

 private:
  struct Chunk;
  void addChunk(std::size_t least);

  std::size_t inMemory_, used_ = 0, mapped_ = 0, onDisk_ = 0;
  std::shared_ptr<Chunk> chunk_;
  std::size_t filled_ = 0;
};

}  // namespace calm::run
