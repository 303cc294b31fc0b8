// SPDX-License-Identifier: GPL-3.0-or-later
// A world's whole state as bytes, and back.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <deque>
#include <stdexcept>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "engine/math/types.h"

namespace calm {

// One walk over the values serves both ways: visit(x) appends x, or sets it from the bytes. Reading beyond the end, or
// a list that is longer than the bytes could hold, throws std::out_of_range. Machine byte order: a state belongs to the
// machine that saved it.
class StateArchive {
 public:
  StateArchive() = default;
  explicit StateArchive(std::vector<std::uint8_t> bytes) : bytes_(std::move(bytes)), loading_(true) {}

  bool loading() const { return loading_; }
  bool atEnd() const { return at_ == bytes_.size(); }
  std::vector<std::uint8_t> take() { return std::move(bytes_); }

  template <class... Values>
  void operator()(Values&... values) {
    (visit(values), ...);
  }

 private:
  void raw(void* data, std::size_t size) {
    if (loading_) {
      if (bytes_.size() - at_ < size) throw std::out_of_range("the saved state ends in the middle");
      std::memcpy(data, bytes_.data() + at_, size);
      at_ += size;
    } else {
      const auto* from = static_cast<const std::uint8_t*>(data);
      bytes_.insert(bytes_.end(), from, from + size);
    }
  }
  template <class T>
  requires std::is_arithmetic_v<T> || std::is_enum_v<T>
  void visit(T& value) { raw(&value, sizeof value); }
  template <int Rows, int Columns>
  void visit(Eigen::Matrix<double, Rows, Columns>& value) {
    raw(value.data(), sizeof(double) * Rows * Columns);
  }
  void visit(Quat& value) { raw(value.coeffs().data(), 4 * sizeof(double)); }
  template <class A, class B>
  void visit(std::pair<A, B>& value) {
    visit(value.first);
    visit(value.second);
  }
  template <class T, std::size_t N>
  void visit(std::array<T, N>& values) {
    for (T& v : values) visit(v);
  }
  template <class T>
  void visit(std::vector<T>& values) {
    list(values);
  }
  template <class T>
  void visit(std::deque<T>& values) {
    list(values);
  }
  // What says itself what it consists of.
  template <class T>
  requires requires(T& t, StateArchive& a) { t.visitState(a); }
  void visit(T& value) { value.visitState(*this); }
  template <class List>
  void list(List& values) {
    std::uint64_t size = values.size();
    visit(size);
    if (loading_) {
      if (size > bytes_.size() - at_) throw std::out_of_range("the saved state names a list that is too long");
      values.resize(size);
    }
    for (auto& v : values) visit(v);
  }

  std::vector<std::uint8_t> bytes_;
  std::size_t at_ = 0;
  bool loading_ = false;
};

}  // namespace calm
