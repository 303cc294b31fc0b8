// SPDX-License-Identifier: GPL-3.0-or-later
// What is expected of every run of a rig; kept with it and checked whenever it runs.
#pragma once

#include <array>
#include <limits>
#include <string>

#include "rig/reading.h"

namespace calm::rig {

struct Expectation {
  enum class Kind {
    holds,    // the joint, or every joint, has not parted
    parts,    // the joint parts
    settles,  // from `from` on the part, or every part, is slower than `high` (m/s)
    stays,    // the reading lies within low and high
    reaches,  // the reading passes `low`
    energy    // the whole energy changes by no more than `high` of its range of kinetic energy
  };
  Kind kind = Kind::holds;
  int of = 0;  // of holds, parts, settles: the joint or part; 0: all
  Reading reading = {};
  double low = -std::numeric_limits<double>::infinity(), high = std::numeric_limits<double>::infinity();
  double from = 0, until = std::numeric_limits<double>::infinity();  // s
};
inline constexpr std::array kExpectationWords = {
    std::pair{Expectation::Kind::holds, "holds"},     std::pair{Expectation::Kind::parts, "parts"},
    std::pair{Expectation::Kind::settles, "settles"}, std::pair{Expectation::Kind::stays, "stays"},
    std::pair{Expectation::Kind::reaches, "reaches"}, std::pair{Expectation::Kind::energy, "energy"}};

// In words: "hoist chain 14 holds", "all come to rest below 5 cm/s from 4 s on".
std::string textOf(const Expectation& expectation, const Rig& rig);
// What is wrong with it, as the end of a sentence; empty if nothing is.
std::string faultOf(const Expectation& expectation, const Rig& rig);

}  // namespace calm::rig
