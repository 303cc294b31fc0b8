// SPDX-License-Identifier: GPL-3.0-or-later
// Parts numbered in a row, most of them joined to the next, and two that are not.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "rig/advice/rules.h"
#include "rig/edits.h"

namespace calm::rig {

void findMissingLink(const Rig& rig, std::vector<Finding>& found) {
  std::map<std::string, std::map<int, Id>> rows;
  for (const Part& p : rig.parts) {
    const std::size_t end = p.name.find_last_not_of("0123456789");
    if (end == std::string::npos || end + 1 >= p.name.size() || p.name.size() - end > 8) continue;
    rows[p.name.substr(0, end + 1)][std::stoi(p.name.substr(end + 1))] = p.id;
  }
  std::map<std::pair<Id, Id>, const Joint*> joints;
  for (const Joint& j : rig.joints) joints[std::minmax(j.a.part, j.b.part)] = &j;
  for (const auto& [base, row] : rows) {
    std::vector<std::pair<Id, Id>> open;
    const Joint* example = nullptr;
    int closed = 0;
    for (const auto& [number, id] : row) {
      const auto next = row.find(number + 1);
      if (next == row.end()) continue;
      const auto joint = joints.find(std::minmax(id, next->second));
      if (joint == joints.end())
        open.emplace_back(id, next->second);
      else
        ++closed, example = joint->second;
    }
    if (closed < 2 || closed < 4 * static_cast<int>(open.size())) continue;
    for (const auto& [a, b] : open) {
      const JointType type = example->type;
      found.push_back(
          {"missing_link",
           fmt::format("{} and {} are not joined", rig.partName(a), rig.partName(b)),
           fmt::format("{} of their row are joined to the next", closed),
           {a, b},
           fmt::format("Join them by a {}", word(type)),
           [a = a, b = b, type](Rig& r) { addJoint(r, type, a, b, likelyPivot(r, a, b), likelyAxis(r, a, b)); }});
    }
  }
}

}  // namespace calm::rig
