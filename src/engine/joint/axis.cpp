// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/joint/axis.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace calm {

namespace {

// The share of a pure damper's end rate that makes its decay exp(-d).
double damperShare(double d) {
  return d < 1e-4 ? 0.5 + d / 12 : 1 / -std::expm1(-d) - 1 / d;
}

// Of springs faster than the step: they lose a sixth of their swing in each.
constexpr double kLag = 0.02;

}  // namespace

SpringStep springStep(double k, double c, double mass, double h, bool crowded, double atOnce) {
  // Per unit mass and step: w2 = (omega h)^2 and d = c h / m. The step u' = u - (a x + b u), x' = x + u' has
  // a = w2 / scale and b = (d + shift w2) / scale with scale = 1 + inertia / m.
  const double w2 = k * h * h / mass, d = c * h / mass, w = std::sqrt(w2);
  double scale = 1 + w2 / 4 + d * damperShare(d), shift = 0;
  if (!crowded && w > 1e-6 && w < 0.7) {
    const double decay = d / 2, disc = w2 - decay * decay;
    const double wave = disc >= 0 ? std::cos(std::sqrt(disc)) : std::cosh(std::sqrt(-disc));
    const double b = -std::expm1(-d), a = 2 - b - 2 * std::exp(-decay) * wave;
    // Heavily overdamped springs lose a to round-off; the rule above serves them.
    if (a > 1e-3 * w2 && decay < 20) {
      const double part = blend(w, 0.5, 0.7);
      scale += (1 - part) * (w2 / a - scale);
      shift += (1 - part) * (b / a - d / w2 - shift);
    }
  }
  // As much as it brakes it must be slower, or it would swing up instead; by half as much again it settles best.
  // Among others, what a step does not follow may gather speed by how the parts turn.
  const double lag = kLag * (1 - atOnce) * (crowded ? blend(w, 0.7, 2) : blend(w, 2, 4));
  scale += 1.5 * lag * w2;
  const double implicit = atOnce * blend(w, 2, 4);
  scale += implicit * (1 + w2 + d - scale);
  shift += implicit * (1 - shift);
  // Below it, the law would be lost in round-off.
  constexpr double kLeast = 1e-9;
  return {std::max(scale - 1, kLeast) * mass, c * h + shift * k * h * h, lag};
}

std::string faultOf(const AxisDef& axis) {
  if (std::isnan(axis.low) || std::isnan(axis.high)) return "stops must be numbers";
  if (axis.low > axis.high) return "the low stop must not lie above the high one";
  if (axis.low == kNoLimit || axis.high == -kNoLimit) return "a stop must be finite";
  if (!std::isfinite(axis.speed + axis.acceleration + axis.target))
    return "motor speed and spring target must be finite";
  for (const auto& [what, value] :
       {std::pair("motor cap", axis.cap), std::pair("friction", axis.friction), std::pair("stiffness", axis.stiffness),
        std::pair("damping", axis.damping), std::pair("stop stiffness", axis.stopStiffness),
        std::pair("stop damping", axis.stopDamping), std::pair("frequency", axis.frequency),
        std::pair("damping ratio", axis.dampingRatio)})
    if (!(value >= 0) || !std::isfinite(value)) return std::string(what) + " must be 0 or more";
  if (!(axis.springCap > 0)) return "the cap of a spring must be above 0";
  if (!(axis.restitution >= 0 && axis.restitution <= 1)) return "the restitution of a stop must lie in 0 to 1";
  return {};
}

double springEnergy(const AxisDef& axis, double stretch) {
  const double x = std::abs(stretch), knee = axis.stiffness > 0 ? axis.springCap / axis.stiffness : 0;
  if (axis.stiffness == 0 || x <= knee) return 0.5 * axis.stiffness * x * x;
  return axis.springCap * (x - knee / 2);
}

}  // namespace calm
