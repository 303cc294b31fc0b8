// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/transition.h"

#include <algorithm>
#include <cmath>
#include <variant>

namespace calm::run {

namespace {

double between(double from, double to, double share) {
  return std::isfinite(from) && std::isfinite(to) ? (1 - share) * from + share * to : to;
}

}  // namespace

Progress progressOf(double since, double frame, double lasts) {
  if (lasts <= 0) return {frame, 1, 1, 1};
  const double start = std::min(1.0, since / lasts), end = std::min(1.0, (since + frame) / lasts);
  const double going = std::clamp((lasts - since) / frame, 0.0, 1.0);  // share of the frame
  return {frame, start, going * (start + end) / 2 + (1 - going), end};
}

AxisDef onItsWay(AxisDef axis, const AxisDef& from, const AxisDef& to, const Progress& progress, double at) {
  for (double AxisDef::*value : {&AxisDef::cap, &AxisDef::friction, &AxisDef::stiffness, &AxisDef::damping,
                                 &AxisDef::target, &AxisDef::springCap})
    if (from.*value != to.*value) axis.*value = between(from.*value, to.*value, progress.mean);
  if (from.speed != to.speed) {
    axis.speed = between(from.speed, to.speed, progress.start);
    axis.acceleration = (between(from.speed, to.speed, progress.end) - axis.speed) / progress.frame;
  }
  // Stops that were not there come from where the axis is.
  if (from.low != to.low)
    axis.low = between(std::isfinite(from.low) ? from.low : std::min(at, to.low), to.low, progress.end);
  if (from.high != to.high)
    axis.high = between(std::isfinite(from.high) ? from.high : std::max(at, to.high), to.high, progress.end);
  return axis;
}

Field atShare(const Field& field, double share) {
  Field out = field;
  if (auto* wind = std::get_if<Wind>(&out.law)) wind->linear *= share, wind->quadratic *= share;
  if (auto* pull = std::get_if<Attraction>(&out.law)) pull->strength *= share;
  return out;
}

Field onItsWay(const Field& from, const Field& to, double share) {
  Field out = to;
  const auto mix = [share](double was, double& is) { is = between(was, is, share); };
  if (auto* wind = std::get_if<Wind>(&out.law)) {
    const Wind& was = std::get<Wind>(from.law);
    mix(was.linear, wind->linear), mix(was.quadratic, wind->quadratic);
  }
  if (auto* pull = std::get_if<Attraction>(&out.law)) mix(std::get<Attraction>(from.law).strength, pull->strength);
  return out;
}

}  // namespace calm::run
