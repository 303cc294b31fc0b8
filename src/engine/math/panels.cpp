// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/panels.h"

#include <vector>

namespace calm::panels {

namespace {

// The rows in which a panel of h is not all zero; returns how many. What answers through few joints is mostly zero.
template <class T>
CALM_INLINE int usedRows(const double* panel, int rows, int n, int* used) {
  int count = 0;
  for (int k = 0; k < rows; ++k) {
    T row;
    load(row, panel + k * n);
    used[count] = k;
    count += lanes::any(T{} < lanes::size(row)) ? 1 : 0;
  }
  return count;
}

// One panel of the columns of c from each of another's: c's rows from `right` on.
template <class T>
CALM_INLINE void subtractPanels(const double* left, const double* right, const int* used, int count, int n, double* c) {
  constexpr int kTogether = 4;  // columns, whose sums stay in registers
  for (int first = 0; first < kWidth; first += kTogether) {
    T sums[kTogether] = {};
    for (const int* k = used; k < used + count; ++k) {
      T along;
      load(along, right + *k * n);
      for (int i = 0; i < kTogether; ++i) sums[i] += left[*k * n + first + i] * along;
    }
    for (int i = 0; i < kTogether; ++i) {
      double* to = c + (first + i) * n;
      T all;
      load(all, to);
      all -= sums[i];
      store(to, all);
    }
  }
}

template <class T>
CALM_INLINE void subtractGramIn(const double* h, int rows, int n, int* used, double* c) {
  for (int left = 0; left < n; left += kWidth) {
    const int count = usedRows<T>(h + left, rows, n, used);
    for (int right = 0; right <= left; right += kWidth)
      subtractPanels<T>(h + left, h + right, used, count, n, c + left * n + right);
  }
}

template <class T>
CALM_INLINE void addThreeColumnsIn(const double* a, const double* x, int n, double* y) {
  for (int i = 0; i < n; i += kWidth) {
    T sum, column;
    load(sum, y + i);
    for (int k = 0; k < 3; ++k) {
      load(column, a + k * n + i);
      sum += x[k] * column;
    }
    store(y + i, sum);
  }
}

// For each kind of processor.
struct Arithmetic {
  void (*subtractGram)(const double*, int, int, int*, double*);
  void (*addThreeColumns)(const double*, const double*, int, double*);
};

void subtractGramNarrow(const double* h, int rows, int n, int* used, double* c) {
  subtractGramIn<Oct>(h, rows, n, used, c);
}
CALM_WIDE void subtractGramWide(const double* h, int rows, int n, int* used, double* c) {
  subtractGramIn<Oct>(h, rows, n, used, c);
}
CALM_WIDEST void subtractGramWidest(const double* h, int rows, int n, int* used, double* c) {
  subtractGramIn<WholeOct>(h, rows, n, used, c);
}
void addThreeColumnsNarrow(const double* a, const double* x, int n, double* y) {
  addThreeColumnsIn<Oct>(a, x, n, y);
}
CALM_WIDE void addThreeColumnsWide(const double* a, const double* x, int n, double* y) {
  addThreeColumnsIn<Oct>(a, x, n, y);
}
CALM_WIDEST void addThreeColumnsWidest(const double* a, const double* x, int n, double* y) {
  addThreeColumnsIn<WholeOct>(a, x, n, y);
}

const Arithmetic& arithmetic() {
  static const int bits = lanes::registerBits();
  static constexpr Arithmetic kNarrow{subtractGramNarrow, addThreeColumnsNarrow};
  static constexpr Arithmetic kWide{subtractGramWide, addThreeColumnsWide};
  static constexpr Arithmetic kWidest{subtractGramWidest, addThreeColumnsWidest};
  return bits >= 512 ? kWidest : bits >= 256 ? kWide : kNarrow;
}

}  // namespace

void subtractGram(const double* h, int rows, int n, double* c) {
  std::vector<int> used(static_cast<std::size_t>(rows) + 1);
  arithmetic().subtractGram(h, rows, n, used.data(), c);
  for (int i = 0; i < n; ++i)
    for (int j = 0; j < i; ++j) c[j * n + i] = c[i * n + j];
}

void addThreeColumns(const double* a, const double* x, int n, double* y) {
  arithmetic().addThreeColumns(a, x, n, y);
}

}  // namespace calm::panels
