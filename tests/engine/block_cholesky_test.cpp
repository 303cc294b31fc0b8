// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/block_cholesky.h"

#include <gtest/gtest.h>

#include <Eigen/Cholesky>
#include <random>

namespace calm {
namespace {

// A random graph of blocks of one to six rows, against a dense factorisation.
TEST(BlockCholesky, SolvesLikeADenseFactorisation) {
  std::mt19937 random(11);
  std::normal_distribution<double> normal;
  for (int trial = 0; trial < 20; ++trial) {
    const int nodes = 12;
    std::vector<std::pair<int, int>> edges;
    for (int i = 1; i < nodes; ++i) edges.emplace_back(i, static_cast<int>(random() % i));
    for (int extra = 0; extra < 4; ++extra) edges.emplace_back(random() % nodes, random() % nodes);
    const Elimination e = eliminateByMinimumDegree(nodes, edges);
    std::vector<int> rows(nodes);
    for (int& r : rows) r = 1 + static_cast<int>(random() % 6);
    BlockCholesky cholesky;
    cholesky.analyse(rows, e.below);
    const int n = cholesky.size();
    Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(n, n);
    for (int k = 0; k < nodes; ++k) {
      const int o = cholesky.offset(k);
      for (int r = 0; r < rows[k]; ++r)
        for (int c = 0; c <= r; ++c)
          dense(o + c, o + r) = dense(o + r, o + c) = cholesky.diagonal(k)[r * rows[k] + c] =
              normal(random) + (r == c ? 60 : 0);
      for (int i : e.below[k]) {
        double* b = cholesky.block(cholesky.offDiagonal(i, k));
        for (int r = 0; r < rows[i]; ++r)
          for (int c = 0; c < rows[k]; ++c)
            dense(o + c, cholesky.offset(i) + r) = dense(cholesky.offset(i) + r, o + c) = b[r * rows[k] + c] =
                normal(random);
      }
    }
    Eigen::VectorXd x = Eigen::VectorXd::NullaryExpr(n, [&] { return normal(random); });
    const Eigen::VectorXd expected = dense.llt().solve(x);
    EXPECT_EQ(cholesky.factor(), 0);
    cholesky.solve(x.data());
    EXPECT_LE((x - expected).norm(), 1e-12 * expected.norm()) << "trial " << trial;
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
