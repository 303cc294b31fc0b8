// SPDX-License-Identifier: GPL-3.0-or-later
// How a rig stands when one axis of a joint is moved by hand.
#pragma once

#include <map>
#include <optional>

#include "rig/model.h"

namespace calm::rig {

// Where axis k of the joint is at rest, m or rad; nothing for axes that count from rest.
std::optional<double> restCoordinate(const Rig& rig, const Joint& joint, int k);

// Where parts are when axis k of the joint has moved on by `by` (m or rad) from rest: all that hangs on its b side goes
// along, or on its a side the other way where b is held. Throws std::invalid_argument, saying why, for axes that cannot
// be moved so: ropes and meshes, and joints that are held on both sides, by a loop or by what stands.
std::map<Id, Pose> posedAt(const Rig& rig, Id joint, int k, double by);

}  // namespace calm::rig
