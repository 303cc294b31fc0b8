// SPDX-License-Identifier: GPL-3.0-or-later
// Quantities as people type and read them; SI inside.
#pragma once

#include <optional>
#include <string>

namespace calm::rig {

enum class Dimension {
  length,
  mass,
  density,
  force,
  torque,
  time,
  angle,
  lineMass,
  number,
  speed,
  turnRate,
  stiffness,
  turnStiffness,
  damping,
  turnDamping,
  frequency,
  energy,
  acceleration
};

// The value in SI of "30 cm", "12 in", "5 kN", "1.5" (SI when no unit is given); nothing if it is no such quantity or
// not finite.
std::optional<double> parseQuantity(const std::string& text, Dimension dimension);

// A readable text with its unit and about `digits` significant digits: "14.3 kN", "0.02 mm", "1.2 m".
std::string formatQuantity(double value, Dimension dimension, int digits = 3);

}  // namespace calm::rig
