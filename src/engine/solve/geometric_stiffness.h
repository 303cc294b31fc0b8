// SPDX-License-Identifier: GPL-3.0-or-later
// The inertia with which a body answers constraint impulses.
//
// Forces in tight joints turn with their parts. Under a tension f at arm r a link swings back with stiffness
// K = (f.r) I - sym(r f^T), and at high payload ratios far faster than a substep resolves. Taking the force at the
// substep's end instead (linearly implicit; Tournier, Nesme, Gilles and Faure, "Stable constrained dynamics",
// SIGGRAPH 2015) adds c h^2 K to the inertia: Newmark's method with beta = c, unconditionally stable from c = 1/4 on
// and second order.
#pragma once

#include <vector>

#include "engine/solve/body.h"

namespace calm {

// Newmark's beta: a quarter is the limit of stability; the rest is reserve for K being one substep old.
constexpr double kStiffnessShare = 0.4;
constexpr double kStiffnessShareInFallback = 0.7;

// A sum of (u . w) I - sym(u w^T): what it adds to K that forces w turn about arms u, or perpendicular directions about
// each other.
struct Stiffening {
  double own[3] = {}, across[3] = {};  // on the diagonal, and beside it in the row of each axis

  void add(const Vec3& u, const Vec3& w) {
    const double x = u[0] * w[0], y = u[1] * w[1], z = u[2] * w[2];
    own[0] += y + z, own[1] += z + x, own[2] += x + y;
    for (int i = 0, j = 1; i < 3; ++i, j = (j + 1) % 3) across[i] -= 0.5 * (u[i] * w[j] + u[j] * w[i]);
  }
  void addTo(Mat3& k) const {
    for (int i = 0, j = 1; i < 3; ++i, j = (j + 1) % 3) {
      k(i, i) += own[i];
      k(i, j) += across[i];
      k(j, i) += across[i];
    }
  }
};

// Sets body.response to the inverse of (inertia + share h^2 K), K without its negative part.
void updateResponse(Body& body, double h, double share);
// The same, to the bit, for all that are dynamic among these; eight at a time.
void updateResponses(std::vector<Body>& bodies, const std::vector<int>& ids, double h, double share);

}  // namespace calm
