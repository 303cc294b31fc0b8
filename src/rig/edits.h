// SPDX-License-Identifier: GPL-3.0-or-later
// What the user can do to a rig, as functions on the value; History makes them undoable.
#pragma once

#include <map>
#include <set>
#include <string>

#include "engine/contact/core.h"
#include "rig/model.h"

namespace calm::rig {

// Adds the part under a free name and a new id, which is returned.
Id addPart(Rig& rig, Part part);

// Adds the cue under a new id, which is returned. Throws std::invalid_argument if something is wrong with it.
Id addCue(Rig& rig, Cue cue);

// Joins two parts (kNone: the world) with pivot and axis as they are at rest. Throws std::invalid_argument if that
// cannot be: the same part twice, nothing dynamic, a missing part.
Id addJoint(Rig& rig, JointType type, Id a, Id b, const Vec3& pivot, const Vec3& axis);

// Where a joint between the two most likely belongs: the middle of the gap between their surfaces, or of the overlap,
// along the line between their centres; the touching end of a capsule; a part's top for the world.
Vec3 likelyPivot(const Rig& rig, Id a, Id b);
// A likely axis for a joint of this type there. A planar joint's is square to the face where the two touch; what slides
// does so along a cylinder's own axis or the moving part's longest. What turns does so about a cylinder's own axis or
// the nearest edge of a thin box that moves; otherwise about the world axis most square to the line between the two
// centres, level if it can be.
Vec3 likelyAxis(const Rig& rig, Id a, Id b, JointType type = JointType::hinge);

// What of a part faces its neighbours: the shape itself, or its box where that is not convex. In world coordinates.
ConvexCore facingCore(const Part& part);

// Puts parts elsewhere. A joint to something that stays keeps its place there, so that nothing is torn apart; ropes and
// springs, whose ends are apart anyhow, reach to where their part is now.
void place(Rig& rig, const std::map<Id, Pose>& poses);

// Removes parts, joints and groups with their members by id, and with parts the joints on them; a group that loses its
// last part goes too.
void remove(Rig& rig, const std::set<Id>& ids);

// Gives any item a new name. Throws std::invalid_argument if it is empty or taken.
void rename(Rig& rig, Id id, const std::string& name);
// Names items after a pattern in which # is their number, from 1 on in this order. Throws std::invalid_argument without
// a # or where another item bears such a name.
void renameAll(Rig& rig, const std::vector<Id>& ids, const std::string& pattern);

}  // namespace calm::rig
