// SPDX-License-Identifier: GPL-3.0-or-later
// What is wrong with a rig, or will be when it runs: each with its evidence and what would mend it. One file a rule.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "rig/model.h"

namespace calm::rig {

struct Finding {
  std::string rule;      // the file's name
  std::string text;      // what is wrong, one sentence without its full stop
  std::string evidence;  // the figures
  std::vector<Id> on;    // what to look at
  std::string remedy;    // what mend() does, as a command
  std::function<void(Rig&)> mend;
};

// Of all rules, in their order. Linear in parts and joints, but for overlaps, which take a search.
std::vector<Finding> adviceFor(const Rig& rig);

}  // namespace calm::rig
