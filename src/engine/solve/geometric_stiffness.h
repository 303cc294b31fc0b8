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

// Adds to K what a force f at the arm r makes of it (both world).
void addStiffness(const Vec3& arm, const Vec3& force, Mat3& stiffness);

// Sets body.response to the inverse of (inertia + share h^2 K), K without its negative part.
void updateResponse(Body& body, double h, double share);
// The same, to the bit, for all that are dynamic among these; eight at a time.
void updateResponses(std::vector<Body>& bodies, const std::vector<int>& ids, double h, double share);

}  // namespace calm
