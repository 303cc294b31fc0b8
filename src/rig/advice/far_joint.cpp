// SPDX-License-Identifier: GPL-3.0-or-later
// A joint whose pivot lies far outside one of its parts.
#include <fmt/format.h>

#include "rig/advice/rules.h"
#include "rig/edits.h"

namespace calm::rig {

void findFarJoint(const Rig& rig, std::vector<Finding>& found) {
  for (const Joint& j : rig.joints) {
    if (!joinsAtAPoint(j.type)) continue;
    const Vec3 at = restPivot(rig, j);
    for (const Side* side : {&j.a, &j.b}) {
      const Part* part = rig.part(side->part);
      if (!part || std::holds_alternative<HalfSpace>(part->shape)) continue;
      const Aabb box = boundsOf(part->shape, part->pose);
      const double size = (box.high - box.low).norm();
      const double away = (at - at.cwiseMax(box.low).cwiseMin(box.high)).norm();
      if (away < 2 * size + 0.05) continue;
      const Id id = j.id;
      found.push_back({"far_joint",
                       fmt::format("{} is far from {}", j.name, part->name),
                       fmt::format("{} away from a part of {}", lengthWords(away), lengthWords(size)),
                       {id, part->id},
                       "Put it where the two most likely meet",
                       [id](Rig& r) {
                         Joint& joint = *r.joint(id);
                         const Vec3 to = likelyPivot(r, joint.a.part, joint.b.part);
                         for (Side* s : {&joint.a, &joint.b}) {
                           const Mat3 axes = restFrame(r, *s).rotation.toRotationMatrix();
                           *s = sideAt(r, s->part, to, axes.col(0), axes.col(1));
                         }
                       }});
      break;
    }
  }
}

}  // namespace calm::rig
