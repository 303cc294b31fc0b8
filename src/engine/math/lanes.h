// SPDX-License-Identifier: GPL-3.0-or-later
// Doubles side by side: two, as every 64-bit processor computes them in one go, or four, which wider ones do. Sums are
// taken in the same order on all, so that results do not depend on the machine.
#pragma once

#include <array>
#include <cstring>

#include "engine/math/types.h"

namespace calm {

using Pair = double __attribute__((vector_size(16)));

inline Pair loadPair(const double* from) {
  Pair p;
  std::memcpy(&p, from, sizeof p);
  return p;
}

inline void storePair(double* to, Pair p) {
  std::memcpy(to, &p, sizeof p);
}

// An even number of doubles, held in registers.
template <std::size_t Pairs>
using PairRow = std::array<Pair, Pairs>;

template <std::size_t Pairs>
PairRow<Pairs> loadRow(const double* from) {
  PairRow<Pairs> row{};
  for (std::size_t i = 0; i < Pairs; ++i) row[i] = loadPair(from + 2 * i);
  return row;
}

template <std::size_t Pairs>
double dot(const PairRow<Pairs>& x, const double* y) {
  Pair sum = x[0] * loadPair(y);
  for (std::size_t i = 1; i < Pairs; ++i) sum += x[i] * loadPair(y + 2 * i);
  return sum[0] + sum[1];
}

// Code for wide processors takes its place in memory for aligned, other code does not see to that: structures that both
// work on say alignas(sizeof(Quad)).
using Quad = double __attribute__((vector_size(32)));

// Three numbers with a fourth, 0, for the sake of the lanes.
struct Padded {
  double at[4] = {};

  Padded() = default;
  Padded(const Vec3& v) : at{v[0], v[1], v[2], 0} {}
  Vec3 vec() const { return Vec3(at[0], at[1], at[2]); }
};

// To be inlined always: wide vectors must not be passed between functions that are compiled for different processors.
[[gnu::always_inline]] inline void loadQuad(Quad& q, const Padded& from) {
  std::memcpy(&q, from.at, sizeof q);
}
[[gnu::always_inline]] inline void storeQuad(Padded& to, const Quad& q) {
  std::memcpy(to.at, &q, sizeof q);
}

}  // namespace calm
