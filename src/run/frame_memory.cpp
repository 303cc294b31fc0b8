// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/frame_memory.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <string>

namespace calm::run {

namespace {

constexpr std::size_t kChunk = std::size_t{16} << 20;
constexpr std::size_t kAlignment = 64;

// A file without a name: it goes when it is closed, however the program ends.
int openNameless(std::size_t size) {
  // The usual folder for temporary files is often in memory itself.
  const std::string folder = std::getenv("TMPDIR") ? std::filesystem::temp_directory_path().string() : "/var/tmp";
  std::string name = folder + "/calm-tether-run-XXXXXX";
  const int file = ::mkostemp(name.data(), O_CLOEXEC);
  const auto fail = [&](int error) {
    throw std::runtime_error(
        fmt::format("no room for the recording in {} ({}); the run ends here", folder, std::strerror(error)));
  };
  if (file < 0) fail(errno);
  ::unlink(name.c_str());
  // Taken now, so that a full disk is an error here and not a crash at some later write.
  if (const int error = ::posix_fallocate(file, 0, static_cast<off_t>(size)); error != 0) {
    ::close(file);
    fail(error);
  }
  return file;
}

}  // namespace

struct FrameMemory::Chunk {
  std::byte* data;
  std::size_t size;

  Chunk(std::size_t bytes, bool onDisk) : size(bytes) {
    const int file = onDisk ? openNameless(bytes) : -1;
    const int flags = onDisk ? MAP_SHARED : MAP_PRIVATE | MAP_ANONYMOUS;
    void* at = ::mmap(nullptr, size, PROT_READ | PROT_WRITE, flags, file, 0);
    if (file >= 0) ::close(file);
    if (at == MAP_FAILED) throw std::runtime_error("no memory for the recording; the run ends here");
    data = static_cast<std::byte*>(at);
  }
  ~Chunk() { ::munmap(data, size); }
  Chunk(const Chunk&) = delete;
  Chunk& operator=(const Chunk&) = delete;
};

void FrameMemory::addChunk(std::size_t least) {
  const std::size_t size = (std::max(kChunk, least) + 4095) / 4096 * 4096;
  const bool onDisk = mapped_ + size > inMemory_;
  chunk_ = std::make_shared<Chunk>(size, onDisk);
  mapped_ += size;
  if (onDisk) onDisk_ += size;
  filled_ = 0;
}

std::shared_ptr<std::byte> FrameMemory::take(std::size_t size) {
  const std::size_t whole = (std::max<std::size_t>(size, 1) + kAlignment - 1) / kAlignment * kAlignment;
  if (!chunk_ || filled_ + whole > chunk_->size) addChunk(whole);
  std::byte* at = chunk_->data + filled_;
  filled_ += whole;
  used_ += whole;
  return {chunk_, at};
}

}  // namespace calm::run
