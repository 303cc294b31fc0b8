// SPDX-License-Identifier: GPL-3.0-or-later
// The kits behind placed.h, one file each: what keeps a form from being made, and the making.
#pragma once

#include <optional>
#include <string>

#include "rig/kits/builder.h"

namespace calm::rig {

std::string faultOfRing(const Ring& ring);
void buildRing(Builder& builder, const Ring& ring, std::optional<Id> holder);

std::string faultOfLadder(const Ladder& ladder);
void buildLadder(Builder& builder, const Ladder& ladder, Id holder);

std::string faultOfDoor(const Door& door);
void buildDoor(Builder& builder, const Door& door, std::optional<Id> holder);

}  // namespace calm::rig
