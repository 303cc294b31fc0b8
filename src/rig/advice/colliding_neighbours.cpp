// SPDX-License-Identifier: GPL-3.0-or-later
// Joined parts that touch each other by choice, and overlap at rest: joint and contact would fight.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findCollidingNeighbours(const Rig& rig, std::vector<Finding>& found) {
  for (const Overlap& o : overlapsOf(rig)) {
    if (!o.joined) continue;
    const Id id = o.joined;
    found.push_back(
        {"colliding_neighbours",
         fmt::format("{} and {} are joined and push each other apart", rig.partName(o.a), rig.partName(o.b)),
         fmt::format("they overlap by {} at rest, and their joint lets neighbours collide", lengthWords(o.depth)),
         {id, o.a, o.b},
         "Let these neighbours pass each other",
         [id](Rig& r) { r.joint(id)->neighboursCollide = false; }});
  }
}

}  // namespace calm::rig
