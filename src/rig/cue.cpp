// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/cue.h"

#include <fmt/format.h>

#include <cmath>

#include "rig/model.h"

namespace calm::rig {

namespace {

using Act = Cue::Act;

std::string named(const Rig& rig, Id id) {
  const Joint* joint = rig.joint(id);
  return joint ? joint->name : rig.partName(id);
}

std::string words(double value, Dimension dimension) {
  return formatQuantity(value, dimension);
}

bool needsPart(Act act) {
  return act == Act::impulse || act == Act::push || act == Act::pull || act == Act::role;
}

bool needsJoint(Act act) {
  return act == Act::arm || act == Act::disarm || act == Act::cut || act == Act::make || act == Act::axis;
}

std::string faultOf(const Trigger& t, const Rig& rig) {
  using Kind = Trigger::Kind;
  if (!std::isfinite(t.at) || !std::isfinite(t.delay) || !std::isfinite(t.value)) return "its times must be finite";
  if (t.at < 0 || t.delay < 0) return "its times must be 0 or more";
  if (t.kind == Kind::parted && !rig.joint(t.of))
    return fmt::format("it waits for joint {}, which does not exist", t.of);
  if (t.kind == Kind::touch && !rig.part(t.of)) return fmt::format("it waits for part {}, which does not exist", t.of);
  if (t.kind == Kind::touch && t.other != kNone && !rig.part(t.other))
    return fmt::format("it waits for part {}, which does not exist", t.other);
  if ((t.kind == Kind::above || t.kind == Kind::below) && isMissing(t.reading, rig))
    return "it waits for a reading of what does not exist";
  return {};
}

std::string faultOfTrack(const Cue& cue) {
  if (cue.track.empty()) return "a hand needs a track";
  for (std::size_t i = 0; i < cue.track.size(); ++i) {
    const Cue::Hand& h = cue.track[i];
    if (!std::isfinite(h.time) || h.time < 0 || !h.at.allFinite()) return "its track must be finite";
    if (i > 0 && !(h.time > cue.track[i - 1].time)) return fmt::format("point {} of its track comes too early", i + 1);
  }
  return {};
}

}  // namespace

const char* word(Cue::Act act) {
  for (const auto& [a, w] : kCueWords)
    if (a == act) return w;
  return "?";
}

bool goesOn(Act act) {
  return act == Act::push || act == Act::gust || act == Act::pull || act == Act::probe;
}

std::string textOf(const Cue& cue, const Rig& rig) {
  const auto size = [&](Dimension d) { return words(cue.vector.norm(), d); };
  switch (cue.act) {
    case Act::impulse:
      return fmt::format("impulse on {}", named(rig, cue.part));
    case Act::push:
      return fmt::format("push {} with {}", named(rig, cue.part), size(Dimension::force));
    case Act::gust:
      return fmt::format("gust of {}", size(Dimension::speed));
    case Act::pull:
      return fmt::format("a hand pulls {}", named(rig, cue.part));
    case Act::probe:
      return "a hand pushes";
    case Act::ball:
      return fmt::format("a ball of {} at {}", words(cue.mass, Dimension::mass), size(Dimension::speed));
    case Act::role:
      return fmt::format("{} becomes {}", named(rig, cue.part), word(cue.role));
    case Act::gravity:
      return fmt::format("gravity {}", size(Dimension::acceleration));
    case Act::field:
      return fmt::format("field {} at {:.0f} %", cue.field + 1, 100 * cue.share);
    case Act::axis: {
      const Joint* joint = rig.joint(cue.joint);
      return fmt::format("{} of {}", joint ? axisWord(joint->type, cue.axisNumber) : "axis", named(rig, cue.joint));
    }
    default:
      return fmt::format("{} {}", word(cue.act), named(rig, cue.joint));
  }
}

std::string textOf(const Trigger& t, const Rig& rig) {
  const std::string after = t.delay > 0 ? words(t.delay, Dimension::time) + " after " : "when ";
  const auto passes = [&](const char* way) {
    return fmt::format("{}{} {} {}", after, textOf(t.reading, rig), way, words(t.value, dimensionOf(t.reading, rig)));
  };
  switch (t.kind) {
    case Trigger::Kind::parted:
      return fmt::format("{}{} parted", after, named(rig, t.of));
    case Trigger::Kind::above:
      return passes("passes");
    case Trigger::Kind::below:
      return passes("falls below");
    case Trigger::Kind::touch:
      return fmt::format("{}{} touches {}", after, named(rig, t.of), t.other ? named(rig, t.other) : "something");
    default:
      return "at " + words(t.at, Dimension::time);
  }
}

std::string faultOf(const Cue& c, const Rig& rig) {
  if (const std::string fault = faultOf(c.when, rig); !fault.empty()) return fault;
  if (needsPart(c.act) && !rig.part(c.part)) return fmt::format("there is no part {}", c.part);
  if (needsJoint(c.act) && !rig.joint(c.joint)) return fmt::format("there is no joint {}", c.joint);
  for (const Id id : c.parts)
    if (!rig.part(id)) return fmt::format("there is no part {}", id);
  if (!c.vector.allFinite() || !c.point.allFinite()) return "its vectors must be finite";
  if (!(c.lasts >= 0) || !std::isfinite(c.lasts)) return "it must last for 0 s or more";
  if ((c.act == Act::push || c.act == Act::gust) && c.lasts == 0) return "it must last for more than 0 s";
  if (!(c.drag >= 0) || !std::isfinite(c.drag)) return "its drag must be 0 or more";
  if (c.act == Act::axis) {
    const Joint& joint = *rig.joint(c.joint);
    const int count = axesOf(joint.type).all();
    if (c.axisNumber < 0 || c.axisNumber >= count) return fmt::format("its joint has axes 1 to {}", count);
    if (const std::string fault = calm::faultOf(joint.type, c.axis.over(joint.axes[c.axisNumber])); !fault.empty())
      return fault;
  }
  if (c.act == Act::field && (c.field < 0 || c.field >= static_cast<int>(rig.fields.size())))
    return fmt::format("there is no field {}", c.field + 1);
  if (!std::isfinite(c.share)) return "its share must be finite";
  const bool hand = c.act == Act::pull || c.act == Act::probe, body = c.act == Act::probe || c.act == Act::ball;
  if (hand && !(c.cap > 0 && std::isfinite(c.cap))) return "its hand must be stronger than 0 N";
  if (body && !(c.radius > 0 && c.mass > 0 && std::isfinite(c.radius + c.mass)))
    return "its radius and mass must be above 0";
  return hand ? faultOfTrack(c) : std::string();
}

}  // namespace calm::rig
