// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/axis_change.h"

#include <algorithm>

namespace calm::rig {

void AxisChange::set(Number number, double value) {
  leave(number);
  values_.emplace_back(number, value);
}

void AxisChange::leave(Number number) {
  std::erase_if(values_, [&](const auto& v) { return v.first == number; });
}

std::optional<double> AxisChange::value(Number number) const {
  const auto found = std::find_if(values_.begin(), values_.end(), [&](const auto& v) { return v.first == number; });
  return found == values_.end() ? std::nullopt : std::optional(found->second);
}

AxisDef AxisChange::over(AxisDef axis) const {
  if (value(&AxisDef::frequency)) axis.stiffness = axis.damping = 0;
  if (value(&AxisDef::stiffness) || value(&AxisDef::damping)) axis.frequency = axis.dampingRatio = 0;
  for (const auto& [number, to] : values_) axis.*number = to;
  return axis;
}

}  // namespace calm::rig
