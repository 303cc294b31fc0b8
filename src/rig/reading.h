// SPDX-License-Identifier: GPL-3.0-or-later
// What can be read of a run over time: one number a frame, of a joint, a part or the whole rig.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "rig/units.h"

namespace calm::rig {

struct Rig;

struct Reading {
  enum class What {
    force,         // N, of a joint
    torque,        // N m
    separation,    // m
    misalignment,  // rad
    position,      // m or rad, of a joint's axis
    rate,          // m/s or rad/s
    effort,        // N or N m
    speed,         // m/s, of a part's centre
    turnRate,      // rad/s
    x,             // m, of a part's place
    y,
    z,
    touch,     // N, that all that it touches presses on it with, mean of the frame
    distance,  // m, between the centres of two parts
    energy,    // J, of the whole rig
    farthest,  // m, the largest separation of all joints
    fastest,   // m/s, the speed of the fastest part
  };
  What what = What::energy;
  int of = 0;     // the joint or part; 0: the whole rig
  int axis = 0;   // of the joint, from 0
  int other = 0;  // the second part, of a distance

  auto operator<=>(const Reading&) const = default;
};

// As people and files write it: "force of hoist chain 14", "turn of pintle", "turn rate of pintle", "speed of stone
// block", "y of stone block",
// "distance to quay of stone block", "energy". Axes go by their words, or their number where a type has several of one
// word.
std::string textOf(const Reading& reading, const Rig& rig);
// Nothing if the text is no reading of this rig.
std::optional<Reading> readingFrom(const std::string& text, const Rig& rig);
Dimension dimensionOf(const Reading& reading, const Rig& rig);
// All that there is to read of a joint, a part or, of 0, the whole rig; distances to the parts other than it only if
// they are asked for.
std::vector<Reading> readingsOf(int id, const Rig& rig, bool distances = false);
// Whether it names a part or joint that the rig does not have.
bool isMissing(const Reading& reading, const Rig& rig);

}  // namespace calm::rig
