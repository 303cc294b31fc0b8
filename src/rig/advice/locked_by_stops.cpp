// SPDX-License-Identifier: GPL-3.0-or-later
// An axis whose stops leave it no range, though its type would let it move.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findLockedByStops(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints)
    for (int k = 0; k < axesOf(j.type).all(); ++k) {
      if (!j.axes[k].isLocked() || j.type == JointType::sixAxis || isLockedByNature(j.type, k)) continue;
      if (j.type == JointType::distance || j.type == JointType::pulley) continue;  // a rod, a tight rope
      const Id id = j.id;
      found.push_back(
          {"locked_by_stops",
           fmt::format("{} cannot move", j.name),
           fmt::format("both stops of its {} are at {}", axisWord(j.type, k), axisWords(j.type, k, j.axes[k].low)),
           {id},
           "Take the stops away",
           [id, k](Rig& r) { r.joint(id)->axes[k].low = -kNoLimit, r.joint(id)->axes[k].high = kNoLimit; }});
    }
}

}  // namespace calm::rig
