// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/units.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <numbers>
#include <vector>

namespace calm::rig {

namespace {

struct Unit {
  const char* name;
  double size;  // in SI
  bool shown;   // whether texts may use it; shown ones in falling size
};

const std::vector<Unit>& unitsOf(Dimension dimension) {
  static const std::vector<Unit> length{{"km", 1e3, false},    {"m", 1, true},       {"cm", 1e-2, false},
                                        {"mm", 1e-3, true},    {"um", 1e-6, true},   {"nm", 1e-9, true},
                                        {"in", 0.0254, false}, {"ft", 0.3048, false}};
  static const std::vector<Unit> mass{{"t", 1e3, true}, {"kg", 1, true}, {"g", 1e-3, true}, {"lb", 0.45359237, false}};
  static const std::vector<Unit> density{
      {"kg/m^3", 1, true}, {"kg/m3", 1, false}, {"g/cm^3", 1e3, false}, {"g/cm3", 1e3, false}};
  static const std::vector<Unit> force{
      {"MN", 1e6, true}, {"kN", 1e3, true}, {"N", 1, true}, {"lbf", 4.4482216152605, false}};
  static const std::vector<Unit> torque{{"kN m", 1e3, true}, {"kNm", 1e3, false}, {"N m", 1, true}, {"Nm", 1, false}};
  static const std::vector<Unit> time{{"s", 1, true}, {"ms", 1e-3, true}, {"min", 60, false}};
  static const std::vector<Unit> angle{
      {"deg", std::numbers::pi / 180, true}, {"rad", 1, false}, {"\u00b0", std::numbers::pi / 180, false}};
  static const std::vector<Unit> lineMass{{"kg/m", 1, true}, {"g/m", 1e-3, false}};
  static const std::vector<Unit> number{{"", 1, true}};
  static const std::vector<Unit> speed{
      {"m/s", 1, true}, {"mm/s", 1e-3, true}, {"km/h", 1 / 3.6, false}, {"ft/s", 0.3048, false}};
  static const std::vector<Unit> turnRate{
      {"rad/s", 1, true}, {"deg/s", std::numbers::pi / 180, false}, {"rpm", std::numbers::pi / 30, false}};
  static const std::vector<Unit> stiffness{
      {"MN/m", 1e6, true}, {"kN/m", 1e3, true}, {"N/mm", 1e3, false}, {"N/m", 1, true}, {"lbf/in", 175.126835, false}};
  static const std::vector<Unit> turnStiffness{
      {"kN m/rad", 1e3, true}, {"N m/rad", 1, true}, {"Nm/rad", 1, false}, {"N m/deg", 180 / std::numbers::pi, false}};
  static const std::vector<Unit> damping{{"kN s/m", 1e3, true}, {"N s/m", 1, true}, {"kg/s", 1, false}};
  static const std::vector<Unit> turnDamping{{"N m s/rad", 1, true}, {"Nms/rad", 1, false}};
  static const std::vector<Unit> frequency{{"kHz", 1e3, false}, {"Hz", 1, true}, {"rpm", 1 / 60.0, false}};
  static const std::vector<Unit> energy{{"MJ", 1e6, true}, {"kJ", 1e3, true}, {"J", 1, true}, {"mJ", 1e-3, true}};
  static const std::vector<Unit> acceleration{{"m/s^2", 1, true}, {"m/s\u00b2", 1, false}};
  switch (dimension) {
    case Dimension::acceleration:
      return acceleration;
    case Dimension::energy:
      return energy;
    case Dimension::length:
      return length;
    case Dimension::mass:
      return mass;
    case Dimension::density:
      return density;
    case Dimension::force:
      return force;
    case Dimension::torque:
      return torque;
    case Dimension::time:
      return time;
    case Dimension::angle:
      return angle;
    case Dimension::lineMass:
      return lineMass;
    case Dimension::number:
      return number;
    case Dimension::speed:
      return speed;
    case Dimension::turnRate:
      return turnRate;
    case Dimension::stiffness:
      return stiffness;
    case Dimension::turnStiffness:
      return turnStiffness;
    case Dimension::damping:
      return damping;
    case Dimension::turnDamping:
      return turnDamping;
    case Dimension::frequency:
      return frequency;
  }
  return number;
}

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t"), last = text.find_last_not_of(" \t");
  return first == std::string::npos ? std::string() : text.substr(first, last - first + 1);
}

}  // namespace

std::optional<double> parseQuantity(const std::string& text, Dimension dimension) {
  const std::string whole = trimmed(text);
  double value = 0;
  const char* begin = whole.data() + (whole.starts_with('+') ? 1 : 0);
  const auto [end, error] = std::from_chars(begin, whole.data() + whole.size(), value);
  if (error != std::errc() || !std::isfinite(value)) return std::nullopt;
  const std::string unit = trimmed(std::string(end, whole.data() + whole.size()));
  if (unit.empty()) return value;
  for (const Unit& u : unitsOf(dimension))
    if (unit == u.name) return value * u.size;
  return std::nullopt;
}

std::string formatQuantity(double value, Dimension dimension, int digits) {
  const std::vector<Unit>& units = unitsOf(dimension);
  const Unit* best = nullptr;
  const Unit* base = nullptr;
  for (const Unit& u : units) {
    if (!u.shown) continue;
    if (u.size == 1 || !base) base = &u;
    if (!best || std::abs(value) < best->size * 0.9995) best = &u;
  }
  if (value == 0) best = base;
  const std::string number = fmt::format("{:.{}g}", value / best->size, digits);
  // Plain digits where the general format would turn large numbers to powers of ten.
  const bool large = number.find("e+") != std::string::npos;
  const std::string shown = large ? fmt::format("{:.0f}", value / best->size) : number;
  return *best->name ? shown + " " + best->name : shown;
}

}  // namespace calm::rig
