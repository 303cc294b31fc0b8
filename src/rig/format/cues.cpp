// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/format/format.h"

namespace calm::rig {

namespace {

constexpr std::array kCueWords = {std::pair{Cue::Act::impulse, "impulse"}, std::pair{Cue::Act::role, "role"},
                                  std::pair{Cue::Act::arm, "arm"},         std::pair{Cue::Act::disarm, "disarm"},
                                  std::pair{Cue::Act::cut, "cut"},         std::pair{Cue::Act::axis, "axis"},
                                  std::pair{Cue::Act::gravity, "gravity"}};

}  // namespace

Id readJointId(const Node& n, const Rig& rig) {
  Id found = kNone;
  for (const Joint& j : rig.joints) {
    const bool meant = n.json().is_string() ? j.name == n.json().get<std::string>() : j.id == n.integer();
    if (!meant) continue;
    if (found != kNone) n.fail(fmt::format("several joints are named {}; use the id", n.json().dump()));
    found = j.id;
  }
  if (found == kNone) n.fail(fmt::format("there is no joint {}", n.json().dump()));
  return found;
}

Cue readCue(const Node& n, const Rig& rig, const PartIndex& index) {
  n.object({"at_s", "when_parted", "do", "part", "joint", "role", "impulse_N_s", "at_m", "axis", "settings",
            "gravity_m_s2"});
  Cue cue;
  cue.act = n.at("do").word(kCueWords, "cue");
  if (n.has("at_s") == n.has("when_parted")) n.fail("give either at_s or when_parted");
  n.maybe("at_s", cue.at);
  if (n.has("when_parted")) cue.whenParted = readJointId(n.at("when_parted"), rig);
  switch (cue.act) {
    case Cue::Act::impulse:
      cue.part = index.read(n.at("part"));
      cue.vector = n.at("impulse_N_s").vector();
      n.maybe("at_m", cue.point);
      break;
    case Cue::Act::role:
      cue.part = index.read(n.at("part"));
      cue.role = n.at("role").word(kRoleWords, "role");
      break;
    case Cue::Act::arm:
    case Cue::Act::disarm:
    case Cue::Act::cut:
      cue.joint = readJointId(n.at("joint"), rig);
      break;
    case Cue::Act::axis: {
      cue.joint = readJointId(n.at("joint"), rig);
      cue.axisNumber = n.at("axis").integer() - 1;
      const Joint& j = *rig.joint(cue.joint);
      const int count = axesOf(j.type).all();
      if (cue.axisNumber < 0 || cue.axisNumber >= count)
        n.at("axis").fail(fmt::format("\"{}\" has axes 1 to {}", j.name, count));
      // What is not given stays as the joint has it.
      cue.axis = j.axes[static_cast<std::size_t>(cue.axisNumber)];
      n.at("settings").object(kAxisKeys);
      readAxis(n.at("settings"), cue.axis);
      break;
    }
    case Cue::Act::gravity:
      cue.vector = n.at("gravity_m_s2").vector();
      break;
  }
  return cue;
}

Json writeCue(const Cue& cue, const Rig& rig) {
  Json json;
  if (cue.whenParted != kNone)
    json["when_parted"] = cue.whenParted;
  else
    json["at_s"] = cue.at;
  for (const auto& [act, w] : kCueWords)
    if (act == cue.act) json["do"] = w;
  if (cue.part != kNone) json["part"] = cue.part;
  if (cue.joint != kNone) json["joint"] = cue.joint;
  switch (cue.act) {
    case Cue::Act::impulse:
      json["impulse_N_s"] = list(cue.vector);
      json["at_m"] = list(cue.point);
      break;
    case Cue::Act::role:
      json["role"] = word(cue.role);
      break;
    case Cue::Act::axis:
      json["axis"] = cue.axisNumber + 1;
      json["settings"] = writeAxis(cue.axis, rig.joint(cue.joint)->axes[static_cast<std::size_t>(cue.axisNumber)]);
      break;
    case Cue::Act::gravity:
      json["gravity_m_s2"] = list(cue.vector);
      break;
    default:
      break;
  }
  return json;
}

}  // namespace calm::rig
