// SPDX-License-Identifier: GPL-3.0-or-later
// A part of a size or density that suggests a slip of units.
#include <fmt/format.h>

#include "rig/advice/rules.h"

namespace calm::rig {

void findOddSize(const Rig& rig, std::vector<Finding>& found) {
  for (const Part& p : rig.parts) {
    const Aabb box = boundsOf(p.shape, p.pose);
    const double size = (box.high - box.low).maxCoeff();
    const Id id = p.id;
    if (size < 1e-3 || (size > 1e3 && size < 1e100))
      found.push_back(
          {"odd_size",
           fmt::format("{} is {}", p.name, size < 1 ? "tiny" : "huge"),
           fmt::format("{} long", lengthWords(size)),
           {id},
           size < 1 ? "Make it a thousand times larger" : "Make it a thousand times smaller",
           [id, by = size < 1 ? 1e3 : 1e-3](Rig& r) { r.part(id)->shape = scaled(r.part(id)->shape, by); }});
    if (p.role != Role::dynamic) continue;
    const double density = p.mass() / volumeOf(p.shape);
    if (density >= 5 && density <= 25000) continue;
    found.push_back({"odd_density",
                     fmt::format("{} is {} for its size", p.name, density < 5 ? "very light" : "very heavy"),
                     fmt::format("{:.3g} kg/m^3; water has 1,000, steel 7,850", density),
                     {id},
                     "Give it the density of water",
                     [id](Rig& r) {
                       r.part(id)->heft = Density{1000};
                       r.part(id)->inertia.reset();
                     }});
  }
}

}  // namespace calm::rig
