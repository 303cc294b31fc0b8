// SPDX-License-Identifier: GPL-3.0-or-later
// Many unknowns within bounds at once: min p^T A p / 2 - b^T p for low <= p <= high, A symmetric positive definite, by
// a primal-dual interior-point method with predictor and corrector (Mehrotra, SIAM Journal on Optimization 2, 1992;
// for quadratic problems: Wright, Primal-Dual Interior-Point Methods, 1997). The number of its steps hardly depends on
// that of the unknowns, where methods that change the set of those at a bound one by one take at least one for each.
//
// Who has A solves with it; this is the side of the bounds. A step is
//   (A + diag barrier) d = lack                      -> predict(d)
//   (A + diag barrier) d = lack + centring           -> advance(d): p and its owner go on by step() d
// where lack = b - A p. Unknowns without bounds may take part in A alone; their lack is 0 after a full step.
#pragma once

#include <cmath>
#include <vector>

namespace calm {

class InteriorPoint {
 public:
  // Either bound may be infinite, not both, and low < high.
  struct Bounds {
    double low, high;
  };
  // Which bound an unknown ends up at: where the room to it goes to zero and not the pressure (El-Bakry, Tapia and
  // Zhang, SIAM Review 36, 1994).
  enum class Side : signed char { low = -1, between = 0, high = 1 };

  // `mobility` is the diagonal of A, or what is as large: it tells what is near a bound.
  InteriorPoint(const std::vector<Bounds>& bounds, const std::vector<double>& mobility);

  // Where the i-th begins, well inside, if p and lack are its present ones.
  double begin(int i, double p, double lack);
  // With all there.
  void start(const std::vector<double>& lacks);

  double barrier(int i) const;
  void predict(const std::vector<double>& change);
  double centring(int i) const;
  void advance(const std::vector<double>& change);
  double step() const { return step_; }
  bool isDone() const;
  Side sideOf(int i) const;
  // The rate with which the i-th is pressed against the bound that it ends up at.
  double pressureOf(int i) const;

 private:
  // One side of an unknown: the room to its bound, and the rate with which it is pressed against it.
  struct Wall {
    int unknown;
    double towards;  // 1: the room grows with p; -1
    double bound, room = 0, pressure = 0;
    double roomChange = 0, pressureChange = 0;  // by the step that is foreseen
    bool closes = false;                        // the room shrank by more than the pressure in the last step
    bool isThere() const { return std::isfinite(bound); }
  };
  // This share of the way to where the first wall is met, up to a whole step.
  double largestStep(double share) const;
  // Room times pressure after that part of a step, as a mean.
  double gapAfter(double step) const;

  std::vector<double> mobility_;
  std::vector<Wall> walls_;  // low and high of each unknown
  double firstGap_ = 0, gap_ = 0;
  double aim_ = 0;  // gap of the step's end
  double step_ = 0, missed_ = 1;
};

}  // namespace calm
