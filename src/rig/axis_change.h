// SPDX-License-Identifier: GPL-3.0-or-later
// What a cue changes on an axis.
#pragma once

#include <optional>
#include <utility>
#include <vector>

#include "engine/joint/axis.h"

namespace calm::rig {

// New values for some of an axis's numbers; the others stay as they are when it comes.
class AxisChange {
 public:
  using Number = double AxisDef::*;

  void set(Number number, double value);
  void leave(Number number);
  std::optional<double> value(Number number) const;
  const std::vector<std::pair<Number, double>>& values() const { return values_; }
  // The axis with the new values. A stiffness or a damping takes the place of a frequency, and the other way round.
  AxisDef over(AxisDef axis) const;

 private:
  std::vector<std::pair<Number, double>> values_;
};

}  // namespace calm::rig
