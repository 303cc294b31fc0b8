// SPDX-License-Identifier: GPL-3.0-or-later
// The order of the Ledger: what hangs on what, from what the world holds down to the last joint. No widgets here.
#pragma once

#include <set>
#include <vector>

#include "rig/model.h"

namespace calm::app {

struct LedgerRow {
  // What is not tied to anything held: `free` starts an assembly, `loose` has no joint at all.
  enum class Kind { held, free, loose, joint, group };
  Kind kind = Kind::joint;
  rig::Id id = rig::kNone;          // part, joint or group; kNone with `held`: the world
  int parent = -1;                  // the row it hangs on
  int column = 0;                   // of the rail
  int rejoins = -1;                 // the row with whose part it closes a loop
  bool member = false;              // a joint of the unfolded group above it
  std::vector<std::size_t> joints;  // indices into rig.joints that the row stands for
};

// The rows in rail order. Groups take one row each unless `unfolded`. A joint goes on in its parent's column; where
// a part has several joints, each takes the next column.
std::vector<LedgerRow> ledgerRows(const rig::Rig& rig, const std::set<rig::Id>& unfolded);

}  // namespace calm::app
