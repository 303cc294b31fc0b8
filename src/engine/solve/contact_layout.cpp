// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_layout.h"

#include <algorithm>

namespace calm {

namespace {

// Sets of contacts up to so many patches are swept in their own order: that of a stack from below loses least where
// sweeps end before they have converged.
constexpr int kSmallSet = 32;

}  // namespace

void ContactLayout::lay(const Touches& touches, const std::vector<Body>& bodies, bool apart) {
  batches.clear();
  ranges.clear();
  if (!apart) {
    const int patches = static_cast<int>(touches.patches.size()), places = static_cast<int>(touches.bodies.size());
    return addLarge({0, patches, 0, places}, touches, bodies);
  }
  std::vector<ContactSet> small;
  for (const ContactSet& set : touches.sets) {
    if (set.size() > kSmallSet)
      addLarge(set, touches, bodies);
    else
      small.push_back(set);
  }
  // Such as need equally many batches go together.
  std::stable_sort(small.begin(), small.end(),
                   [](const ContactSet& x, const ContactSet& y) { return x.size() > y.size(); });
  const int count = static_cast<int>(small.size());
  for (int i = 0; i < count; i += kLanes) addSmall(&small[i], std::min(kLanes, count - i), touches.order);
}

// Each batch takes what shares no moving body with the rest of it, from the next few patches.
void ContactLayout::addLarge(const ContactSet& set, const Touches& touches, const std::vector<Body>& bodies) {
  constexpr std::size_t kFar = 24;  // patches that are looked at
  const auto shares = [&](const ContactPatch& x, const ContactPatch& y) {
    const auto holds = [&](int body) { return bodies[body].dynamic() && (body == y.a || body == y.b); };
    return holds(x.a) || holds(x.b);
  };
  Range range;
  range.firstBatch = static_cast<int>(batches.size());
  range.set[0] = set;
  std::vector<int> waiting;
  int next = set.firstPatch;
  for (;;) {
    while (next < set.endPatch && waiting.size() < kFar) waiting.push_back(touches.order[next++]);
    if (waiting.empty()) break;
    PerLane chosen;
    chosen.fill(-1);
    int lanes = 0;
    std::size_t kept = 0;
    for (const int candidate : waiting) {
      const auto clashes = [&](int other) { return shares(touches.patches[candidate], touches.patches[other]); };
      if (lanes < kLanes && std::none_of(chosen.begin(), chosen.begin() + lanes, clashes))
        chosen[lanes++] = candidate;
      else
        waiting[kept++] = candidate;
    }
    waiting.resize(kept);
    batches.push_back(chosen);
  }
  range.endBatch = static_cast<int>(batches.size());
  ranges.push_back(range);
}

void ContactLayout::addSmall(const ContactSet* sets, int count, const std::vector<int>& order) {
  Range range;
  range.firstBatch = static_cast<int>(batches.size());
  range.sets = count;
  std::copy_n(sets, count, range.set.begin());
  for (int k = 0; k < sets[0].size(); ++k) {  // the largest
    PerLane patches;
    patches.fill(-1);
    for (int l = 0; l < count; ++l)
      if (k < sets[l].size()) patches[l] = order[sets[l].firstPatch + k];
    batches.push_back(patches);
  }
  range.endBatch = static_cast<int>(batches.size());
  ranges.push_back(range);
}

}  // namespace calm
