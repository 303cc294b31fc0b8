// SPDX-License-Identifier: GPL-3.0-or-later
// Small dense matrices whose columns come in panels of eight, which wide registers take in one go. Sums are taken in
// the same order on all processors.
#pragma once

#include "engine/math/lanes.h"

namespace calm::panels {

constexpr int kWidth = Oct::kLanes;

// So many columns with those that fill the last panel.
constexpr int paddedTo(int columns) {
  return (columns + kWidth - 1) / kWidth * kWidth;
}

template <class T>
CALM_INLINE void load(T& panel, const double* from) {
  std::memcpy(&panel, from, sizeof panel);
}
template <class T>
CALM_INLINE void store(double* to, const T& panel) {
  std::memcpy(to, &panel, sizeof panel);
}

// c <- c - h^T h, of whole panels: h (rows x n) row by row, c (n x n) symmetric and column by column, of which only
// what lies on and above the diagonal is read.
void subtractGram(const double* h, int rows, int n, double* c);

// y <- y + A x of a matrix A (n x 3), column by column.
void addThreeColumns(const double* a, const double* x, int n, double* y);

}  // namespace calm::panels
