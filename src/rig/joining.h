// SPDX-License-Identifier: GPL-3.0-or-later
// Many joints at once, and joints that change what they join.
#pragma once

#include <set>
#include <utility>
#include <vector>

#include "rig/model.h"

namespace calm::rig {

// Whether it is a rope or a spring from one pivot to the other, which pulls along itself and twists nothing.
constexpr bool spans(JointType type) {
  return type == JointType::distance || type == JointType::spring || type == JointType::pulley ||
         type == JointType::winch;
}

// Joins each part to the next where the two most likely meet; with `ring` the last to the first, too. Pairs that are
// joined already are left as they are. Throws std::invalid_argument if there are fewer than two parts.
std::vector<Id> joinInOrder(Rig& rig, JointType type, const std::vector<Id>& parts, bool ring = false);

// The parts in the order in which they lie along the line that fits them best.
std::vector<Id> alongTheirLine(const Rig& rig, const std::set<Id>& parts);
// And as they lie round their middle, in the plane that fits them best.
std::vector<Id> roundTheirRing(const Rig& rig, const std::set<Id>& parts);

// Pairs among the parts whose surfaces are within `gap` (m) of each other and that no joint holds yet, nearest first;
// no part is in more than `most` of them, joints that it has counted.
std::vector<std::pair<Id, Id>> neighbours(const Rig& rig, const std::set<Id>& parts, double gap, int most);
std::vector<Id> joinNeighbours(Rig& rig, JointType type, const std::set<Id>& parts, double gap, int most);

// Makes the joint another type in the same place. Settings of its axes go, since they mean something else.
void convert(Rig& rig, Id joint, JointType type);

// Ties one end (0: a, 1: b) of the joint to another part, pivot and axes staying where they are in the world at rest.
void moveEnd(Rig& rig, Id joint, int end, Id part);

// Cuts a box, capsule or cylinder across its longest axis into `count` equal pieces that are joined in a row. Mass
// stays in all; joints go on to the piece that is nearest to their pivot. The first piece keeps the part's id and name.
std::vector<Id> cut(Rig& rig, Id part, int count, JointType type);

}  // namespace calm::rig
