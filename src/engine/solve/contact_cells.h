// SPDX-License-Identifier: GPL-3.0-or-later
// Cells of a face that slides and turns at once, or is about to: its friction goes another way at each place.
#pragma once

#include <vector>

#include "engine/solve/contact_pair.h"

namespace calm {

constexpr int kMostCells = 16;  // of a face

struct ContactCell {
  ManifoldPoint middle;
  double softer = 1;          // than their mean, as it is smaller
  Vec3 force = Vec3::Zero();  // of the last step, as a ContactImpulse has it
};

// Of the face on which two bodies lie on each other, what one of their pairs of shapes has.
struct FacePart {
  const ContactPair* pair;
  std::vector<Vec3> outline{};  // corners in their order around, world
  std::vector<ContactCell> cells{};
};

// Whether friction on a face by the forces of the last step was neither all one way nor all around, and much of what it
// can be: then few points far out have not the friction of the face between them.
bool pullsBothWays(const std::vector<FacePart>& parts);
// Spreads cells over the face, the same ones as it turns with some axes; each goes to the part on which it lies. False
// if the parts have no outline.
bool divideIntoCells(std::vector<FacePart>& parts, const Mat3& axes);

}  // namespace calm
