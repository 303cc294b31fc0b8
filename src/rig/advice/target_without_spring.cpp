// SPDX-License-Identifier: GPL-3.0-or-later
// A target that nothing pulls towards.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findTargetWithoutSpring(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints)
    for (int k = 0; k < axesOf(j.type).all(); ++k) {
      const AxisDef& axis = j.axes[k];
      if (axis.target == 0 || axis.hasSpring() || axis.frequency > 0) continue;
      const Id id = j.id;
      found.push_back(
          {"target_without_spring",
           fmt::format("nothing pulls {} to its target", j.name),
           fmt::format("target {}, no stiffness", axisWords(j.type, k, axis.target)),
           {id},
           "Give it a spring of 2 Hz that swings little",
           [id, k](Rig& r) { r.joint(id)->axes[k].frequency = 2, r.joint(id)->axes[k].dampingRatio = 0.7; }});
    }
}

}  // namespace calm::rig
