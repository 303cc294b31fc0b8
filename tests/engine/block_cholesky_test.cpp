// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/block_cholesky.h"

#include <gtest/gtest.h>

#include <Eigen/Cholesky>
#include <random>

#include "engine/math/panels.h"

namespace calm {
namespace {

constexpr int kNodes = 12;

// A random graph of blocks of one to six rows, of which some may be out of use.
class BlockCholeskyCase : public testing::Test {
 protected:
  void analyse(unsigned seed) {
    random_.seed(seed);
    std::vector<std::pair<int, int>> edges;
    for (int i = 1; i < kNodes; ++i) edges.emplace_back(i, static_cast<int>(random_() % i));
    for (int extra = 0; extra < 4; ++extra) edges.emplace_back(random_() % kNodes, random_() % kNodes);
    elimination_ = eliminateByMinimumDegree(kNodes, edges);
    rows_.resize(kNodes);
    for (int& r : rows_) r = 1 + static_cast<int>(random_() % 6);
    cholesky_.analyse(rows_, elimination_.below);
  }
  void useFewerRows() {
    for (int& r : rows_) r = static_cast<int>(random_() % (r + 1));
    cholesky_.use(rows_);
  }
  // Fills the blocks in use with random numbers, and returns the same matrix.
  Eigen::MatrixXd fill() {
    const int n = cholesky_.size();
    Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(n, n);
    cholesky_.clear();
    for (int k = 0; k < kNodes; ++k) {
      const int o = cholesky_.offset(k);
      for (int r = 0; r < rows_[k]; ++r)
        for (int c = 0; c <= r; ++c)
          dense(o + c, o + r) = dense(o + r, o + c) = cholesky_.diagonal(k)[r * rows_[k] + c] =
              normal() + (r == c ? 60 : 0);
      for (int i : elimination_.below[k]) {
        double* b = cholesky_.block(cholesky_.offDiagonal(i, k));
        for (int r = 0; r < rows_[i]; ++r)
          for (int c = 0; c < rows_[k]; ++c)
            dense(o + c, cholesky_.offset(i) + r) = dense(cholesky_.offset(i) + r, o + c) = b[c * rows_[i] + r] =
                normal();
      }
    }
    return dense;
  }
  double normal() { return normal_(random_); }
  void expectSolved() {
    const Eigen::MatrixXd dense = fill();
    Eigen::VectorXd x = Eigen::VectorXd::NullaryExpr(dense.rows(), [&] { return normal(); });
    const Eigen::VectorXd expected = dense.llt().solve(x);
    EXPECT_EQ(cholesky_.factor(), 0);
    cholesky_.solve(x.data());
    EXPECT_LE((x - expected).norm(), 1e-12 * (1 + expected.norm()));
  }

  BlockCholesky cholesky_;
  Elimination elimination_;
  std::vector<int> rows_;
  std::mt19937 random_;
  std::normal_distribution<double> normal_;
};

TEST_F(BlockCholeskyCase, SolvesLikeADenseFactorisation) {
  for (unsigned trial = 0; trial < 20; ++trial) {
    SCOPED_TRACE(trial);
    analyse(trial);
    expectSolved();
  }
}

TEST_F(BlockCholeskyCase, LeavesOutRowsThatAreNotInUseAndTakesThemBack) {
  for (unsigned trial = 0; trial < 20; ++trial) {
    SCOPED_TRACE(trial);
    analyse(trial);
    const std::vector<int> all = rows_;
    useFewerRows();
    expectSolved();
    rows_ = all;
    cholesky_.use(all);
    expectSolved();
  }
}

// With H = L^-1 X, H^T H = X^T A^-1 X; also for columns that are mostly zero.
TEST_F(BlockCholeskyCase, HalfSolutionsMultiplyToTheInverse) {
  analyse(3);
  const Eigen::MatrixXd dense = fill();
  cholesky_.factor();
  const int n = cholesky_.size(), columns = 2 * panels::kWidth;
  using RowMajor = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  RowMajor x = RowMajor::Zero(n, columns);
  for (int r = n / 2; r < n / 2 + 4; ++r)
    for (int c = 5; c < 11; ++c) x(r, c) = normal();
  const Eigen::MatrixXd before = x;
  cholesky_.solveHalf(x.data(), columns);
  const Eigen::MatrixXd expected = before.transpose() * dense.llt().solve(before);
  EXPECT_LE((x.transpose() * x - expected).norm(), 1e-12 * expected.norm());
  EXPECT_TRUE(x.leftCols(5).isZero(0) && x.rightCols(5).isZero(0)) << "columns beside those were touched";
}

// The same of one column, that is zero but for a few nodes.
TEST_F(BlockCholeskyCase, SquaredHalvesAreThoseOfTheInverse) {
  for (unsigned trial = 0; trial < 20; ++trial) {
    SCOPED_TRACE(trial);
    analyse(trial);
    if (trial % 2 == 1) useFewerRows();
    const Eigen::MatrixXd dense = fill();
    cholesky_.factor();
    const int nodes = static_cast<int>(rows_.size()), first = nodes / 3, last = nodes / 2;
    Eigen::VectorXd x = Eigen::VectorXd::Zero(cholesky_.size());
    for (int r = cholesky_.offset(first); r < cholesky_.offset(last) + rows_[last]; ++r) x[r] = normal();
    const double expected = x.dot(dense.llt().solve(x));
    EXPECT_NEAR(cholesky_.squaredHalf(x.data(), first, last), expected, 1e-6 * expected);
    EXPECT_TRUE(x.isZero(0)) << "something was left behind";
  }
}

TEST(BlockCholesky, ReportsADependentRowAndStaysFinite) {
  BlockCholesky cholesky;
  cholesky.analyse({2}, {{}});
  const double singular[] = {1, 1, 1, 1};
  std::copy(singular, singular + 4, cholesky.diagonal(0));
  EXPECT_EQ(cholesky.factor(), 1);
  double x[] = {1, 1};
  cholesky.solve(x);
  EXPECT_TRUE(std::isfinite(x[0]) && std::isfinite(x[1]));
  EXPECT_NEAR(x[0] + x[1], 1, 1e-9);
}

}  // namespace
}  // namespace calm
