// SPDX-License-Identifier: GPL-3.0-or-later
// Two joints of one type between the same two parts at the same place.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <tuple>

#include "rig/advice/rules.h"
#include "rig/edits.h"

namespace calm::rig {

void findDoubledPair(const Rig& rig, std::vector<Finding>& found) {
  std::map<std::tuple<Id, Id, JointType>, std::vector<const Joint*>> pairs;
  for (const Joint& j : rig.joints) {
    const auto [a, b] = std::minmax(j.a.part, j.b.part);
    auto& others = pairs[{a, b, j.type}];
    const Vec3 at = restPivot(rig, j);
    for (const Joint* other : others) {
      if ((restPivot(rig, *other) - at).norm() > 1e-3) continue;
      const Id id = j.id;
      found.push_back({"doubled_pair",
                       fmt::format("{} doubles {}", j.name, other->name),
                       fmt::format("both join {} and {} at the same point", rig.partName(a), rig.partName(b)),
                       {id, other->id},
                       fmt::format("Remove {}", j.name),
                       [id](Rig& r) { remove(r, {id}); }});
      break;
    }
    others.push_back(&j);
  }
}

}  // namespace calm::rig
