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
  // `most[k]` is the largest number of rows of the node eliminated k-th; `below` as in Elimination. At first all are
  // in use.
  void analyse(const std::vector<int>& most, const std::vector<std::vector<int>>& below);
  // From now on each node has so many rows, none up to the most. What has none costs nothing.
  void use(const std::vector<int>& rows);

  int size() const { return size_; }  // scalar rows in use
  int offset(int node) const { return columns_[node].offset; }

  // The blocks to fill before factor(): diagonal ones row by row, of which the upper triangle is not read.
  double* diagonal(int node) { return &values_[columns_[node].diagonal]; }
  // Where block (row, column) with row > column is kept, of rows(row) x rows(column) numbers, column by column.
  int offDiagonal(int row, int column) const;
  double* block(int where) { return &values_[where]; }
  // Sets all blocks but the diagonal ones to zero.
  void clear();

  // Overwrites the blocks with the factor. A pivot below 1e-15 of its diagonal (a dependent row that nothing
  // regularises) is replaced by a huge one, so that the row carries nothing; returns how many were.
  int factor();

  // Solves A x = b in place.
  void solve(double* x) const;
  // Its first half, x <- L^-1 x, for whole panels of right-hand sides (see math/panels.h) that are mostly zero; row by
  // row. Dot products of such halves are those with the inverse.
  void solveHalf(double* x, int columns) const;
  // The squared length of one such half, to a millionth: x^T A^-1 x. Of x only the rows of the nodes `first` to `last`
  // are read, or anything but zero; all of it is zero afterwards.
  double squaredHalf(double* x, int first, int last) const;

 private:
  struct Column {
    int rows, offset, diagonal;
    int firstEntry, entries;  // off-diagonal blocks of the column
    int firstUpdate;          // targets of its outer product, entry by entry
  };
  struct Entry {
    int row, block;
  };
  // The same of an entry in use, with what is asked of its row all the time.
  struct UsedEntry {
    int block, rows, offset;
  };

  int size_ = 0;
  std::vector<Column> columns_;
  std::vector<Entry> entries_;
  std::vector<int> updates_;
  // What is left of them where nodes without rows are left out.
  std::vector<Column> used_;
  std::vector<UsedEntry> usedEntries_;
  std::vector<int> usedUpdates_;
  std::vector<double> values_;
};

}  // namespace calm
