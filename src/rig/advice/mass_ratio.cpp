// SPDX-License-Identifier: GPL-3.0-or-later
// Joined parts so unlike in mass that double precision runs out.
#include <fmt/format.h>

#include <algorithm>

#include "rig/advice/rules.h"

namespace calm::rig {

void findMassRatio(const Rig& rig, std::vector<Finding>& found) {
  constexpr double kMost = 1e6;
  for (const Joint& j : rig.joints) {
    const Part *a = rig.part(j.a.part), *b = rig.part(j.b.part);
    if (!a || !b || a->role != Role::dynamic || b->role != Role::dynamic) continue;
    const double ratio = std::max(a->mass(), b->mass()) / std::min(a->mass(), b->mass());
    if (ratio <= kMost) continue;
    const Part& light = a->mass() < b->mass() ? *a : *b;
    const Id id = light.id;
    const double mass = std::max(a->mass(), b->mass()) / kMost;
    found.push_back({"mass_ratio",
                     fmt::format("{} and {} are too unlike in mass", a->name, b->name),
                     fmt::format("{:.3g} to 1; joints are exact up to {:.0g} to 1", ratio, kMost),
                     {j.id, id},
                     fmt::format("Give {} {:.3g} kg", light.name, mass),
                     [id, mass](Rig& r) {
                       r.part(id)->heft = Mass{mass};
                       r.part(id)->inertia.reset();
                     }});
  }
}

}  // namespace calm::rig
