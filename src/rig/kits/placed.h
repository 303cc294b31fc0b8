// SPDX-License-Identifier: GPL-3.0-or-later
// The kits that stand at a place: ring, ladder, door. Each is a function from a form to parts and joints.
#pragma once

#include <optional>
#include <string>

#include "rig/model.h"

namespace calm::rig {

// Where a kit stands. y of its frame is up (of a ring: square to it); a ladder's origin is the middle of its top, a
// door's the foot of its hinge line, with x along the shut leaf and z to where it opens.
struct Standing {
  Pose pose;
  std::optional<Id> holder;  // what it is tied to; kNone: the world; none: nothing, or a door's own posts
};

// What keeps the form from being made, as the end of a sentence; empty if nothing does, or for forms that do not stand
// at a place.
std::string faultOf(const Form& form);

// Adds the group, its parts and joints; returns the group's id. Throws std::invalid_argument with faultOf's words.
Id makePlaced(Rig& rig, const Form& form, const std::string& name, const Standing& standing);

// Where the group stands now, by its first member that is still there.
Standing standingOf(const Rig& rig, Id group);

// Makes a kit's group anew after another form of the same kind, where it stands or, a line, between its ends. What was
// set by hand stays; see remake().
void remakeKit(Rig& rig, Id group, const Form& form);

// N, square to the leaf at its handle, that holds the door open by `angle` (rad) against closer and friction.
double handleEffort(const Door& door, double angle);
// m, from the hinge line to the handle.
double handleArm(const Door& door);

// The damping that rope and chain links get, 1/s: air drag, and what stands for the rubbing of link on link.
constexpr double kLineLinearDamping = 2.5;
constexpr double kLineAngularDamping = 4;

}  // namespace calm::rig
