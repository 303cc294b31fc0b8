// SPDX-License-Identifier: GPL-3.0-or-later
// Doubles side by side: two, as every 64-bit processor computes them in one go, or four or eight, which wider ones do.
// Sums are taken in the same order on all, so that results do not depend on the machine.
#pragma once

#include <array>
#include <cmath>
#include <cstring>

#include "engine/math/types.h"

// For a function that is compiled for wide registers, too.
#ifdef __x86_64__
#define CALM_WIDE [[gnu::target("avx2")]]
#define CALM_WIDEST [[gnu::target("avx512f,avx512dq,avx512vl")]]
#else
#define CALM_WIDE
#define CALM_WIDEST
#endif
// For what is inlined into both: wide vectors must not be passed between functions that are compiled for different
// processors.
#define CALM_INLINE [[gnu::always_inline]] inline

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

CALM_INLINE void loadQuad(Quad& q, const double* from) {
  std::memcpy(&q, from, sizeof q);
}
CALM_INLINE void storeQuad(double* to, const Quad& q) {
  std::memcpy(to, &q, sizeof q);
}

// N numbers in whole registers; what these hold beyond them is of no account. There must be room for that where they
// are loaded from, of up to three numbers.
template <int N>
struct Numbers {
  static constexpr int kQuads = (N + 3) / 4;
  Quad quads[kQuads];

  // From value(i).
  template <class Value>
  CALM_INLINE void set(const Value& value) {
    const auto at = [&](int i) __attribute__((always_inline)) {
      return i < N ? value(i) : 0.0;
    };
    for (int q = 0, i = 0; q < kQuads; ++q, i += 4)
      quads[q] = __builtin_shufflevector(Pair{at(i), at(i + 1)}, Pair{at(i + 2), at(i + 3)}, 0, 1, 2, 3);
  }
  CALM_INLINE void load(const double* from) {
    for (int q = 0; q < kQuads; ++q) loadQuad(quads[q], from + 4 * q);
  }
  // All of the registers.
  CALM_INLINE void storeWhole(double* to) const {
    for (int q = 0; q < kQuads; ++q) storeQuad(to + 4 * q, quads[q]);
  }
  CALM_INLINE void store(double* to) const {
    for (int q = 0; q < N / 4; ++q) storeQuad(to + 4 * q, quads[q]);
    if constexpr (N % 4 > 0) {
      const Quad& last = quads[kQuads - 1];
      if constexpr (N % 4 > 1) storePair(to + N / 4 * 4, __builtin_shufflevector(last, last, 0, 1));
      if constexpr (N % 2 == 1) to[N - 1] = last[N % 4 - 1];
    }
  }
  CALM_INLINE void setProduct(const Numbers& x, double by) {
    for (int q = 0; q < kQuads; ++q) quads[q] = x.quads[q] * by;
  }
  CALM_INLINE void addProduct(const Numbers& x, double by) {
    for (int q = 0; q < kQuads; ++q) quads[q] += x.quads[q] * by;
  }
  CALM_INLINE void operator+=(const Numbers& x) {
    for (int q = 0; q < kQuads; ++q) quads[q] += x.quads[q];
  }
  CALM_INLINE void operator-=(const Numbers& x) {
    for (int q = 0; q < kQuads; ++q) quads[q] -= x.quads[q];
  }
};

// Three numbers with a fourth, 0, for the sake of the lanes.
struct Padded {
  double at[4] = {};

  Padded() = default;
  Padded(const Vec3& v) : at{v[0], v[1], v[2], 0} {}
  Vec3 vec() const { return Vec3(at[0], at[1], at[2]); }
};

CALM_INLINE void loadQuad(Quad& q, const Padded& from) {
  std::memcpy(&q, from.at, sizeof q);
}
CALM_INLINE void storeQuad(Padded& to, const Quad& q) {
  std::memcpy(to.at, &q, sizeof q);
}

// Eight, as two halves: neither waits for what the other is still computing.
struct alignas(sizeof(Quad)) Oct {
  static constexpr int kLanes = 8;

  Quad low, high;

  double& operator[](int lane) { return reinterpret_cast<double*>(this)[lane]; }
  double operator[](int lane) const { return reinterpret_cast<const double*>(this)[lane]; }
};
struct alignas(sizeof(Quad)) OctMask {
  decltype(Quad{} < Quad{}) low, high;
};

CALM_INLINE Oct operator+(const Oct& a, const Oct& b) {
  return {a.low + b.low, a.high + b.high};
}
CALM_INLINE Oct operator-(const Oct& a, const Oct& b) {
  return {a.low - b.low, a.high - b.high};
}
CALM_INLINE Oct operator*(const Oct& a, const Oct& b) {
  return {a.low * b.low, a.high * b.high};
}
CALM_INLINE Oct operator*(double a, const Oct& b) {
  return {a * b.low, a * b.high};
}
CALM_INLINE Oct operator+(const Oct& a, double b) {
  return {a.low + b, a.high + b};
}
CALM_INLINE Oct operator-(const Oct& a, double b) {
  return {a.low - b, a.high - b};
}
CALM_INLINE Oct operator/(const Oct& a, const Oct& b) {
  return {a.low / b.low, a.high / b.high};
}
CALM_INLINE Oct operator-(const Oct& a) {
  return {-a.low, -a.high};
}
CALM_INLINE void operator+=(Oct& a, const Oct& b) {
  a.low += b.low;
  a.high += b.high;
}
CALM_INLINE void operator-=(Oct& a, const Oct& b) {
  a.low -= b.low;
  a.high -= b.high;
}
CALM_INLINE void operator*=(Oct& a, const Oct& b) {
  a.low *= b.low;
  a.high *= b.high;
}
CALM_INLINE OctMask operator<(const Oct& a, const Oct& b) {
  return {a.low < b.low, a.high < b.high};
}

