// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/kits/placed.h"

#include <fmt/format.h>

#include <algorithm>
#include <stdexcept>

#include "rig/kits/group.h"
#include "rig/kits/line.h"
#include "rig/kits/makers.h"

namespace calm::rig {

namespace {

// What must be above zero is asked for here; what else a form needs, its kit says.
struct Positive {
  std::string fault;

  void operator()(const char*, const char* words, Dimension, double value) { need(words, value > 0, value); }
  void operator()(const char*, const char* words, Dimension, int value) {
    need(words, value >= 1 && value <= 100000, value);
  }
  void operator()(const char*, const char*, Dimension, bool) {}

 private:
  void need(const char* words, bool met, double value) {
    if (fault.empty() && !(met && std::isfinite(value)))
      fault = fmt::format("\"{}\" must be above 0, not {}", words, value);
  }
};

// A closer and a latch may be left out.
struct Sensible : Positive {
  using Positive::operator();
  void operator()(const char* key, const char* words, Dimension dimension, double value) {
    const std::string name = key;
    const bool mayBeZero = name.starts_with("closer") || name.starts_with("friction") || name.starts_with("latch");
    if (!(mayBeZero && value == 0)) Positive::operator()(key, words, dimension, value);
  }
};

}  // namespace

std::string faultOf(const Form& form) {
  Sensible sensible;
  visitForm(form, sensible);
  if (!sensible.fault.empty()) return sensible.fault;
  if (const auto* ring = std::get_if<Ring>(&form)) return faultOfRing(*ring);
  if (const auto* ladder = std::get_if<Ladder>(&form)) return faultOfLadder(*ladder);
  if (const auto* door = std::get_if<Door>(&form)) return faultOfDoor(*door);
  return {};
}

Id makePlaced(Rig& rig, const Form& form, const std::string& name, const Standing& standing) {
  if (const std::string fault = faultOf(form); !fault.empty()) throw std::invalid_argument(fault);
  if (name.empty()) throw std::invalid_argument("it needs a name");
  const Id holder = standing.holder.value_or(kNone);
  if (holder != kNone && !rig.part(holder)) throw std::invalid_argument(fmt::format("there is no part {}", holder));
  if (!standing.pose.position.allFinite()) throw std::invalid_argument("it must stand at a finite place");
  Builder builder(rig, form, name, standing.pose);
  if (const auto* ring = std::get_if<Ring>(&form))
    buildRing(builder, *ring, standing.holder);
  else if (const auto* ladder = std::get_if<Ladder>(&form))
    buildLadder(builder, *ladder, holder);
  else
    buildDoor(builder, std::get<Door>(form), standing.holder);
  return builder.group();
}

Standing standingOf(const Rig& rig, Id id) {
  const Group* group = rig.group(id);
  if (!group) throw std::invalid_argument(fmt::format("there is no group with id {}", id));
  Rig alone;
  makePlaced(alone, group->form, "kit", {});
  Standing standing;
  // The part by which the kit stands is its first: nothing moves it when others are moved by hand.
  for (const Part& kits : alone.parts) {
    const auto mine = std::find_if(rig.parts.begin(), rig.parts.end(),
                                   [&](const Part& p) { return p.group == id && p.slot == kits.slot; });
    if (mine == rig.parts.end()) continue;
    standing.pose = mine->pose * kits.pose.inverse();
    break;
  }
  for (const Joint& j : rig.joints) {
    if (j.group != id || (j.a.part != kNone && rig.part(j.a.part)->group == id)) continue;
    standing.holder = j.a.part;
    break;
  }
  return standing;
}

void remakeKit(Rig& rig, Id id, const Form& form) {
  if (const auto* line = std::get_if<Line>(&form)) {
    LineChoices choices = choicesOf(rig, id);
    static_cast<Line&>(choices) = *line;
    return remakeLine(rig, id, choices);
  }
  const Standing standing = standingOf(rig, id);
  const Group before = *rig.group(id);
  const auto maker = [&](const Form& f) {
    return [&, f](Rig& bare) { return makePlaced(bare, f, before.name, standing); };
  };
  remake(rig, id, maker(before.form), maker(form), false);
}

}  // namespace calm::rig
