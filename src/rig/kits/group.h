// SPDX-License-Identifier: GPL-3.0-or-later
// Groups: parts and joints that belong together, and how what a kit made is made anew.
#pragma once

#include <functional>
#include <set>

#include "rig/model.h"

namespace calm::rig {

// Makes the parts, and the joints between them, one group put together by hand. Parts of a kit's group stay with it.
// Throws std::invalid_argument if nothing is left to group.
Id groupByHand(Rig& rig, const std::set<Id>& ids, const std::string& name);

// Lets the members of a group go; they stay in the rig.
void ungroup(Rig& rig, Id group);

// Makes a kit's group anew. `asItWas` makes what the kit made, `asItIsToBe` what it is to make now, each in a rig
// without the group, and gives the group's id. Members are known again by their slots and keep their ids; what differs
// from what the kit had made was set by hand and stays, but for shapes and places where `placesAreTheKits`. New members
// are like the last of their kind. What else was joined to members that are gone goes on to the nearest that is left,
// its pivot where it was. Throws std::invalid_argument and leaves the rig as it was if that is no sound rig.
using MakeGroup = std::function<Id(Rig&)>;
void remake(Rig& rig, Id group, const MakeGroup& asItWas, const MakeGroup& asItIsToBe, bool placesAreTheKits);

}  // namespace calm::rig
