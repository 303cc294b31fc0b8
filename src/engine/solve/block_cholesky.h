// SPDX-License-Identifier: GPL-3.0-or-later
// Sparse block Cholesky factorisation A = G G^T of a symmetric positive definite matrix whose blocks (1 to 6 rows)
// follow a graph. Symbolic work is done once; the numeric factorisation walks flat arrays. For trees and chains
// its cost is linear in the number of nodes (Baraff, "Linear-time dynamics using Lagrange multipliers", SIGGRAPH 1996).
#pragma once

#include <vector>

#include "engine/solve/ordering.h"

namespace calm {

class BlockCholesky {
 public:
  // `rows[k]` is the number of rows of the node eliminated k-th; `below` as in Elimination.
  void analyse(const std::vector<int>& rows, const std::vector<std::vector<int>>& below);

  int size() const { return size_; }  // scalar rows in all
  int offset(int node) const { return columns_[node].offset; }

  // The blocks to fill before factor(). Row-major; the diagonal block's upper triangle is not read.
  double* diagonal(int node) { return &values_[columns_[node].diagonal]; }
  // Where block (row, column) with row > column is kept, of rows(row) x rows(column).
  int offDiagonal(int row, int column) const;
  double* block(int where) { return &values_[where]; }
  void clear();

  // Overwrites the blocks with the factor. A pivot below 1e-15 of its diagonal (a dependent row that nothing
  // regularises) is replaced by a huge one, so that the row carries nothing; returns how many were.
  int factor();

  // Solves A x = b in place.
  void solve(double* x) const;
  // Its first half, x <- L^-1 x, quick where x is mostly zero: dot products of such halves are those with the inverse.
  void solveHalf(double* x) const;

 private:
  struct Column {
    int rows, offset, diagonal;
    int firstEntry, entries;  // off-diagonal blocks of the column
    int firstUpdate;          // targets of its outer product, entry by entry
  };
  struct Entry {
    int row, block;
  };

  int size_ = 0;
  std::vector<Column> columns_;
  std::vector<Entry> entries_;
  std::vector<int> updates_;
  std::vector<double> values_;
};

}  // namespace calm
