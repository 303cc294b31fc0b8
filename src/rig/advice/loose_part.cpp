// SPDX-License-Identifier: GPL-3.0-or-later
// A part that moves and that no joint holds, beside others that are held.
#include <fmt/format.h>

#include <set>

#include "rig/advice/rules.h"
#include "rig/edits.h"

namespace calm::rig {

void findLoosePart(const Rig& rig, std::vector<Finding>& found) {
  std::set<Id> held;
  for (const Joint& j : rig.joints)
    for (const Id id : j.parts()) held.insert(id);
  for (const Part& p : rig.parts) {
    if (p.role != Role::dynamic || held.count(p.id) || rig.joints.empty()) continue;
    const Part* nearest = nullptr;
    for (const Part& q : rig.parts)
      if (q.id != p.id &&
          (!nearest || (q.pose.position - p.pose.position).norm() < (nearest->pose.position - p.pose.position).norm()))
        nearest = &q;
    if (!nearest) continue;
    const Id id = p.id, to = nearest->id;
    found.push_back(
        {"loose_part",
         fmt::format("{} is tied to nothing", p.name),
         "no joint names it",
         {id},
         fmt::format("Fix it to {}", nearest->name),
         [id, to](Rig& r) { addJoint(r, JointType::fixed, to, id, likelyPivot(r, to, id), likelyAxis(r, to, id)); }});
  }
}

}  // namespace calm::rig
