// SPDX-License-Identifier: GPL-3.0-or-later
// Travel without stops that gravity runs along: the part slides off.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "rig/advice/rules.h"

namespace calm::rig {

void findFallsAway(const Rig& rig, std::vector<Finding>& found) {
  if (rig.stage.gravity.norm() == 0) return;
  for (const Joint& j : rig.joints) {
    if (j.type != JointType::slider && j.type != JointType::cylinder) continue;
    const AxisDef& axis = j.axes[0];
    if (axis.hasStops() || axis.hasDrive() || axis.hasSpring() || axis.frequency > 0) continue;
    if (weightOn(rig, j) == 0) continue;  // something else holds it, too
    const Vec3 line = restFrame(rig, j.a).rotation * Vec3::UnitX();
    const double slope = std::abs(line.dot(rig.stage.gravity.normalized()));
    if (slope < 0.1) continue;
    const Id id = j.id;
    found.push_back({"falls_away",
                     fmt::format("nothing stops {} on its way down", j.name),
                     fmt::format("its travel is {:.0f} deg off the level and has no stops",
                                 std::asin(slope) * 180 / std::numbers::pi),
                     {id},
                     "Let it travel a metre either way",
                     [id](Rig& r) { r.joint(id)->axes[0].low = -1, r.joint(id)->axes[0].high = 1; }});
  }
}

}  // namespace calm::rig
