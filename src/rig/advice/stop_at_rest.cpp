// SPDX-License-Identifier: GPL-3.0-or-later
// A joint that is beyond its stop at rest.
#include <fmt/format.h>

#include <algorithm>

#include "rig/advice/rules.h"
#include "rig/posing.h"

namespace calm::rig {

void findStopAtRest(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints)
    for (int k = 0; k < axesOf(j.type).all(); ++k) {
      const AxisDef& axis = j.axes[k];
      if (!axis.hasStops() || axis.isLocked()) continue;  // a lock elsewhere is a wish: a wheel that is steered
      const std::optional<double> at = restCoordinate(rig, j, k);
      const double slack = axisTurns(j.type, k) ? 1e-3 : 1e-4;
      if (!at || (*at >= axis.low - slack && *at <= axis.high + slack)) continue;
      const Id id = j.id;
      const double q = *at;
      found.push_back({"stop_at_rest",
                       fmt::format("{} is beyond its stop at rest", j.name),
                       fmt::format("its {} is {}, allowed {} to {}", axisWord(j.type, k), axisWords(j.type, k, q),
                                   axisWords(j.type, k, axis.low), axisWords(j.type, k, axis.high)),
                       {id},
                       "Move the stop to where it is",
                       [id, k, q](Rig& r) {
                         AxisDef& a = r.joint(id)->axes[k];
                         a.low = std::min(a.low, q), a.high = std::max(a.high, q);
                       }});
    }
}

}  // namespace calm::rig
