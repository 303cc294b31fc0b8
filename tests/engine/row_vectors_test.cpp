// SPDX-License-Identifier: GPL-3.0-or-later
// Vectors of several rows at once, against one after the other.
#include "engine/solve/row_vectors.h"

#include <gtest/gtest.h>

#include <random>
#include <vector>

namespace calm {
namespace {

template <int N>
RowVectors<N> vectorsOf(const std::vector<Vec3>& all) {
  RowVectors<N> vectors;
  vectors.set([&](int k, int i) __attribute__((always_inline)) { return all[i][k]; });
  return vectors;
}

template <int N, int C>
void expectProducts() {
  std::mt19937 random(10 * N + C);
  std::normal_distribution<double> normal;
  const auto vectors = [&](int count) {
    std::vector<Vec3> all;
    for (int i = 0; i < count; ++i) all.emplace_back(normal(random), normal(random), normal(random));
    return all;
  };
  const std::vector<Vec3> left = vectors(N), right = vectors(C);
  Mat3 m;
  for (double& x : m.reshaped()) x = normal(random);
  RowVectors<C> turned;
  multiply(m, vectorsOf<C>(right), turned);
  constexpr double kUntouched = 7;
  constexpr int kRoom = 3;  // that is read beyond it
  std::vector<double> block(N * C, 1.0);
  block.resize(N * C + kRoom, kUntouched);
  addProducts(vectorsOf<N>(left), turned, block.data());
  for (int r = 0; r < N; ++r)
    for (int c = 0; c < C; ++c)
      EXPECT_NEAR(block[r * C + c], 1 + left[r].dot(m * right[c]), 1e-14 * 20)
          << N << " x " << C << ": " << r << ", " << c;
  for (int i = 0; i < kRoom; ++i)
    EXPECT_EQ(block[N * C + i], kUntouched) << N << " x " << C << " writes beyond its block";
}

TEST(RowVectors, ProductsOfAllAtOnceAreThoseOfEach) {
  expectProducts<1, 1>();
  expectProducts<2, 3>();
  expectProducts<3, 3>();
  expectProducts<4, 2>();
  expectProducts<5, 4>();
  expectProducts<5, 5>();
  expectProducts<3, 6>();
  expectProducts<6, 6>();
}

}  // namespace
}  // namespace calm
