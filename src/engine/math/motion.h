// SPDX-License-Identifier: GPL-3.0-or-later
// Prescribed motion of a kinematic part.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "engine/math/types.h"

namespace calm {

// Where a part is at every time: keys, and waves on top of them.
struct Motion {
  struct Key {
    double time;  // s
    Pose pose;    // of the part's frame in the world
  };
  // Adds amplitude sin(2 pi frequency t + phase): metres along the direction, or radians about it (world axes, about
  // the part's origin).
  struct Wave {
    Vec3 direction = Vec3::UnitX();  // unit
    bool turns = false;
    double amplitude = 0, frequency = 1, phase = 0;  // m or rad, Hz, rad
  };

  std::vector<Key> keys;  // ascending in time, at least one
  // Straight lines and even turns between keys, or curves whose velocities are continuous: cubic Hermite with tangents
  // from the neighbours (Catmull and Rom 1974), and its like for rotations (Kim, Kim and Shin, SIGGRAPH 1995).
  bool smooth = true;
  bool repeats = false;  // after the last key, from the first one again
  std::vector<Wave> waves;
  // Comes over from another motion: at `from` it goes on from `start` with these velocities, and follows the keys
  // alone after `over` seconds. The share of the keys grows with no jump in velocity or acceleration (6 s^5 - 15 s^4 +
  // 10 s^3).
  struct Approach {
    double from = 0, over = 0;  // s
    Pose start;
    Vec3 velocity = Vec3::Zero(), spin = Vec3::Zero();  // m/s, rad/s, of the part's frame
  };
  std::optional<Approach> approach;

  // Before the first key and after the last the part rests, unless the motion repeats.
  Pose poseAt(double time) const;

 private:
  Pose onKeys(double time) const;
};

// Empty if the motion can be followed; otherwise what is wrong, as the end of a sentence.
std::string faultOf(const Motion& motion);

}  // namespace calm
