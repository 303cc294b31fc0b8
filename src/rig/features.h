// SPDX-License-Identifier: GPL-3.0-or-later
// Places on parts that a hand aims at: what pivots snap to and what is measured between.
#pragma once

#include <string>
#include <vector>

#include "rig/model.h"

namespace calm::rig {

struct Feature {
  Vec3 at = Vec3::Zero();  // m, world, at rest
  std::string word;        // "centre", "end", "face", "edge", "corner", "touch", "gap"
};

// Of one part: its centre; the middles of its faces and edges, and its corners; the ends of round things.
std::vector<Feature> featuresOf(const Part& part);

// Between two parts: where they touch, or the points that are nearest to each other and the middle of the gap.
std::vector<Feature> featuresBetween(const Part& a, const Part& b);

// Puts both sides of a joint at this place of the world at rest, axes as they were.
void movePivot(Rig& rig, Id joint, const Vec3& at);
// Turns both sides of a joint so that the axis lies along this direction of the world (it need not be unit), by the
// shortest turn. Throws std::invalid_argument for a direction without length.
void turnAxis(Rig& rig, Id joint, const Vec3& axis);

}  // namespace calm::rig
