// SPDX-License-Identifier: GPL-3.0-or-later
// Undo and redo. A rig is a value; every edit makes the next one, under a name that the user reads.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "rig/model.h"

namespace calm::rig {

using RigPtr = std::shared_ptr<const Rig>;

class History {
 public:
  explicit History(Rig rig = {});

  const Rig& now() const { return *states_[at_].rig; }
  RigPtr snapshot() const { return states_[at_].rig; }

  // Applies the edit to a copy and makes it the present; what could be redone is dropped. If the edit throws, nothing
  // has changed. Edits in a row with the same non-empty `merge` (one drag) count as one.
  void apply(const std::string& name, const std::function<void(Rig&)>& edit, const std::string& merge = {});

  bool canUndo() const { return at_ > 0; }
  bool canRedo() const { return at_ + 1 < states_.size(); }
  std::string undoName() const { return canUndo() ? states_[at_].name : std::string(); }
  std::string redoName() const { return canRedo() ? states_[at_ + 1].name : std::string(); }
  void undo();
  void redo();

  // Whether the present differs from what was last saved or opened.
  bool unsaved() const { return states_[at_].rig != saved_; }
  void markSaved() { saved_ = states_[at_].rig; }

 private:
  struct State {
    RigPtr rig;
    std::string name;
  };
  std::vector<State> states_;
  std::size_t at_ = 0;
  std::string merge_;
  RigPtr saved_;
};

}  // namespace calm::rig
