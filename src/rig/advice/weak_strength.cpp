// SPDX-License-Identifier: GPL-3.0-or-later
// A break strength below the weight that hangs on the joint from the start.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findWeakStrength(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints) {
    if (!j.breakForce) continue;
    const double weight = weightOn(rig, j);
    if (*j.breakForce >= weight) continue;
    const Id id = j.id;
    found.push_back({"weak_strength",
                     fmt::format("{} parts under the weight that hangs on it", j.name),
                     fmt::format("strength {}, weight {}", forceWords(*j.breakForce), forceWords(weight)),
                     {id},
                     fmt::format("Make it {}", forceWords(3 * weight)),
                     [id, weight](Rig& r) { r.joint(id)->breakForce = 3 * weight; }});
  }
}

}  // namespace calm::rig
