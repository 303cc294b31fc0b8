// SPDX-License-Identifier: GPL-3.0-or-later
// The Line kit: a chain or rope of equal links between two points or parts, from a few choices.
#pragma once

#include "rig/model.h"

namespace calm::rig {

struct LineEnd {
  Vec3 point = Vec3::Zero();  // m, world, at rest
  Id part = kNone;            // what it is tied to; kNone with `tied`: the world
  bool tied = true;           // false: the end hangs free
};

struct LineChoices : Line {
  std::string name = "line";
  LineEnd from, to;
};

// What keeps the line from being made, as the end of a sentence; empty if nothing does.
std::string faultOf(const LineChoices& choices);

// The links+1 corners of the line at rest: equal links in equilibrium under their own weight (the discrete catenary; a
// straight line where there is no slack). `gravity` gives the way down.
std::vector<Vec3> lineCorners(const LineChoices& choices, const Vec3& gravity);

// Adds links (capsules) and ball joints; returns the group's id. The links get a little damping, so that a line left
// alone falls quiet. Throws std::invalid_argument with faultOf's words.
Id makeLine(Rig& rig, const LineChoices& choices);

// The choices as the rig has them now: where its ends are is read from its first and last link.
LineChoices choicesOf(const Rig& rig, Id line);

// Makes the line anew after other choices, tied to what it was tied to; see remake(). Shapes and places of links are
// the kit's, for its ends may have moved. Throws std::invalid_argument with faultOf's words.
void remakeLine(Rig& rig, Id line, const LineChoices& choices);

}  // namespace calm::rig
