// SPDX-License-Identifier: GPL-3.0-or-later
// Two parts that lie in one another at rest and would be pushed apart at the start.
#include <fmt/format.h>

#include "rig/advice/rules.h"
#include "rig/edits.h"

namespace calm::rig {

void findOverlap(const Rig& rig, std::vector<Finding>& found) {
  for (const Overlap& o : overlapsOf(rig)) {
    if (o.joined) continue;
    const Part &a = *rig.part(o.a), &b = *rig.part(o.b);
    const bool moveB = b.role == Role::dynamic;
    const Id id = moveB ? o.b : o.a;
    const Vec3 by = (moveB ? 1.0 : -1.0) * (o.depth + 1e-4) * o.normal;
    found.push_back({"overlap",
                     fmt::format("{} and {} overlap", a.name, b.name),
                     fmt::format("by {} at rest", lengthWords(o.depth)),
                     {o.a, o.b},
                     fmt::format("Move {} out", rig.partName(id)),
                     [id, by](Rig& r) {
                       Pose pose = r.part(id)->pose;
                       pose.position += by;
                       place(r, {{id, pose}});
                     }});
  }
}

}  // namespace calm::rig
