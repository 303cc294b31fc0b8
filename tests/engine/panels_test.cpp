// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/panels.h"

#include <gtest/gtest.h>

#include <Eigen/Core>

namespace calm {
namespace {

using RowMajor = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;

constexpr double kRoundOff = 1e-14;

TEST(Panels, FillUpToWholeOnes) {
  EXPECT_EQ(panels::paddedTo(0), 0);
  EXPECT_EQ(panels::paddedTo(1), 8);
  EXPECT_EQ(panels::paddedTo(8), 8);
  EXPECT_EQ(panels::paddedTo(9), 16);
}

TEST(Panels, SubtractTheGramMatrixOfAnyNumberOfRows) {
  constexpr int kColumns = 24;
  for (const int rows : {0, 1, 7, 60}) {
    const RowMajor h = RowMajor::Random(rows, kColumns);
    Eigen::MatrixXd before = Eigen::MatrixXd::Random(kColumns, kColumns);
    before = (before + before.transpose()).eval();
    Eigen::MatrixXd c = before;
    c.triangularView<Eigen::StrictlyLower>().setConstant(77);  // not read
    panels::subtractGram(h.data(), rows, kColumns, c.data());
    EXPECT_EQ(c, c.transpose()) << rows;
    EXPECT_LE((c - (before - h.transpose() * h)).norm(), kRoundOff * (rows + 1) * kColumns) << rows;
  }
}

TEST(Panels, AddThreeColumns) {
  constexpr int kRows = 40;
  const Eigen::MatrixXd a = Eigen::MatrixXd::Random(kRows, 3);
  const Eigen::Vector3d x(0.5, -2, 3);
  const Eigen::VectorXd before = Eigen::VectorXd::Random(kRows);
  Eigen::VectorXd y = before;
  panels::addThreeColumns(a.data(), x.data(), kRows, y.data());
  EXPECT_LE((y - (before + a * x)).norm(), kRoundOff * kRows);
}

}  // namespace
}  // namespace calm
