// SPDX-License-Identifier: GPL-3.0-or-later
// A joint whose two sides are not in the same place at rest: it would pull its parts together at the start.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findMisfit(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints) {
    if (!joinsAtAPoint(j.type)) continue;
    const double gap = (restFrame(rig, j.a).position - restFrame(rig, j.b).position).norm();
    if (gap < 1e-4) continue;
    const Id id = j.id;
    found.push_back({"misfit",
                     fmt::format("the two sides of {} are apart", j.name),
                     fmt::format("{} at rest", lengthWords(gap)),
                     {id},
                     "Put both sides where the first one is",
                     [id](Rig& r) {
                       Joint& joint = *r.joint(id);
                       const Vec3 at = restFrame(r, joint.a).position;
                       const Mat3 axes = restFrame(r, joint.b).rotation.toRotationMatrix();
                       joint.b = sideAt(r, joint.b.part, at, axes.col(0), axes.col(1));
                     }});
  }
}

}  // namespace calm::rig
