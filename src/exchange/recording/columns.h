// SPDX-License-Identifier: GPL-3.0-or-later
// HDF5 as this folder uses it: handles that close themselves, and columns of numbers that grow frame by frame.
#pragma once

#include <fmt/format.h>
#include <hdf5.h>

#include <mutex>
#include <string>
#include <utility>
#include <vector>

#include "exchange/recording/hdf5.h"

namespace calm::exchange {

// The library is not to be used by two threads at once.
inline std::recursive_mutex& libraryLock() {
  static std::recursive_mutex lock;
  return lock;
}

// The library's own error reports are not printed, and what it noted is forgotten in the end: it would keep the library
// from closing.
class Quiet {
 public:
  Quiet() { H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr); }
  ~Quiet() { H5Eclear2(H5E_DEFAULT); }
  Quiet(const Quiet&) = delete;
  Quiet& operator=(const Quiet&) = delete;
};

class Handle {
 public:
  using Close = herr_t (*)(hid_t);
  Handle() = default;
  Handle(hid_t id, Close close) : id_(id), close_(close) {}
  Handle(Handle&& other) noexcept : id_(std::exchange(other.id_, -1)), close_(other.close_) {}
  Handle& operator=(Handle&& other) noexcept {
    std::swap(id_, other.id_);
    std::swap(close_, other.close_);
    return *this;
  }
  ~Handle() { reset(); }
  void reset() {
    if (id_ >= 0) close_(std::exchange(id_, -1));
  }
  operator hid_t() const { return id_; }
  bool valid() const { return id_ >= 0; }

 private:
  hid_t id_ = -1;
  Close close_ = nullptr;
};

template <class T>
hid_t nativeType();
template <>
inline hid_t nativeType<double>() {
  return H5T_NATIVE_DOUBLE;
}
template <>
inline hid_t nativeType<float>() {
  return H5T_NATIVE_FLOAT;
}
template <>
inline hid_t nativeType<int>() {
  return H5T_NATIVE_INT;
}
template <>
inline hid_t nativeType<std::uint8_t>() {
  return H5T_NATIVE_UINT8;
}

// A dataset of shape (frames, ...) that is appended to or read by whole frames. Without width it is none at all.
template <class T>
class Column {
 public:
  Column() = default;

