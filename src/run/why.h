// SPDX-License-Identifier: GPL-3.0-or-later
// Why a joint went through what it did, with figures from the run; and what would help, tried before it is told.
#pragma once

#include <atomic>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "run/sweep.h"

namespace calm::run {

struct Remedy {
  std::string name;                      // "Damp the chain by 8 1/s"
  std::function<void(rig::Rig&)> apply;  // never touches gravity
  // The trouble's measure of a run with it; NaN until it was tried, or if it could not be.
  double after = std::nan("");
  std::string price = {};  // what another joint carries more for it; empty if none does
  std::string fault = {};
};

struct Cause {
  std::string text;      // one sentence without its full stop
  std::string evidence;  // the figures
  double weight = 0;     // for the order: 1 is what one would look at first
  std::vector<rig::Id> on;
  std::vector<Remedy> remedies;
};

// What is asked about: a joint, and the number that is to become smaller.
struct Trouble {
  rig::Id joint = rig::kNone;
  Outcome measure;
  double before = 0;  // in the run
  double at = 0;      // s, when it was worst
};
// A joint's load if it has a strength or parted, its separation if that is over a hundredth of a millimetre, otherwise
// its load all the same.
Trouble troubleOf(const Recording& recording, rig::Id joint);

// What in the run explains it, weightiest first. Each with remedies that have yet to be tried.
std::vector<Cause> causesOf(const Recording& recording, const Trouble& trouble);

// Runs the rig once with each remedy alone and notes the measure. Those that do not make it smaller by a hundredth are
// taken out, the others ordered by gain, those that have a price last; causes stay. `onTried` is told how many are done
// of how many.
void tryRemedies(const Recording& recording, const Trouble& trouble, std::vector<Cause>& causes,
                 const std::atomic<bool>* stop = nullptr,
                 const std::function<void(std::size_t, std::size_t)>& onTried = {});

// By how much, as a share of what it was.
double gainOf(const Remedy& remedy, const Trouble& trouble);

}  // namespace calm::run
