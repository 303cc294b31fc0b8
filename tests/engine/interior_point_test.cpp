// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/interior_point.h"

#include <gtest/gtest.h>

#include <Eigen/Dense>
#include <limits>
#include <random>

namespace calm {
namespace {

constexpr double kUnbounded = std::numeric_limits<double>::infinity();

struct Problem {
  Eigen::MatrixXd a;
  Eigen::VectorXd b;
  std::vector<InteriorPoint::Bounds> bounds;
};

struct Found {
  Eigen::VectorXd p;
  std::vector<InteriorPoint::Side> sides;
  int steps = 0;
};

Found solve(const Problem& problem) {
  const int n = static_cast<int>(problem.b.size());
  const Eigen::VectorXd mobility = problem.a.diagonal();
  InteriorPoint interior(problem.bounds, {mobility.begin(), mobility.end()});
  Found found{Eigen::VectorXd::Zero(n), {}};
  const auto lack = [&] { return Eigen::VectorXd(problem.b - problem.a * found.p); };
  const auto list = [](const Eigen::VectorXd& v) { return std::vector<double>(v.begin(), v.end()); };
  const Eigen::VectorXd first = lack();
  for (int i = 0; i < n; ++i) found.p[i] = interior.begin(i, 0, first[i]);
  interior.start(list(lack()));
  for (; !interior.isDone() && found.steps < 60; ++found.steps) {
    Eigen::MatrixXd barred = problem.a;
    for (int i = 0; i < n; ++i) barred(i, i) += interior.barrier(i);
    const Eigen::LLT<Eigen::MatrixXd> factor(barred);
    Eigen::VectorXd right = lack();
    interior.predict(list(factor.solve(right)));
    for (int i = 0; i < n; ++i) right[i] += interior.centring(i);
    const Eigen::VectorXd change = factor.solve(right);
    interior.advance(list(change));
    found.p += interior.step() * change;
  }
  for (int i = 0; i < n; ++i) found.sides.push_back(interior.sideOf(i));
  return found;
}

// How bars bend one another in a chain: fourth differences, whose condition grows with the fourth power of their
// number; b is smooth, so that many unknowns next to each other come to their bounds together.
Problem chain(int n, unsigned seed) {
  std::mt19937 random(seed);
  std::uniform_real_distribution<double> uniform(0.2, 1);
  Problem problem;
  Eigen::MatrixXd second = Eigen::MatrixXd::Zero(n, n);
  for (int i = 0; i < n; ++i) {
    second(i, i) = 2;
    if (i > 0) second(i, i - 1) = second(i - 1, i) = -1;
  }
  problem.a = second * second;
  problem.a.diagonal().array() += 1e-9;
  problem.b = Eigen::VectorXd::NullaryExpr(n, [&](int i) { return std::sin(8.0 * i / n + seed); });
  for (int i = 0; i < n; ++i) {
    const double most = uniform(random) * n;
    problem.bounds.push_back(i % 5 == 1   ? InteriorPoint::Bounds{0, kUnbounded}
                             : i % 5 == 2 ? InteriorPoint::Bounds{-kUnbounded, 0.3 * most}
                                          : InteriorPoint::Bounds{-most, most});
  }
  return problem;
}

class InteriorPointCase : public testing::TestWithParam<int> {};

// With those at bounds put there and the rest solved for exactly, the conditions of Karush, Kuhn and Tucker hold.
TEST_P(InteriorPointCase, TellsWhichUnknownsAreAtTheirBounds) {
  const int n = GetParam();
  for (unsigned seed = 0; seed < 5; ++seed) {
    SCOPED_TRACE(seed);
    const Problem problem = chain(n, seed);
    const Found found = solve(problem);
    Eigen::MatrixXd a = problem.a;
    Eigen::VectorXd b = problem.b;
    int bound = 0;
    for (int i = 0; i < n; ++i) {
      if (found.sides[i] == InteriorPoint::Side::between) continue;
      a.row(i).setZero();
      a(i, i) = 1;
      b[i] = found.sides[i] == InteriorPoint::Side::low ? problem.bounds[i].low : problem.bounds[i].high;
      ++bound;
    }
    const Eigen::VectorXd p = a.partialPivLu().solve(b), lack = problem.b - problem.a * p;
    EXPECT_TRUE(n < 10 || bound > 0);
    for (int i = 0; i < n; ++i) {
      const auto [low, high] = problem.bounds[i];
      const double slack = 1e-6 * n;
      EXPECT_GE(p[i], low - slack) << i;
      EXPECT_LE(p[i], high + slack) << i;
      // Pressed against its bound.
      EXPECT_GE(static_cast<int>(found.sides[i]) * lack[i], -1e-6) << i;
    }
    EXPECT_LE((p - found.p).norm(), 1e-5 * (1 + p.norm()));
    // Hardly more for many: the gap closes by its own square in the end, and from far away by a part at a time.
    EXPECT_LE(found.steps, 45) << bound << " at bounds";
  }
}
INSTANTIATE_TEST_SUITE_P(Sizes, InteriorPointCase, testing::Values(1, 2, 10, 60, 300));

}  // namespace
}  // namespace calm
