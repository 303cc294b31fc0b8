// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/block_cholesky.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "engine/math/panels.h"
#include "engine/solve/block_size.h"

namespace calm {

namespace {

constexpr int kMostRows = 6;

// Lower-triangular inverse of the Cholesky factor of the N x N block, in place; its upper triangle becomes zero.
template <int N>
int invertFactor(double* a) {
  int weak = 0;
  double g[N][N];
  for (int j = 0; j < N; ++j) {
    double pivot = a[j * N + j];
    const double whole = pivot;
    for (int k = 0; k < j; ++k) pivot -= g[j][k] * g[j][k];
    // The block has already lost what earlier columns took; a pivot that is all round-off belongs to a dependent row.
    if (!(pivot > 1e-15 * std::abs(whole))) pivot = 1e30 * (1 + std::abs(whole)), ++weak;
    const double inverse = 1 / std::sqrt(pivot);
    g[j][j] = inverse;  // inverse of the diagonal, kept in its place
    for (int i = j + 1; i < N; ++i) {
      double s = a[i * N + j];
      for (int k = 0; k < j; ++k) s -= g[i][k] * g[j][k];
      g[i][j] = s * inverse;
    }
  }
  for (int j = 0; j < N; ++j) {
    a[j * N + j] = g[j][j];
    for (int i = j + 1; i < N; ++i) {
      double s = 0;
      for (int k = j; k < i; ++k) s -= g[i][k] * a[k * N + j];
      a[i * N + j] = s * g[i][i];
    }
    for (int i = 0; i < j; ++i) a[i * N + j] = 0;
  }
  return weak;
}

// block <- block * inverse^T with the lower-triangular `inverse`, and its transpose.
template <int N>
void scaleRight(double* block, int rows, const double* inverse, double* transposed) {
  for (int r = 0; r < rows; ++r) {
    double* b = block + r * N;
    for (int c = N - 1; c >= 0; --c) {
      double s = b[0] * inverse[c * N];
      for (int t = 1; t <= c; ++t) s += b[t] * inverse[c * N + t];
      b[c] = transposed[c * rows + r] = s;
    }
  }
}

// target <- target - left * right, where left has N columns and right so many rows and C columns.
template <int N, int C>
void subtractProduct(double* target, const double* left, int leftRows, const double* right) {
  for (int r = 0; r < leftRows; ++r, target += C, left += N) {
    PairRow<C / 2> pairs = loadRow<C / 2>(target);
    double last = target[C - 1];
    for (int t = 0; t < N; ++t) {
      for (int i = 0; i < C / 2; ++i) pairs[i] -= left[t] * loadPair(right + t * C + 2 * i);
      if (C % 2 == 1) last -= left[t] * right[t * C + C - 1];
    }
    for (int i = 0; i < C / 2; ++i) storePair(target + 2 * i, pairs[i]);
    if (C % 2 == 1) target[C - 1] = last;
  }
}

template <int N>
void forward(const double* inverse, double* x) {
  double out[N];
  for (int r = 0; r < N; ++r) {
    double s = 0;
    for (int c = 0; c <= r; ++c) s += inverse[r * N + c] * x[c];
    out[r] = s;
  }
  std::memcpy(x, out, sizeof out);
}

template <int N>
void backward(const double* inverse, double* x) {
  double out[N];
  for (int c = 0; c < N; ++c) {
    double s = 0;
    for (int r = c; r < N; ++r) s += inverse[r * N + c] * x[r];
    out[c] = s;
  }
  std::memcpy(x, out, sizeof out);
}

// What one node does to a panel x of right-hand sides, whose rows are `stride` apart, and to those below it.
template <int N, class T, class Column, class Entry>
CALM_INLINE void passOn(const Column& column, const Entry* entries, const double* values, double* x, int stride) {
  T y[N], most{};
  for (int r = 0; r < N; ++r) {
    panels::load(y[r], x + (column.offset + r) * stride);
    most = lanes::larger(most, lanes::size(y[r]));
  }
  if (!lanes::any(T{} < most)) return;
  const double* inverse = values + column.diagonal;
  for (int r = N - 1; r >= 0; --r) {
    y[r] = inverse[r * N + r] * y[r];
    for (int c = 0; c < r; ++c) y[r] += inverse[r * N + c] * y[c];
    panels::store(x + (column.offset + r) * stride, y[r]);
  }
  for (int i = 0; i < column.entries; ++i) {
    const double* block = values + entries[i].block;
    for (int r = 0; r < entries[i].rows; ++r) {
      double* to = x + (entries[i].offset + r) * stride;
      T sum = block[r * N] * y[0], all;
      for (int c = 1; c < N; ++c) sum += block[r * N + c] * y[c];
      panels::load(all, to);
      all -= sum;
      panels::store(to, all);
    }
  }
}

// Not by withSize(): what it calls would be compiled for narrow registers.
template <class T, class Column, class Entry>
CALM_INLINE void solvePanel(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x,
                            int stride) {
  for (const Column& column : columns) {
    const Entry* own = entries + column.firstEntry;
    switch (column.rows) {
      case 1:
        passOn<1, T>(column, own, values, x, stride);
        break;
      case 2:
        passOn<2, T>(column, own, values, x, stride);
        break;
      case 3:
        passOn<3, T>(column, own, values, x, stride);
        break;
      case 4:
        passOn<4, T>(column, own, values, x, stride);
        break;
      case 5:
        passOn<5, T>(column, own, values, x, stride);
        break;
      default:
        passOn<6, T>(column, own, values, x, stride);
    }
  }
}
template <class Column, class Entry>
void solvePanelNarrow(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x,
                      int stride) {
  solvePanel<Oct>(columns, entries, values, x, stride);
}
template <class Column, class Entry>
CALM_WIDE void solvePanelWide(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x,
                              int stride) {
  solvePanel<Oct>(columns, entries, values, x, stride);
}
template <class Column, class Entry>
CALM_WIDEST void solvePanelWidest(const std::vector<Column>& columns, const Entry* entries, const double* values,
                                  double* x, int stride) {
  solvePanel<WholeOct>(columns, entries, values, x, stride);
}

}  // namespace

void BlockCholesky::analyse(const std::vector<int>& most, const std::vector<std::vector<int>>& below) {
  columns_.clear();
  entries_.clear();
  updates_.clear();
  int storage = 0;
  std::size_t longest = 0;
  for (std::size_t k = 0; k < most.size(); ++k) {
    longest = std::max(longest, below[k].size());
    Column column{};
    column.diagonal = storage;
    column.firstEntry = static_cast<int>(entries_.size());
    column.entries = static_cast<int>(below[k].size());
    storage += most[k] * most[k];
    for (int i : below[k]) {
      entries_.push_back({i, storage});
      storage += most[i] * most[k];
    }
    columns_.push_back(column);
  }
  values_.assign(storage, 0);
  transposed_.resize(longest * kMostRows * kMostRows);
  for (Column& column : columns_) {
    column.firstUpdate = static_cast<int>(updates_.size());
    for (int i = 0; i < column.entries; ++i)
      for (int j = 0; j <= i; ++j) {
        const int row = entries_[column.firstEntry + i].row, col = entries_[column.firstEntry + j].row;
        updates_.push_back(row == col ? columns_[row].diagonal : offDiagonal(row, col));
      }
  }
  use(most);
}

void BlockCholesky::use(const std::vector<int>& rows) {
  size_ = 0;
  for (std::size_t k = 0; k < columns_.size(); ++k) {
    columns_[k].rows = rows[k];
    columns_[k].offset = size_;
    size_ += rows[k];
  }
  used_.clear();
  usedEntries_.clear();
  usedUpdates_.clear();
  for (const Column& whole : columns_) {
    if (whole.rows == 0) continue;
    Column column = whole;
    column.firstEntry = static_cast<int>(usedEntries_.size());
    column.firstUpdate = static_cast<int>(usedUpdates_.size());
    const int* update = updates_.data() + whole.firstUpdate;
    const Entry* entry = entries_.data() + whole.firstEntry;
    for (int i = 0; i < whole.entries; update += ++i) {
      const Column& lower = columns_[entry[i].row];
      if (lower.rows == 0) continue;
      usedEntries_.push_back({entry[i].block, lower.rows, lower.offset});
      for (int j = 0; j <= i; ++j)
        if (columns_[entry[j].row].rows > 0) usedUpdates_.push_back(update[j]);
    }
    column.entries = static_cast<int>(usedEntries_.size()) - column.firstEntry;
    used_.push_back(column);
  }
}

int BlockCholesky::offDiagonal(int row, int column) const {
  const Column& c = columns_[column];
  const auto first = entries_.begin() + c.firstEntry, last = first + c.entries;
  return std::lower_bound(first, last, row, [](const Entry& e, int r) { return e.row < r; })->block;
}

void BlockCholesky::clear() {
  for (const Column& column : used_)
    withSize(column.rows, [&]<int N>() {
      for (int i = 0; i < column.entries; ++i) {
        const UsedEntry& e = usedEntries_[column.firstEntry + i];
        // Of known sizes, which spares a call for a few numbers.
        withSize(e.rows, [&]<int R>() { std::fill_n(&values_[e.block], R * N, 0.0); });
      }
    });
}

int BlockCholesky::factor() {
  int weak = 0;
  for (const Column& column : used_) {
    double* inverse = &values_[column.diagonal];
    const UsedEntry* entry = usedEntries_.data() + column.firstEntry;
    const int* target = usedUpdates_.data() + column.firstUpdate;
    withSize(column.rows, [&]<int N>() {
      weak += invertFactor<N>(inverse);
      double* transposed = transposed_.data();
      for (int i = 0; i < column.entries; ++i, transposed += kMostRows * N) {
        double* left = &values_[entry[i].block];
        scaleRight<N>(left, entry[i].rows, inverse, transposed);
        for (int j = 0; j <= i; ++j) {
          double* into = &values_[*target++];
          const double* right = transposed_.data() + j * kMostRows * N;
          withSize(entry[j].rows, [&]<int C>() { subtractProduct<N, C>(into, left, entry[i].rows, right); });
        }
      }
    });
  }
  return weak;
}

void BlockCholesky::solveForward(double* x) const {
  for (const Column& column : used_) {
    const UsedEntry* entry = usedEntries_.data() + column.firstEntry;
    double* y = x + column.offset;
    withSize(column.rows, [&]<int N>() {
      forward<N>(&values_[column.diagonal], y);
      for (int i = 0; i < column.entries; ++i) {
        const double* block = &values_[entry[i].block];
        double* b = x + entry[i].offset;
        withSize(entry[i].rows, [&]<int R>() {
          for (int r = 0; r < R; ++r) {
            double s = block[r * N] * y[0];
            for (int c = 1; c < N; ++c) s += block[r * N + c] * y[c];
            b[r] -= s;
          }
        });
      }
    });
  }
}

void BlockCholesky::solveHalf(double* x, int columns) const {
  static const int bits = lanes::registerBits();
  const auto solve = bits >= 512   ? solvePanelWidest<Column, UsedEntry>
                     : bits >= 256 ? solvePanelWide<Column, UsedEntry>
                                   : solvePanelNarrow<Column, UsedEntry>;
  for (int first = 0; first < columns; first += panels::kWidth)
    solve(used_, usedEntries_.data(), values_.data(), x + first, columns);
}

void BlockCholesky::solve(double* x) const {
  solveForward(x);
  for (auto column = used_.rbegin(); column != used_.rend(); ++column) {
    const UsedEntry* entry = usedEntries_.data() + column->firstEntry;
    double* y = x + column->offset;
    withSize(column->rows, [&]<int N>() {
      for (int i = 0; i < column->entries; ++i) {
        const double* block = &values_[entry[i].block];
        const double* b = x + entry[i].offset;
        withSize(entry[i].rows, [&]<int R>() {
          for (int r = 0; r < R; ++r)
            for (int c = 0; c < N; ++c) y[c] -= block[r * N + c] * b[r];
        });
      }
      backward<N>(&values_[column->diagonal], y);
    });
  }
}

}  // namespace calm
