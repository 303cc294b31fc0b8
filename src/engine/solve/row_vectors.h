// SPDX-License-Identifier: GPL-3.0-or-later
// Vectors of a node's rows, side by side, so that all of them are computed at once.
#pragma once

#include "engine/math/lanes.h"
#include "engine/math/types.h"

namespace calm {

// Of the i-th of N, number k is of[k][i].
template <int N>
struct RowVectors {
  alignas(sizeof(Quad)) double of[3][4 * Numbers<N>::kQuads];

  // From value(k, i). Made in registers: what is written number by number takes long to be read several at once.
  template <class Value>
  CALM_INLINE void set(const Value& value) {
    for (int k = 0; k < 3; ++k) {
      Numbers<N> numbers;
      numbers.set([&](int i) __attribute__((always_inline)) { return value(k, i); });
      numbers.storeWhole(of[k]);
    }
  }
};

// m v of each.
template <int N>
CALM_INLINE void multiply(const Mat3& m, const RowVectors<N>& v, RowVectors<N>& out) {
  Numbers<N> of[3], sum;
  for (int k = 0; k < 3; ++k) of[k].load(v.of[k]);
  for (int k = 0; k < 3; ++k) {
    sum.setProduct(of[0], m(k, 0));
    sum.addProduct(of[1], m(k, 1));
    sum.addProduct(of[2], m(k, 2));
    sum.storeWhole(out.of[k]);
  }
}

// The dot products of vector r with each of C others.
template <int N, int C>
CALM_INLINE void setProducts(const RowVectors<N>& left, int r, const RowVectors<C>& right, Numbers<C>& products) {
  Numbers<C> of;
  of.load(right.of[0]);
  products.setProduct(of, left.of[0][r]);
  for (int k = 1; k < 3; ++k) {
    of.load(right.of[k]);
    products.addProduct(of, left.of[k][r]);
  }
}

// Adds those of all N to a block of so many rows and columns, behind which there is to be room as Numbers ask for.
template <int N, int C>
CALM_INLINE void addProducts(const RowVectors<N>& left, const RowVectors<C>& right, double* block) {
  for (int r = 0; r < N; ++r, block += C) {
    Numbers<C> sum, to;
    to.load(block);
    setProducts(left, r, right, sum);
    to += sum;
    to.store(block);
  }
}

}  // namespace calm