// Eight in one register, where there are such.
using OctRegister = double __attribute__((vector_size(64)));
struct alignas(sizeof(OctRegister)) WholeOct {
  static constexpr int kLanes = 8;

  OctRegister all;

  double& operator[](int lane) { return reinterpret_cast<double*>(this)[lane]; }
  double operator[](int lane) const { return reinterpret_cast<const double*>(this)[lane]; }
};
struct alignas(sizeof(OctRegister)) WholeOctMask {
  decltype(OctRegister{} < OctRegister{}) all;
};

CALM_INLINE WholeOct operator+(const WholeOct& a, const WholeOct& b) {
  return {a.all + b.all};
}
CALM_INLINE WholeOct operator-(const WholeOct& a, const WholeOct& b) {
  return {a.all - b.all};
}
CALM_INLINE WholeOct operator*(const WholeOct& a, const WholeOct& b) {
  return {a.all * b.all};
}
CALM_INLINE WholeOct operator*(double a, const WholeOct& b) {
  return {a * b.all};
}
CALM_INLINE WholeOct operator/(const WholeOct& a, const WholeOct& b) {
  return {a.all / b.all};
}
CALM_INLINE WholeOct operator-(const WholeOct& a) {
  return {-a.all};
}
CALM_INLINE void operator+=(WholeOct& a, const WholeOct& b) {
  a.all += b.all;
}
CALM_INLINE void operator-=(WholeOct& a, const WholeOct& b) {
  a.all -= b.all;
}
CALM_INLINE void operator*=(WholeOct& a, const WholeOct& b) {
  a.all *= b.all;
}
CALM_INLINE WholeOctMask operator<(const WholeOct& a, const WholeOct& b) {
  return {a.all < b.all};
}
CALM_INLINE void join(WholeOct& whole, const Oct& halves) {
  whole.all = __builtin_shufflevector(halves.low, halves.high, 0, 1, 2, 3, 4, 5, 6, 7);
}
CALM_INLINE void halve(Oct& halves, const WholeOct& whole) {
  halves.low = __builtin_shufflevector(whole.all, whole.all, 0, 1, 2, 3);
  halves.high = __builtin_shufflevector(whole.all, whole.all, 4, 5, 6, 7);
}

// What is written once for a single number and for lanes of them.
namespace lanes {

CALM_INLINE void fill(double& lane, double x) {
  lane = x;
}
CALM_INLINE void fill(Oct& all, double x) {
  all.low = Quad{} + x;
  all.high = all.low;
}
CALM_INLINE void fill(WholeOct& all, double x) {
  all.all = OctRegister{} + x;
}
CALM_INLINE bool any(bool x) {
  return x;
}
CALM_INLINE bool any(const OctMask& m) {
  const auto both = m.low | m.high;
  return (both[0] | both[1] | both[2] | both[3]) != 0;
}
CALM_INLINE bool any(const WholeOctMask& m) {
  const auto low = __builtin_shufflevector(m.all, m.all, 0, 1, 2, 3);
  const auto high = __builtin_shufflevector(m.all, m.all, 4, 5, 6, 7);
  return any(OctMask{low, high});
}
CALM_INLINE bool both(bool x, bool y) {
  return x && y;
}
CALM_INLINE OctMask both(const OctMask& x, const OctMask& y) {
  return {x.low & y.low, x.high & y.high};
}
CALM_INLINE WholeOctMask both(const WholeOctMask& x, const WholeOctMask& y) {
  return {x.all & y.all};
}
CALM_INLINE double pick(bool which, double x, double y) {
  return which ? x : y;
}
CALM_INLINE Oct pick(const OctMask& which, const Oct& x, const Oct& y) {
  return {which.low ? x.low : y.low, which.high ? x.high : y.high};
}
CALM_INLINE WholeOct pick(const WholeOctMask& which, const WholeOct& x, const WholeOct& y) {
  return {which.all ? x.all : y.all};
}
CALM_INLINE double root(double x) {
  return std::sqrt(x);
}
template <class T>
CALM_INLINE T root(const T& x) {
  T y;
  for (int i = 0; i < T::kLanes; ++i) y[i] = std::sqrt(x[i]);
  return y;
}
template <class T>
CALM_INLINE T size(const T& x) {
  return pick(x < T{}, -x, x);
}
template <class T>
CALM_INLINE T larger(const T& x, const T& y) {
  return pick(x < y, y, x);
}
template <class T>
CALM_INLINE T smaller(const T& x, const T& y) {
  return pick(y < x, y, x);
}
// How wide the registers are that compute lanes: 512 bits (AVX-512), 256 (AVX2) or 128. The environment may set a
// most, to see that all give the same.
int registerBits();
inline bool areWide() {
  return registerBits() >= 256;
}

}  // namespace lanes

}  // namespace calm
