// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/block_cholesky.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "engine/solve/block_size.h"

namespace calm {

namespace {

// Lower-triangular inverse of the Cholesky factor of the n x n block, in place.
template <int N>
int invertFactor(double* a) {
  int weak = 0;
  double g[N][N] = {};
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

// block <- block * inverse^T with the lower-triangular `inverse`.
template <int N>
void scaleRight(double* block, int rows, const double* inverse) {
  for (int r = 0; r < rows; ++r) {
    double* b = block + r * N;
    double out[N];
    for (int c = 0; c < N; ++c) {
      double s = 0;
      for (int t = 0; t <= c; ++t) s += b[t] * inverse[c * N + t];
      out[c] = s;
    }
    std::memcpy(b, out, sizeof out);
  }
}

// target <- target - left * right^T; the factors have N columns.
template <int N>
void subtractProduct(double* target, const double* left, int leftRows, const double* right, int rightRows) {
  for (int r = 0; r < leftRows; ++r)
    for (int c = 0; c < rightRows; ++c) {
      double s = 0;
      for (int t = 0; t < N; ++t) s += left[r * N + t] * right[c * N + t];
      target[r * rightRows + c] -= s;
    }
}

template <int N, int Rows>
void subtractSquare(double* target, const double* left, const double* right) {
  subtractProduct<N>(target, left, Rows, right, Rows);
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

}  // namespace

void BlockCholesky::analyse(const std::vector<int>& rows, const std::vector<std::vector<int>>& below) {
  columns_.clear();
  entries_.clear();
  updates_.clear();
  size_ = 0;
  int storage = 0;
  for (std::size_t k = 0; k < rows.size(); ++k) {
    Column column{};
    column.rows = rows[k];
    column.offset = size_;
    column.diagonal = storage;
    column.firstEntry = static_cast<int>(entries_.size());
    column.entries = static_cast<int>(below[k].size());
    size_ += rows[k];
    storage += rows[k] * rows[k];
    for (int i : below[k]) {
      entries_.push_back({i, storage});
      storage += rows[i] * rows[k];
    }
    columns_.push_back(column);
  }
  values_.assign(storage, 0);
  for (Column& column : columns_) {
    column.firstUpdate = static_cast<int>(updates_.size());
    for (int i = 0; i < column.entries; ++i)
      for (int j = 0; j <= i; ++j) {
        const int row = entries_[column.firstEntry + i].row, col = entries_[column.firstEntry + j].row;
        updates_.push_back(row == col ? columns_[row].diagonal : offDiagonal(row, col));
      }
  }
}

int BlockCholesky::offDiagonal(int row, int column) const {
  const Column& c = columns_[column];
  const auto first = entries_.begin() + c.firstEntry, last = first + c.entries;
  return std::lower_bound(first, last, row, [](const Entry& e, int r) { return e.row < r; })->block;
}

void BlockCholesky::clear() {
  std::fill(values_.begin(), values_.end(), 0.0);
}

int BlockCholesky::factor() {
  int weak = 0;
  for (const Column& column : columns_) {
    double* inverse = &values_[column.diagonal];
    const Entry* entry = entries_.data() + column.firstEntry;
    const int* target = updates_.data() + column.firstUpdate;
    withSize(column.rows, [&]<int N>() {
      weak += invertFactor<N>(inverse);
      for (int i = 0; i < column.entries; ++i) {
        const int rows = columns_[entry[i].row].rows;
        scaleRight<N>(&values_[entry[i].block], rows, inverse);
        for (int j = 0; j <= i; ++j) {
          double* into = &values_[*target++];
          const double *left = &values_[entry[i].block], *right = &values_[entry[j].block];
          const int rightRows = columns_[entry[j].row].rows;
          if (rows == N && rightRows == N)
            subtractSquare<N, N>(into, left, right);  // sizes known: unrolled
          else
            subtractProduct<N>(into, left, rows, right, rightRows);
        }
      }
    });
  }
  return weak;
}

void BlockCholesky::solveHalf(double* x) const {
  for (const Column& column : columns_) {
    const Entry* entry = entries_.data() + column.firstEntry;
    double* y = x + column.offset;
    if (std::all_of(y, y + column.rows, [](double v) { return v == 0; })) continue;
    withSize(column.rows, [&]<int N>() {
      forward<N>(&values_[column.diagonal], y);
      for (int i = 0; i < column.entries; ++i) {
        const Column& lower = columns_[entry[i].row];
        const double* block = &values_[entry[i].block];
        double* b = x + lower.offset;
        for (int r = 0; r < lower.rows; ++r) {
          double s = 0;
          for (int c = 0; c < N; ++c) s += block[r * N + c] * y[c];
          b[r] -= s;
        }
      }
    });
  }
}

void BlockCholesky::solve(double* x) const {
  solveHalf(x);
  for (auto column = columns_.rbegin(); column != columns_.rend(); ++column) {
    const Entry* entry = entries_.data() + column->firstEntry;
    double* y = x + column->offset;
    withSize(column->rows, [&]<int N>() {
      for (int i = 0; i < column->entries; ++i) {
        const Column& lower = columns_[entry[i].row];
        const double* block = &values_[entry[i].block];
        const double* b = x + lower.offset;
        for (int r = 0; r < lower.rows; ++r)
          for (int c = 0; c < N; ++c) y[c] -= block[r * N + c] * b[r];
      }
      backward<N>(&values_[column->diagonal], y);
    });
  }
}

}  // namespace calm
