// SPDX-License-Identifier: GPL-3.0-or-later
// A motor with a speed and no strength does nothing.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findMotorWithoutStrength(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints)
    for (int k = 0; k < axesOf(j.type).all(); ++k) {
      if (j.axes[k].speed == 0 || j.axes[k].cap > 0 || j.type == JointType::winch) continue;
      const Id id = j.id;
      // Where others carry the weight, too, or nothing weighs: that of what it moves on earth.
      double weight = weightOn(rig, j);
      for (const Id side : {j.a.part, j.b.part})
        if (const Part* part = rig.part(side); weight == 0 && part && part->role == Role::dynamic)
          weight = 9.81 * part->mass();
      const double cap = weight * (axisTurns(j.type, k) ? 0.5 : 2);
      found.push_back({"motor_without_strength",
                       fmt::format("the motor of {} has no strength", j.name),
                       fmt::format("speed {:.3g}, strength 0", j.axes[k].speed),
                       {id},
                       fmt::format("Give it {:.3g} {}", cap, axisTurns(j.type, k) ? "N m" : "N"),
                       [id, k, cap](Rig& r) { r.joint(id)->axes[k].cap = cap; }});
    }
}

}  // namespace calm::rig
