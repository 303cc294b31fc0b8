// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/history.h"

namespace calm::rig {

namespace {
constexpr std::size_t kMostSteps = 300;
}

History::History(Rig rig) {
  states_.push_back({std::make_shared<const Rig>(std::move(rig)), {}});
  saved_ = states_[0].rig;
}

void History::apply(const std::string& name, const std::function<void(Rig&)>& edit, const std::string& merge) {
  Rig next = now();
  edit(next);
  states_.resize(at_ + 1);
  const RigPtr state = std::make_shared<const Rig>(std::move(next));
  if (!merge.empty() && merge == merge_ && at_ > 0) {
    states_[at_] = {state, name};
  } else {
    states_.push_back({state, name});
    if (states_.size() > kMostSteps) states_.erase(states_.begin());
    at_ = states_.size() - 1;
  }
  merge_ = merge;
}

void History::undo() {
  if (canUndo()) --at_;
  merge_.clear();
}

void History::redo() {
  if (canRedo()) ++at_;
  merge_.clear();
}

}  // namespace calm::rig
