// SPDX-License-Identifier: GPL-3.0-or-later
#include <cmath>

#include "rig/format/format.h"

namespace calm::rig {

Expectation readExpectation(const Node& n, const Rig& rig, const PartIndex& index) {
  n.object({"what", "joint", "part", "reading", "low", "high", "value", "speed_m_s", "share", "from_s", "until_s"});
  using Kind = Expectation::Kind;
  Expectation e;
  e.kind = n.at("what").word(kExpectationWords, "expectation");
  switch (e.kind) {
    case Kind::holds:
      if (n.has("joint")) e.of = readJointId(n.at("joint"), rig);
      break;
    case Kind::parts:
      e.of = readJointId(n.at("joint"), rig);
      break;
    case Kind::settles:
      if (n.has("part")) e.of = index.read(n.at("part"));
      e.high = n.at("speed_m_s").number();
      break;
    case Kind::energy:
      e.high = n.at("share").number();
      break;
    case Kind::stays:
      e.reading = readReading(n.at("reading"), rig);
      n.maybe("low", e.low);
      n.maybe("high", e.high);
      break;
    case Kind::reaches:
      e.reading = readReading(n.at("reading"), rig);
      e.low = n.at("value").number();
      break;
  }
  n.maybe("from_s", e.from);
  n.maybe("until_s", e.until);
  if (const std::string fault = faultOf(e, rig); !fault.empty()) n.fail(fault);
  return e;
}

Json writeExpectation(const Expectation& e, const Rig& rig) {
  using Kind = Expectation::Kind;
  Json json;
  for (const auto& [kind, word] : kExpectationWords)
    if (kind == e.kind) json["what"] = word;
  const bool ofReading = e.kind == Kind::stays || e.kind == Kind::reaches;
  if (ofReading) json["reading"] = textOf(e.reading, rig);
  if (e.of != kNone) json[e.kind == Kind::settles ? "part" : "joint"] = e.of;
  if (e.kind == Kind::settles) json["speed_m_s"] = e.high;
  if (e.kind == Kind::energy) json["share"] = e.high;
  if (e.kind == Kind::reaches) json["value"] = e.low;
  if (e.kind == Kind::stays && std::isfinite(e.low)) json["low"] = e.low;
  if (e.kind == Kind::stays && std::isfinite(e.high)) json["high"] = e.high;
  if (e.from > 0) json["from_s"] = e.from;
  if (std::isfinite(e.until)) json["until_s"] = e.until;
  return json;
}

}  // namespace calm::rig
