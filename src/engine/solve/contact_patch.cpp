// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_patch.h"

#include "engine/math/groups.h"

namespace calm {

void Touches::arrange(const std::vector<Body>& all) {
  // Of each body among those that are touched; -1: none, as all are again in the end. One for each thread: islands are
  // many, and each touches few bodies.
  thread_local std::vector<int> placeOf;
  if (placeOf.size() < all.size()) placeOf.resize(all.size(), -1);
  bodies.clear();
  const auto note = [&](int id) {
    if (placeOf[id] < 0) placeOf[id] = static_cast<int>(bodies.size()), bodies.push_back(id);
  };
  for (const ContactPatch& p : patches) note(p.a), note(p.b);
  Groups groups(bodies.size());
  for (const ContactPatch& p : patches)
    if (all[p.a].dynamic() && all[p.b].dynamic()) groups.join(placeOf[p.a], placeOf[p.b]);
  // Sets one after another, each in the order of the pairs.
  std::vector<int> setOfGroup(bodies.size(), -1), setOf;
  sets.clear();
  for (const ContactPatch& p : patches) {
    int& set = setOfGroup[groups.root(placeOf[all[p.a].dynamic() ? p.a : p.b])];
    if (set < 0) set = static_cast<int>(sets.size()), sets.push_back({});
    ++sets[set].endPatch;
    setOf.push_back(set);
  }
  for (const int id : bodies) placeOf[id] = -1;
  bodies.clear();
  int first = 0;
  for (ContactSet& set : sets) {
    set.firstPatch = first;
    first += set.endPatch;
    set.endPatch = set.firstPatch;
  }
  order.resize(patches.size());
  for (std::size_t i = 0; i < patches.size(); ++i) order[sets[setOf[i]].endPatch++] = static_cast<int>(i);
  for (ContactSet& set : sets) {
    set.firstPlace = static_cast<int>(bodies.size());
    for (int k = set.firstPatch; k < set.endPatch; ++k) {
      ContactPatch& p = patches[order[k]];
      note(p.a), note(p.b);
      p.placeA = placeOf[p.a], p.placeB = placeOf[p.b];
    }
    set.endPlace = static_cast<int>(bodies.size());
  }
  for (const int id : bodies) placeOf[id] = -1;
}

}  // namespace calm
