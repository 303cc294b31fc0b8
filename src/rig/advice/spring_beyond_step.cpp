// SPDX-License-Identifier: GPL-3.0-or-later
// A spring that swings faster than the steps can follow.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "rig/advice/rules.h"

namespace calm::rig {

void findSpringBeyondStep(const Rig& rig, std::vector<Finding>& found) {
  const double step = 1 / (rig.stage.frameRate * rig.stage.substeps);
  for (const Joint& j : rig.joints)
    for (int k = 0; k < axesOf(j.type).all(); ++k) {
      const AxisDef& axis = j.axes[k];
      double frequency = axis.frequency;
      if (axis.stiffness > 0 && !axisTurns(j.type, k)) {
        double lightest = 1e300;
        for (const Id id : {j.a.part, j.b.part})
          if (const Part* p = rig.part(id); p && p->role == Role::dynamic) lightest = std::min(lightest, p->mass());
        frequency = std::sqrt(axis.stiffness / lightest) / (2 * std::numbers::pi);
      }
      const double fastest = 1 / (6 * step);
      if (frequency <= fastest) continue;
      const int substeps = static_cast<int>(std::ceil(6 * frequency / rig.stage.frameRate));
      Finding f{"spring_beyond_step",
                fmt::format("{} swings faster than the steps follow", j.name),
                fmt::format("{:.3g} Hz; {:.3g} Hz can be followed with these steps, faster ones settle unseen",
                            frequency, fastest),
                {j.id},
                fmt::format("Take {} substeps", substeps),
                [substeps](Rig& r) { r.stage.substeps = substeps; }};
      if (substeps <= 200) found.push_back(f);
    }
}

}  // namespace calm::rig
