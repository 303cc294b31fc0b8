// SPDX-License-Identifier: GPL-3.0-or-later
// Copies of parts, with what joins them joined again to the copies.
#pragma once

#include <map>
#include <set>

#include "rig/model.h"

namespace calm::rig {

// From each thing that was copied to its copy.
using Copies = std::map<Id, Id>;

// Copies the parts, lines and joints with these ids to where `moved` (of the world) takes them. Joints are copied with
// the parts on both of their sides; a joint to the world or to a part that stays is copied when it is named itself or
// holds a copied part to the world. Names are the originals' with the next free number.
Copies copyMoved(Rig& rig, const std::set<Id>& ids, const Pose& moved);

// The same `count` times over, each a step further on.
std::set<Id> copyInRow(Rig& rig, const std::set<Id>& ids, int count, const Vec3& step);

// The same as in a mirror through the point, square to the normal (unit). Stops, targets and speeds of joints are
// turned round where a mirror turns them. Throws std::invalid_argument for what has no mirror image here: hulls, meshes
// and compounds, kinematic motions, and gears, racks and screws.
Copies copyMirrored(Rig& rig, const std::set<Id>& ids, const Vec3& point, const Vec3& normal);

}  // namespace calm::rig
