// SPDX-License-Identifier: GPL-3.0-or-later
// How the rows of one node see a motion; only for the assembly's own files.
#pragma once

#include "engine/solve/assembly.h"

namespace calm {

// J v of the node's rows in the system, from the velocity and spin of one side's body.
class Assembly::Rates {
 public:
  Rates(const Assembly& a, const Node& n, int side)
      : assembly_(a), node_(n), side_(side), pivot_(n.used > 0 ? n.pivot : 0), sign_(side == 0 ? -1 : 1) {
    if (pivot_ == 0) return;
    const double* arm = &a.rows_[n.memory + n.rows + 3 * side];  // after the errors
    for (int k = 0; k < 3; ++k) arm_[k] = sign_ * arm[k];
  }
  // Adds them to `rates`.
  [[gnu::always_inline]] void add(const double* v, const double* w, double* rates) const {
    if (pivot_ > 0) {
      rates[0] += sign_ * v[0] + (w[1] * arm_[2] - w[2] * arm_[1]);
      rates[1] += sign_ * v[1] + (w[2] * arm_[0] - w[0] * arm_[2]);
      rates[2] += sign_ * v[2] + (w[0] * arm_[1] - w[1] * arm_[0]);
    }
    if (node_.used > pivot_) addOthers(v, w, rates);
  }
  // For each of a pivot's rows the rates that its response to a unit impulse gives it and those before it.
  void addOwn(const SideRows& response, double* block) const {
    for (int i = 0; i < 3; ++i) {
      const double *w = response[i], *s = w + 3;
      const double turned[] = {s[1] * arm_[2] - s[2] * arm_[1], s[2] * arm_[0] - s[0] * arm_[2],
                               s[0] * arm_[1] - s[1] * arm_[0]};
      for (int c = 0; c <= i; ++c) block[i * node_.used + c] += turned[c];
      block[i * (node_.used + 1)] += sign_ * w[i];
    }
  }

 private:
  void addOthers(const double* v, const double* w, double* rates) const {
    const SideRows rows = assembly_.jacobianOf(node_, side_);
    const PairRow<3> motion{loadPair(v), Pair{v[2], w[0]}, loadPair(w + 1)};
    for (int i = pivot_; i < node_.used; ++i) rates[i] += dot(motion, rows[assembly_.usedRow(node_, i)]);
  }

  const Assembly& assembly_;
  const Node& node_;
  int side_, pivot_;
  double sign_, arm_[3];
};

}  // namespace calm
