// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/format/format.h"

namespace calm::rig {

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

Reading readReading(const Node& n, const Rig& rig) {
  const std::string text = n.text();
  const auto found = readingFrom(text, rig);
  if (!found) n.fail(fmt::format("\"{}\" is no reading of this rig, as \"force of NAME\" is", text));
  return *found;
}

namespace {

using Act = Cue::Act;

Trigger readTrigger(const Node& n, const Rig& rig, const PartIndex& index) {
  Trigger t;
  if (n.has("at_s") + n.has("when_parted") + n.has("when") != 1) n.fail("give one of at_s, when_parted and when");
  n.maybe("at_s", t.at);
  n.maybe("delay_s", t.delay);
  if (n.has("when_parted")) {
    t.kind = Trigger::Kind::parted;
    t.of = readJointId(n.at("when_parted"), rig);
  }
  if (!n.has("when")) return t;
  const Node when = n.at("when");
  when.object({"reading", "above", "below", "touch", "by"});
  if (when.has("touch")) {
    t.kind = Trigger::Kind::touch;
    t.of = index.read(when.at("touch"));
    if (when.has("by")) t.other = index.read(when.at("by"));
    return t;
  }
  if (when.has("above") == when.has("below")) when.fail("give either above or below");
  t.kind = when.has("above") ? Trigger::Kind::above : Trigger::Kind::below;
  t.value = when.at(when.has("above") ? "above" : "below").number();
  t.reading = readReading(when.at("reading"), rig);
  return t;
}

void writeTrigger(const Trigger& t, const Rig& rig, Json& json) {
  switch (t.kind) {
    case Trigger::Kind::time:
      json["at_s"] = t.at;
      break;
    case Trigger::Kind::parted:
      json["when_parted"] = t.of;
      break;
    case Trigger::Kind::above:
    case Trigger::Kind::below:
      json["when"] = {{"reading", textOf(t.reading, rig)},
                      {t.kind == Trigger::Kind::above ? "above" : "below", t.value}};
      break;
    case Trigger::Kind::touch:
      json["when"] = {{"touch", t.of}};
      if (t.other != kNone) json["when"]["by"] = t.other;
      break;
  }
  if (t.delay > 0) json["delay_s"] = t.delay;
}

void readTrack(const Node& n, Cue& cue) {
  for (const Node& point : n.at("track").list()) {
    point.object({"s", "at_m"});
    cue.track.push_back({point.at("s").number(), point.at("at_m").vector()});
  }
}

Json writeTrack(const Cue& cue) {
  Json track = Json::array();
  for (const Cue::Hand& h : cue.track) track.push_back({{"s", h.time}, {"at_m", list(h.at)}});
  return track;
}

// The key that holds the cue's vector.
const char* vectorKey(Act act) {
  switch (act) {
    case Act::impulse:
      return "impulse_N_s";
    case Act::push:
      return "force_N";
    case Act::gust:
      return "wind_m_s";
    case Act::ball:
      return "velocity_m_s";
    case Act::gravity:
      return "gravity_m_s2";
    default:
      return nullptr;
  }
}

}  // namespace

Cue readCue(const Node& n, const Rig& rig, const PartIndex& index) {
  n.object({"id",           "at_s",  "when_parted", "when",        "delay_s",  "do",       "part",
            "joint",        "parts", "role",        "impulse_N_s", "force_N",  "wind_m_s", "velocity_m_s",
            "gravity_m_s2", "at_m",  "lasts_s",     "axis",        "settings", "field",    "share",
            "drag_N_s2_m2", "track", "cap_N",       "radius_m",    "mass_kg"});
  Cue cue;
  if (n.has("id")) cue.id = n.at("id").integer();
  cue.act = n.at("do").word(kCueWords, "cue");
  cue.when = readTrigger(n, rig, index);
  n.maybe("lasts_s", cue.lasts);
  n.maybe("at_m", cue.point);
  n.maybe("cap_N", cue.cap);
  n.maybe("radius_m", cue.radius);
  n.maybe("mass_kg", cue.mass);
  n.maybe("drag_N_s2_m2", cue.drag);
  if (const char* key = vectorKey(cue.act)) cue.vector = n.at(key).vector();
  switch (cue.act) {
    case Act::impulse:
    case Act::push:
    case Act::pull:
    case Act::role:
      cue.part = index.read(n.at("part"));
      break;
    case Act::arm:
    case Act::disarm:
    case Act::cut:
    case Act::make:
    case Act::axis:
      cue.joint = readJointId(n.at("joint"), rig);
      break;
    case Act::gust:
      if (n.has("parts"))
        for (const Node& part : n.at("parts").list()) cue.parts.push_back(index.read(part));
      break;
    case Act::field:
      cue.field = n.at("field").integer() - 1;
      cue.share = n.at("share").number();
      break;
    default:
      break;
  }
  if (cue.act == Act::role) cue.role = n.at("role").word(kRoleWords, "role");
  if (cue.act == Act::pull || cue.act == Act::probe) readTrack(n, cue);
  if (cue.act == Act::axis) {
    cue.axisNumber = n.at("axis").integer() - 1;
    const Joint& j = *rig.joint(cue.joint);
    const int count = axesOf(j.type).all();
    if (cue.axisNumber < 0 || cue.axisNumber >= count)
      n.at("axis").fail(fmt::format("\"{}\" has axes 1 to {}", j.name, count));
    cue.axis = readAxisChange(n.at("settings"), j.axes[static_cast<std::size_t>(cue.axisNumber)]);
  }
  return cue;
}

Json writeCue(const Cue& cue, const Rig& rig) {
  const Cue standard;
  Json json{{"id", cue.id}, {"do", word(cue.act)}};
  writeTrigger(cue.when, rig, json);
  if (const char* key = vectorKey(cue.act)) json[key] = list(cue.vector);
  if (cue.part != kNone) json["part"] = cue.part;
  if (cue.joint != kNone) json["joint"] = cue.joint;
  if (!cue.parts.empty()) json["parts"] = cue.parts;
  if (cue.lasts > 0) json["lasts_s"] = cue.lasts;
  if (!cue.point.isZero(0)) json["at_m"] = list(cue.point);
  if (cue.drag > 0) json["drag_N_s2_m2"] = cue.drag;
  if (cue.act == Act::role) json["role"] = word(cue.role);
  if (cue.act == Act::field) json["field"] = cue.field + 1, json["share"] = cue.share;
  if (!cue.track.empty()) json["track"] = writeTrack(cue);
  if (cue.cap != standard.cap) json["cap_N"] = cue.cap;
  if (cue.radius != standard.radius) json["radius_m"] = cue.radius;
  if (cue.mass != standard.mass) json["mass_kg"] = cue.mass;
  if (cue.act == Act::axis) {
    json["axis"] = cue.axisNumber + 1;
    json["settings"] = writeAxisChange(cue.axis);
  }
  return json;
}

}  // namespace calm::rig
