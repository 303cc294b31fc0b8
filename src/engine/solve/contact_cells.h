// SPDX-License-Identifier: GPL-3.0-or-later
// Cells of a face that slides and turns at once, or is about to: its friction goes another way at each place.
#pragma once

#include <vector>

#include "engine/solve/contact_pair.h"

namespace calm {

constexpr int kMostCells = 16;  // of a face

struct ContactCell {
  ManifoldPoint middle;
  double softer = 1;  // than their mean, as it is smaller
};

// Whether friction by the forces of the last step was neither all one way nor all around, and much of what it can be:
// then few points far out have not the friction of the face between them.
bool pullsBothWays(const ContactPair& pair);
// Adds the cells of the face or disc between those points of a manifold, given in `points`, that touch together;
// they carry nearly all. Sets `twist` to the share of their distances from the middle that friction has against
// twisting, beyond the whole. False if the manifold is none of these.
bool addCells(const Manifold& manifold, std::vector<ContactCell>& points, double& twist);

}  // namespace calm
