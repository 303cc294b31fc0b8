// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/block_cholesky.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "engine/math/panels.h"
#include "engine/solve/block_size.h"

namespace calm {

namespace {

// Behind the last block, for what is loaded beyond it.
constexpr int kRoom = 3;

// Lower-triangular inverse of the Cholesky factor of the N x N block, in place; its upper triangle becomes zero.
template <int N>
CALM_INLINE int invertFactor(double* a) {
  int weak = 0;
  // A = L D L^T first: of what the pivots wait for one another, no root is then a part.
  double below[N][N], scaled[N][N], inverse[N];  // L D and L below the diagonal, D^-1
#pragma GCC unroll 6
  for (int j = 0; j < N; ++j) {
    double pivot = a[j * N + j];
    const double whole = pivot;
#pragma GCC unroll 6
    for (int k = 0; k < j; ++k) pivot -= below[j][k] * scaled[j][k];
    // The block has already lost what earlier columns took; a pivot that is all round-off belongs to a dependent row.
    if (!(pivot > 1e-15 * std::abs(whole))) pivot = 1e30 * (1 + std::abs(whole)), ++weak;
    inverse[j] = 1 / pivot;
#pragma GCC unroll 6
    for (int i = j + 1; i < N; ++i) {
      double s = a[i * N + j];
#pragma GCC unroll 6
      for (int k = 0; k < j; ++k) s -= below[i][k] * scaled[j][k];
      below[i][j] = s;
      scaled[i][j] = s * inverse[j];
    }
  }
  double root[N], unit[N][N];  // D^-1/2, L^-1
#pragma GCC unroll 6
  for (int i = 0; i < N; ++i) root[i] = std::sqrt(inverse[i]);
#pragma GCC unroll 6
  for (int j = 0; j < N; ++j) {
    unit[j][j] = 1;
#pragma GCC unroll 6
    for (int i = j + 1; i < N; ++i) {
      double s = -scaled[i][j];
#pragma GCC unroll 6
      for (int k = j + 1; k < i; ++k) s -= scaled[i][k] * unit[k][j];
      unit[i][j] = s;
    }
#pragma GCC unroll 6
    for (int i = 0; i < N; ++i) a[i * N + j] = i < j ? 0 : unit[i][j] * root[i];
  }
  return weak;
}

// block <- block * inverse^T with the lower-triangular `inverse`; the block has N columns of R numbers.
template <int N, int R>
CALM_INLINE void scaleRight(double* block, const double* inverse) {
  Numbers<R> columns[N], sum;
#pragma GCC unroll 6
  for (int c = 0; c < N; ++c) columns[c].load(block + c * R);
#pragma GCC unroll 6
  for (int c = 0; c < N; ++c) {
    sum.setProduct(columns[0], inverse[c * N]);
#pragma GCC unroll 6
    for (int t = 1; t <= c; ++t) sum.addProduct(columns[t], inverse[c * N + t]);
    sum.store(block + c * R);
  }
}

// target <- target - left * right^T, where left has N columns of R numbers, right N of so many, and the target so many
// of R.
template <int N, int R>
CALM_INLINE void subtractProduct(double* target, const double* left, const double* right, int rightRows) {
  Numbers<R> columns[N], sum, to;
#pragma GCC unroll 6
  for (int t = 0; t < N; ++t) columns[t].load(left + t * R);
  for (int c = 0; c < rightRows; ++c, target += R) {
    to.load(target);
    sum.setProduct(columns[0], right[c]);
#pragma GCC unroll 6
    for (int t = 1; t < N; ++t) sum.addProduct(columns[t], right[t * rightRows + c]);
    to -= sum;
    to.store(target);
  }
}

template <int N>
CALM_INLINE void forward(const double* inverse, double* x) {
  double out[N];
#pragma GCC unroll 6
  for (int r = 0; r < N; ++r) {
    double s = inverse[r * N] * x[0];
#pragma GCC unroll 6
    for (int c = 1; c <= r; ++c) s += inverse[r * N + c] * x[c];
    out[r] = s;
  }
  std::memcpy(x, out, sizeof out);
}

template <int N>
CALM_INLINE void backward(const double* inverse, double* x) {
  double out[N];
#pragma GCC unroll 6
  for (int c = 0; c < N; ++c) {
    double s = inverse[c * N + c] * x[c];
#pragma GCC unroll 6
    for (int r = c + 1; r < N; ++r) s += inverse[r * N + c] * x[r];
    out[c] = s;
  }
  std::memcpy(x, out, sizeof out);
}

// The steps of BlockCholesky, for narrow and for wide registers.
template <class Column, class Entry>
CALM_INLINE int factorAll(const std::vector<Column>& columns, const Entry* entries, const int* targets,
                          double* values) {
  int weak = 0;
  for (const Column& column : columns) {
    double* inverse = values + column.diagonal;
    const Entry* entry = entries + column.firstEntry;
    const int* target = targets + column.firstUpdate;
    withSize(
        column.rows, [&]<int N>() __attribute__((always_inline)) {
          weak += invertFactor<N>(inverse);
          for (int i = 0; i < column.entries; ++i)
            withSize(
                entry[i].rows, [&]<int R>() __attribute__((always_inline)) {
                  double* left = values + entry[i].block;
                  scaleRight<N, R>(left, inverse);
                  for (int j = 0; j <= i; ++j)
                    subtractProduct<N, R>(values + *target++, left, values + entry[j].block, entry[j].rows);
                });
        });
  }
  return weak;
}

template <class Column, class Entry>
CALM_INLINE void solveForward(const std::vector<Column>& columns, const Entry* entries, const double* values,
                              double* x) {
  for (const Column& column : columns) {
    const Entry* entry = entries + column.firstEntry;
    double* y = x + column.offset;
    withSize(
        column.rows, [&]<int N>() __attribute__((always_inline)) {
          forward<N>(values + column.diagonal, y);
          for (int i = 0; i < column.entries; ++i) {
            const double* block = values + entry[i].block;
            double* b = x + entry[i].offset;
            withSize(
                entry[i].rows, [&]<int R>() __attribute__((always_inline)) {
                  Numbers<R> of, sum;
                  of.load(block);
                  sum.setProduct(of, y[0]);
#pragma GCC unroll 6
                  for (int c = 1; c < N; ++c) {
                    of.load(block + c * R);
                    sum.addProduct(of, y[c]);
                  }
                  alignas(sizeof(Quad)) double change[4 * Numbers<R>::kQuads];
                  sum.storeWhole(change);
                  for (int r = 0; r < R; ++r) b[r] -= change[r];
                });
          }
        });
  }
}

template <class Column, class Entry>
CALM_INLINE void solveBackward(const std::vector<Column>& columns, const Entry* entries, const double* values,
                               double* x) {
  for (auto column = columns.rbegin(); column != columns.rend(); ++column) {
    const Entry* entry = entries + column->firstEntry;
    double* y = x + column->offset;
    withSize(
        column->rows, [&]<int N>() __attribute__((always_inline)) {
          for (int i = 0; i < column->entries; ++i) {
            const double* block = values + entry[i].block;
            const double* b = x + entry[i].offset;
            withSize(
                entry[i].rows, [&]<int R>() __attribute__((always_inline)) {
#pragma GCC unroll 6
                  for (int c = 0; c < N; ++c) {
                    double sum = block[c * R] * b[0];
#pragma GCC unroll 6
                    for (int r = 1; r < R; ++r) sum += block[c * R + r] * b[r];
                    y[c] -= sum;
                  }
                });
          }
          backward<N>(values + column->diagonal, y);
        });
  }
}

template <class Column, class Entry>
int factorNarrow(const std::vector<Column>& columns, const Entry* entries, const int* targets, double* values) {
  return factorAll(columns, entries, targets, values);
}
template <class Column, class Entry>
CALM_WIDE int factorWide(const std::vector<Column>& columns, const Entry* entries, const int* targets, double* values) {
  return factorAll(columns, entries, targets, values);
}
template <class Column, class Entry>
void solveNarrow(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x) {
  solveForward(columns, entries, values, x);
  solveBackward(columns, entries, values, x);
}
template <class Column, class Entry>
CALM_WIDE void solveWide(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x) {
  solveForward(columns, entries, values, x);
  solveBackward(columns, entries, values, x);
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
    const int rows = entries[i].rows;
    for (int r = 0; r < rows; ++r) {
      double* to = x + (entries[i].offset + r) * stride;
      T sum = block[r] * y[0], all;
      for (int c = 1; c < N; ++c) sum += block[c * rows + r] * y[c];
      panels::load(all, to);
      all -= sum;
      panels::store(to, all);
    }
  }
}

template <class T, class Column, class Entry>
CALM_INLINE void solvePanel(const std::vector<Column>& columns, const Entry* entries, const double* values, double* x,
                            int stride) {
  for (const Column& column : columns)
    withSize(
        column.rows, [&]<int N>() __attribute__((always_inline)) {
          passOn<N, T>(column, entries + column.firstEntry, values, x, stride);
        });
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
  for (std::size_t k = 0; k < most.size(); ++k) {
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
  values_.assign(storage + kRoom, 0);
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
  const auto factor = lanes::areWide() ? factorWide<Column, UsedEntry> : factorNarrow<Column, UsedEntry>;
  return factor(used_, usedEntries_.data(), usedUpdates_.data(), values_.data());
}

void BlockCholesky::solveHalf(double* x, int columns) const {
  static const int bits = lanes::registerBits();
  const auto solve = bits >= 512   ? solvePanelWidest<Column, UsedEntry>
                     : bits >= 256 ? solvePanelWide<Column, UsedEntry>
                                   : solvePanelNarrow<Column, UsedEntry>;
  for (int first = 0; first < columns; first += panels::kWidth)
    solve(used_, usedEntries_.data(), values_.data(), x + first, columns);
}

double BlockCholesky::squaredHalf(double* x, int first, int last) const {
  // Of the whole, what a node gives for it to be passed on: far less, since all but nothing may be left of a
  // difference.
  constexpr double kFaint = 1e-20;
  double whole = 0;
  int end = columns_[last].offset + columns_[last].rows;
  auto column = std::lower_bound(used_.begin(), used_.end(), columns_[first].offset,
                                 [](const Column& c, int offset) { return c.offset < offset; });
  for (; column != used_.end() && column->offset < end; ++column) {
    double* y = x + column->offset;
    if (std::all_of(y, y + column->rows, [](double v) { return v == 0; })) continue;
    withSize(column->rows, [&]<int N>() {
      forward<N>(&values_[column->diagonal], y);
      double own = 0;
      for (int r = 0; r < N; ++r) own += y[r] * y[r];
      whole += own;
      for (int i = 0; own > kFaint * whole && i < column->entries; ++i) {
        const UsedEntry& entry = usedEntries_[column->firstEntry + i];
        const double* block = &values_[entry.block];
        for (int c = 0; c < N; ++c)
          for (int r = 0; r < entry.rows; ++r) x[entry.offset + r] -= block[c * entry.rows + r] * y[c];
        end = std::max(end, entry.offset + entry.rows);
      }
    });
    std::fill_n(y, column->rows, 0.0);
  }
  return whole;
}

void BlockCholesky::solve(double* x) const {
  const auto solve = lanes::areWide() ? solveWide<Column, UsedEntry> : solveNarrow<Column, UsedEntry>;
  solve(used_, usedEntries_.data(), values_.data(), x);
}

}  // namespace calm
