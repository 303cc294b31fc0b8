// SPDX-License-Identifier: GPL-3.0-or-later
// A part on a layer that touches no other: it cannot be touched.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "rig/advice/rules.h"

namespace calm::rig {

void findMaskedLayer(const Rig& rig, std::vector<Finding>& found) {
  std::set<std::string> layers;
  for (const Part& p : rig.parts) layers.insert(p.layer);
  if (rig.stage.groundHeight) layers.insert(rig.stage.groundLayer);
  std::map<std::string, std::set<std::string>> apart;
  for (const auto& [a, b] : rig.stage.layersApart) apart[a].insert(b), apart[b].insert(a);
  for (const Part& p : rig.parts) {
    const auto& off = apart[p.layer];
    const bool alone =
        std::all_of(layers.begin(), layers.end(), [&](const std::string& l) { return off.count(l) > 0; });
    if (!p.collides || !alone) continue;
    const Id id = p.id;
    found.push_back({"masked_layer",
                     fmt::format("nothing can touch {}", p.name),
                     fmt::format("its layer \"{}\" is kept apart from every other", p.layer),
                     {id},
                     "Put it on the common layer",
                     [id](Rig& r) { r.part(id)->layer.clear(); }});
  }
}

}  // namespace calm::rig