  static Column create(hid_t file, const std::string& place, std::vector<hsize_t> shape) {
    Column c(place, std::move(shape));
    if (c.width_ == 0) return c;
    const int rank = static_cast<int>(c.shape_.size()) + 1;
    std::vector<hsize_t> dims = c.dims(0), most = c.dims(H5S_UNLIMITED), chunk = c.dims(c.rows_);
    const Handle space(H5Screate_simple(rank, dims.data(), most.data()), H5Sclose);
    const Handle how(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    H5Pset_chunk(how, rank, chunk.data());
    H5Pset_shuffle(how);
    if (H5Zfilter_avail(H5Z_FILTER_DEFLATE) > 0) H5Pset_deflate(how, 1);
    c.set_ = Handle(H5Dcreate2(file, place.c_str(), nativeType<T>(), space, H5P_DEFAULT, how, H5P_DEFAULT), H5Dclose);
    if (!c.set_.valid()) throw RecordingError(place + ": cannot be made");
    return c;
  }

  // Of a file that has `frames` frames (or, below 0, any number, which frames() then tells).
  static Column open(hid_t file, const std::string& name, const std::string& place, std::vector<hsize_t> shape,
                     long long frames) {
    Column c(place, std::move(shape));
    if (c.width_ == 0) return c;
    const auto fail = [&](const std::string& why) { throw RecordingError(name + ": " + place + ": " + why); };
    c.set_ = Handle(H5Dopen2(file, place.c_str(), H5P_DEFAULT), H5Dclose);
    if (!c.set_.valid()) fail("is missing");
    const Handle space(H5Dget_space(c.set_), H5Sclose);
    const int rank = H5Sget_simple_extent_ndims(space);
    if (rank != static_cast<int>(c.shape_.size()) + 1) fail(fmt::format("has {} dimensions", rank));
    std::vector<hsize_t> dims(static_cast<std::size_t>(rank));
    H5Sget_simple_extent_dims(space, dims.data(), nullptr);
    const Handle type(H5Dget_type(c.set_), H5Tclose);
    if (H5Tget_class(type) != H5T_FLOAT && H5Tget_class(type) != H5T_INTEGER) fail("holds no numbers");
    for (std::size_t i = 0; i < c.shape_.size(); ++i)
      if (dims[i + 1] != c.shape_[i])
        fail(fmt::format("expected {} along dimension {}, found {}", c.shape_[i], i + 1, dims[i + 1]));
    if (frames >= 0 && dims[0] != static_cast<hsize_t>(frames))
      fail(fmt::format("expected {} frames, found {}", frames, dims[0]));
    c.written_ = dims[0];
    return c;
  }

  hsize_t frames() const { return written_; }
  void add(T value) {
    if (width_ > 0) buffer_.push_back(value);
  }
  // After the values of a frame.
  void endFrame() {
    if (width_ > 0 && buffer_.size() >= rows_ * width_) flush();
  }
  void flush() {
    if (width_ == 0 || buffer_.empty()) return;
    const hsize_t count = buffer_.size() / width_;
    const std::vector<hsize_t> all = dims(written_ + count);
    bool good = H5Dset_extent(set_, all.data()) >= 0;
    good = good && transfer(written_, count, [&](hid_t memory, hid_t file) {
             return H5Dwrite(set_, nativeType<T>(), memory, file, H5P_DEFAULT, buffer_.data());
           });
    if (!good) throw RecordingError(place_ + ": cannot be written; is the disk full?");
    written_ += count;
    buffer_.clear();
  }
  // The values of a frame; reads on in chunks.
  const T* frame(hsize_t i) {
    if (width_ == 0) return nullptr;
    if (i < first_ || i >= first_ + buffer_.size() / width_) {
      const hsize_t count = std::min(rows_, written_ - i);
      buffer_.resize(count * width_);
      first_ = i;
      const bool good = transfer(i, count, [&](hid_t memory, hid_t file) {
        return H5Dread(set_, nativeType<T>(), memory, file, H5P_DEFAULT, buffer_.data());
      });
      if (!good) throw RecordingError(place_ + ": cannot be read; the file is damaged");
    }
    return buffer_.data() + (i - first_) * width_;
  }

 private:
  Column(std::string place, std::vector<hsize_t> shape) : place_(std::move(place)), shape_(std::move(shape)) {
    width_ = 1;
    for (const hsize_t n : shape_) width_ *= n;
    // About a quarter of a megabyte a chunk.
    rows_ = width_ > 0 ? std::clamp<hsize_t>((std::size_t{1} << 18) / (width_ * sizeof(T)), 1, 4096) : 1;
  }
  std::vector<hsize_t> dims(hsize_t frames) const {
    std::vector<hsize_t> all{frames};
    all.insert(all.end(), shape_.begin(), shape_.end());
    return all;
  }
  template <class Move>
  bool transfer(hsize_t from, hsize_t count, const Move& move) {
    const std::vector<hsize_t> block = dims(count);
    std::vector<hsize_t> start(block.size(), 0);
    start[0] = from;
    const Handle memory(H5Screate_simple(static_cast<int>(block.size()), block.data(), nullptr), H5Sclose);
    const Handle file(H5Dget_space(set_), H5Sclose);
    return H5Sselect_hyperslab(file, H5S_SELECT_SET, start.data(), nullptr, block.data(), nullptr) >= 0 &&
           move(memory, file) >= 0;
  }

  std::string place_;
  std::vector<hsize_t> shape_;
  hsize_t width_ = 0, rows_ = 1, written_ = 0, first_ = 0;
  Handle set_;
  std::vector<T> buffer_;
};

}  // namespace calm::exchange
