// SPDX-License-Identifier: GPL-3.0-or-later
// What touches in a substep: the points of a pair side by side, and sets of pairs that hang together.
#pragma once

#include <cstdint>

#include "engine/solve/contact_pair.h"

namespace calm {

struct ContactPoint {
  int patch;
  std::uint32_t id;
  Vec3 position;     // world
  Vec3 armA, armB;   // from the centres of mass, as in the middle of the step
  Vec3 lever;        // of each direction for twisting about the normal, beyond what the arms give
  Vec3 impulse;      // along each direction
  double given;      // impulse along the normal that the solution began with
  double gap;        // m
  double target;     // m/s, least end velocity along the normal
  double pushedOut;  // m/s, at which overlap is to be left; 0 if there is none
};

struct ContactPatch {
  ContactPair* pair;
  int a, b;            // bodies
  int placeA, placeB;  // of them among those that are touched
  int first, end;      // points
  Mat3 directions;     // normal (from a to b) and tangents, columns
  bool twists;         // its points have levers
  bool bounces;        // an impact is taken by bounce(), at the instant of touch if it can be

  Vec3 normal() const { return directions.col(0); }
};

// Patches whose moving bodies touch no others', one after another, as are their bodies among those that are touched.
struct ContactSet {
  int firstPatch, endPatch, firstPlace, endPlace;

  int size() const { return endPatch - firstPatch; }
};

}  // namespace calm
