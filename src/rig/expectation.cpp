// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/expectation.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "rig/model.h"

namespace calm::rig {

namespace {

using Kind = Expectation::Kind;

std::string during(const Expectation& e) {
  const auto seconds = [](double t) { return formatQuantity(t, Dimension::time); };
  const bool late = e.from > 0, ends = std::isfinite(e.until);
  if (late && ends) return fmt::format(" from {} to {}", seconds(e.from), seconds(e.until));
  if (late) return fmt::format(" from {} on", seconds(e.from));
  return ends ? fmt::format(" until {}", seconds(e.until)) : std::string();
}

std::string nameOf(int id, const Rig& rig) {
  const Joint* joint = rig.joint(id);
  return joint ? joint->name : rig.partName(id);
}

}  // namespace

std::string textOf(const Expectation& e, const Rig& rig) {
  const auto quantity = [&](double v) { return formatQuantity(v, dimensionOf(e.reading, rig), 4); };
  switch (e.kind) {
    case Kind::holds:
      return (e.of == kNone ? "every joint holds" : nameOf(e.of, rig) + " holds") + during(e);
    case Kind::parts:
      return nameOf(e.of, rig) + " parts" + during(e);
    case Kind::settles:
      return fmt::format("{} below {}{}", e.of == kNone ? "all come to rest" : nameOf(e.of, rig) + " comes to rest",
                         formatQuantity(e.high, Dimension::speed), during(e));
    case Kind::stays: {
      const std::string what = textOf(e.reading, rig);
      if (std::isinf(e.low)) return fmt::format("{} stays below {}{}", what, quantity(e.high), during(e));
      if (std::isinf(e.high)) return fmt::format("{} stays above {}{}", what, quantity(e.low), during(e));
      return fmt::format("{} stays within {} and {}{}", what, quantity(e.low), quantity(e.high), during(e));
    }
    case Kind::reaches:
      return fmt::format("{} reaches {}{}", textOf(e.reading, rig), quantity(e.low), during(e));
    case Kind::energy:
      return fmt::format("energy is kept within {:.4g} %{}", 100 * e.high, during(e));
  }
  return {};
}

std::string faultOf(const Expectation& e, const Rig& rig) {
  if (!(e.from >= 0) || !(e.until > e.from)) return "it must begin at 0 s or later, and end after it begins";
  if (std::isnan(e.low) || std::isnan(e.high)) return "its bounds must be numbers";
  switch (e.kind) {
    case Kind::holds:
      return e.of == kNone || rig.joint(e.of) ? "" : "the joint does not exist";
    case Kind::parts:
      return rig.joint(e.of) ? "" : "it needs a joint";
    case Kind::settles:
      if (e.of != kNone && !rig.part(e.of)) return "the part does not exist";
      return e.high > 0 && std::isfinite(e.high) ? "" : "it needs a speed above 0";
    case Kind::energy:
      return e.high > 0 && std::isfinite(e.high) ? "" : "it needs a share above 0";
    case Kind::stays:
    case Kind::reaches:
      break;
  }
  const std::vector<Reading> known = readingsOf(e.reading.of, rig);
  if (std::find(known.begin(), known.end(), e.reading) == known.end()) return "there is no such reading";
  if (e.kind == Kind::reaches) return std::isfinite(e.low) ? "" : "it needs a value to reach";
  if (std::isinf(e.low) && std::isinf(e.high)) return "it needs a bound";
  return e.low < e.high ? "" : "its lower bound must lie below the upper one";
}

}  // namespace calm::rig
