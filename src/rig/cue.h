// SPDX-License-Identifier: GPL-3.0-or-later
// Events of a run: what is done to the rig, and when. SI units, world axes.
#pragma once

#include <array>
#include <string>
#include <utility>
#include <vector>

#include "engine/solve/body.h"
#include "rig/axis_change.h"
#include "rig/reading.h"

namespace calm::rig {

// When a cue comes: at a time, or so long after something has come to be so.
struct Trigger {
  enum class Kind { time, parted, above, below, touch };
  Kind kind = Kind::time;
  double at = 0;         // s, of time
  int of = 0;            // parted: the joint; touch: the part
  int other = 0;         // touch: what it touches; 0: whatever it is
  Reading reading = {};  // of above and below
  double value = 0;      // SI, that it passes
  double delay = 0;      // s
};

// Something that happens in a run, at the start of a frame.
struct Cue {
  enum class Act {
    impulse,  // on `part` at `point`: `vector`, N s
    push,     // for `lasts`: `vector`, N, on `part` at `point`
    gust,     // for `lasts`: the wind rises to `vector`, m/s, and falls again (1 - cos), on `parts` or all that moves
    pull,     // a hand takes `part` at `point` along `track` with at most `cap`
    probe,    // a hand pushes with a body of its own along `track`: upright, `radius` thick and `mass` heavy
    ball,     // a ball of `radius` and `mass` is thrown from `point` at `vector`, m/s
    role,     // of `part`; where it follows keys it comes over to them within `lasts`
    arm,      // the strengths of `joint`, and disarm
    disarm,
    cut,      // parts `joint`
    make,     // makes `joint`, closing what its sides are apart within `lasts`
    axis,     // of `joint`: number `axisNumber` takes on what `axis` says within `lasts`
    gravity,  // comes to be `vector`, m/s^2, within `lasts`
    field     // number `field` comes to have `share` of its strength within `lasts`
  };
  // Where a hand is, from the cue's start on.
  struct Hand {
    double time;  // s
    Vec3 at;      // m, world
  };
  int id = 0;
  Trigger when = {};
  Act act = Act::impulse;
  int part = 0, joint = 0;
  Vec3 vector = Vec3::Zero();  // world axes
  Vec3 point = Vec3::Zero();   // m, in the part's frame; of a ball: in the world
  double lasts = 0;            // s
  Role role = Role::dynamic;
  int axisNumber = 0;
  AxisChange axis = {};
  int field = 0;  // of the rig's
  double share = 1;
  double drag = 0;  // N s^2/m^2, of a gust; 0: of each part's frontal area with a coefficient of 1
  std::vector<int> parts = {};
  std::vector<Hand> track = {};
  double cap = 500;                 // N
  double radius = 0.25, mass = 80;  // m, kg
};

inline constexpr std::array kCueWords = {
    std::pair{Cue::Act::impulse, "impulse"}, std::pair{Cue::Act::push, "push"},   std::pair{Cue::Act::gust, "gust"},
    std::pair{Cue::Act::pull, "pull"},       std::pair{Cue::Act::probe, "probe"}, std::pair{Cue::Act::ball, "ball"},
    std::pair{Cue::Act::role, "role"},       std::pair{Cue::Act::arm, "arm"},     std::pair{Cue::Act::disarm, "disarm"},
    std::pair{Cue::Act::cut, "cut"},         std::pair{Cue::Act::make, "make"},   std::pair{Cue::Act::axis, "axis"},
    std::pair{Cue::Act::gravity, "gravity"}, std::pair{Cue::Act::field, "field"}};
const char* word(Cue::Act act);
// Whether it goes on for a while.
bool goesOn(Cue::Act act);

// In words: "impulse on stone block", "wind 12 m/s".
std::string textOf(const Cue& cue, const Rig& rig);
// "at 2.4 s", "0.5 s after hoist chain 14 parted", "when force of pintle passes 3 kN".
std::string textOf(const Trigger& trigger, const Rig& rig);
// What is wrong with it, as the end of a sentence; empty if nothing is.
std::string faultOf(const Cue& cue, const Rig& rig);

}  // namespace calm::rig
