// SPDX-License-Identifier: GPL-3.0-or-later
// Which contacts are swept side by side: patches that share no moving part go abreast, one in each lane.
#pragma once

#include <array>
#include <vector>

#include "engine/math/lanes.h"
#include "engine/solve/contact_patch.h"

namespace calm {

struct ContactLayout {
  static constexpr int kLanes = Oct::kLanes;
  using PerLane = std::array<int, kLanes>;

  // Batches that are swept until they have converged: those of one large set, or of some small ones, each in its lane.
  struct Range {
    int firstBatch, endBatch;
    int sets = 1;
    std::array<ContactSet, kLanes> set;
  };

  std::vector<PerLane> batches;  // a patch in each lane, -1: none
  std::vector<Range> ranges;

  // `apart`: sets know nothing of each other; else all of them are one.
  void lay(const Touches& touches, const std::vector<Body>& bodies, bool apart);

 private:
  void addLarge(const ContactSet& set, const Touches& touches, const std::vector<Body>& bodies);
  void addSmall(const ContactSet* sets, int count, const std::vector<int>& order);
};

}  // namespace calm
