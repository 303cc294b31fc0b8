// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/ledger/rows.h"

#include <algorithm>
#include <map>

namespace calm::app {

namespace {

// Walks from what is held along the joints. A group counts as one thing that joints lead to.
class Walk {
 public:
  Walk(const rig::Rig& rig, const std::set<rig::Id>& unfolded) : rig_(rig), unfolded_(unfolded) {
    for (std::size_t j = 0; j < rig.joints.size(); ++j) {
      const rig::Joint& joint = rig.joints[j];
      if (joint.group != rig::kNone) groupJoints_[joint.group].push_back(j);
      for (rig::Id part : joint.parts()) at_[part].push_back(j);
    }
  }

  std::vector<LedgerRow> rows() {
    startFrom(rig::kNone, LedgerRow::Kind::held);
    for (const rig::Part& p : rig_.parts)
      if (p.role != Role::dynamic) startFrom(p.id, LedgerRow::Kind::held);
    for (const rig::Part& p : rig_.parts)
      if (p.role == Role::dynamic && !rowOf_.count(p.id))
        startFrom(p.id, at_.count(p.id) ? LedgerRow::Kind::free : LedgerRow::Kind::loose);
    return std::move(rows_);
  }

 private:
  struct Step {
    std::size_t joint;
    rig::Id from;
    int parent, column;
  };

  bool isHeld(rig::Id part) const { return part == rig::kNone || rig_.part(part)->role != Role::dynamic; }

  void startFrom(rig::Id part, LedgerRow::Kind kind) {
    const bool joined = std::any_of(at_[part].begin(), at_[part].end(), [&](std::size_t j) { return !done_.count(j); });
    if (kind == LedgerRow::Kind::held && !joined) return;
    rowOf_[part] = add({kind, part, -1, 0, -1, false, {}});
    std::vector<Step> open;
    follow(part, rowOf_[part], 1, open);
    while (!open.empty()) {
      const Step step = open.back();
      open.pop_back();
      if (done_.count(step.joint)) continue;
      const rig::Joint& joint = rig_.joints[step.joint];
      if (joint.group != rig::kNone)
        takeGroup(step, open);
      else
        takeJoint(step, open);
    }
  }

  void takeJoint(const Step& step, std::vector<Step>& open) {
    const rig::Joint& joint = rig_.joints[step.joint];
    done_.insert(step.joint);
    const rig::Id to = joint.a.part == step.from ? joint.b.part : joint.a.part;
    const int row = add({LedgerRow::Kind::joint, joint.id, step.parent, step.column, -1, false, {step.joint}});
    reach(to, row, step.column, open);
  }

  void takeGroup(const Step& step, std::vector<Step>& open) {
    const rig::Id group = rig_.joints[step.joint].group;
    const std::vector<std::size_t>& joints = groupJoints_[group];
    const int row = add({LedgerRow::Kind::group, group, step.parent, step.column, -1, false, joints});
    if (unfolded_.count(group))
      for (std::size_t j : joints) add({LedgerRow::Kind::joint, rig_.joints[j].id, row, step.column, -1, true, {j}});
    std::set<rig::Id> ends;
    for (std::size_t j : joints) {
      done_.insert(j);
      for (rig::Id side : {rig_.joints[j].a.part, rig_.joints[j].b.part}) {
        const rig::Part* part = rig_.part(side);
        if (part && part->group == group)
          rowOf_.try_emplace(side, row), follow(side, row, step.column, open);
        else if (side != step.from)
          ends.insert(side);
      }
    }
    for (rig::Id end : ends) reach(end, row, step.column, open);
  }

  // The row leads to this part: goes on from it, or closes a loop.
  void reach(rig::Id part, int row, int column, std::vector<Step>& open) {
    if (const auto known = rowOf_.find(part); known != rowOf_.end()) {
      rows_[row].rejoins = known->second;
      return;
    }
    if (isHeld(part)) return;  // gets a row of its own
    rowOf_[part] = row;
    follow(part, row, column, open);
  }

  void follow(rig::Id part, int row, int column, std::vector<Step>& open) {
    std::vector<std::size_t> onward;
    for (std::size_t j : at_[part])
      if (!done_.count(j)) onward.push_back(j);
    const bool branches = onward.size() > 1 && !isHeld(part);
    for (auto j = onward.rbegin(); j != onward.rend(); ++j) open.push_back({*j, part, row, column + branches});
  }

  int add(LedgerRow row) {
    rows_.push_back(std::move(row));
    return static_cast<int>(rows_.size()) - 1;
  }

  const rig::Rig& rig_;
  const std::set<rig::Id>& unfolded_;
  std::map<rig::Id, std::vector<std::size_t>> at_, groupJoints_;
  std::map<rig::Id, int> rowOf_;
  std::set<std::size_t> done_;
  std::vector<LedgerRow> rows_;
};

}  // namespace

std::vector<LedgerRow> ledgerRows(const rig::Rig& rig, const std::set<rig::Id>& unfolded) {
  return Walk(rig, unfolded).rows();
}

}  // namespace calm::app
