// SPDX-License-Identifier: GPL-3.0-or-later
// The pairs of shapes that are near each other, in the order of their keys. A pair stays where it is in memory, with
// what it remembers, for as long as it is near; most are, from frame to frame.
#pragma once

#include <array>
#include <utility>
#include <vector>

#include "engine/solve/contact_pair.h"

namespace calm {

class PairTable {
 public:
  using Key = std::array<int, 3>;  // shapes and triangle

  std::size_t size() const { return order_.size(); }
  ContactPair& operator[](std::size_t i) { return slots_[order_[i].slot]; }
  const ContactPair& operator[](std::size_t i) const { return slots_[order_[i].slot]; }
  void clear() {
    slots_.clear();
    order_.clear();
    free_.clear();
  }
  // Keeps the pairs that are among the ascending `keys`, makes the missing ones by make(key), and drops the rest.
  template <class Make>
  void keepOnly(const std::vector<Key>& keys, const Make& make) {
    std::vector<Entry> next;
    next.reserve(keys.size());
    auto old = order_.begin();
    for (const Key& key : keys) {
      for (; old != order_.end() && old->key < key; ++old) free_.push_back(old->slot);
      if (old != order_.end() && old->key == key)
        next.push_back(*old++);
      else
        next.push_back({key, place(make(key))});
    }
    for (; old != order_.end(); ++old) free_.push_back(old->slot);
    order_ = std::move(next);
  }

 private:
  struct Entry {
    Key key;
    int slot;
  };
  int place(ContactPair pair) {
    if (free_.empty()) {
      slots_.push_back(std::move(pair));
      return static_cast<int>(slots_.size()) - 1;
    }
    const int slot = free_.back();
    free_.pop_back();
    slots_[slot] = std::move(pair);
    return slot;
  }

  std::vector<ContactPair> slots_;
  std::vector<Entry> order_;  // by key
  std::vector<int> free_;     // slots
};

}  // namespace calm
