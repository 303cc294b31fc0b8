// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/reading.h"

#include <algorithm>
#include <array>

#include "rig/model.h"

namespace calm::rig {

namespace {

using What = Reading::What;

constexpr std::array kWholeWords = {std::pair{What::energy, "energy"}, std::pair{What::farthest, "largest separation"},
                                    std::pair{What::fastest, "fastest part"}};
constexpr std::array kJointReadings = {std::pair{What::force, "force"}, std::pair{What::torque, "torque"},
                                       std::pair{What::separation, "separation"},
                                       std::pair{What::misalignment, "misalignment"}};
constexpr std::array kPartReadings = {std::pair{What::speed, "speed"}, std::pair{What::turnRate, "turn rate"},
                                      std::pair{What::x, "x"},         std::pair{What::y, "y"},
                                      std::pair{What::z, "z"},         std::pair{What::touch, "touch"}};

bool isOfAxis(What what) {
  return what == What::position || what == What::rate || what == What::effort;
}

// "turn", or "travel 2" where several axes of the type bear the word.
std::string axisName(JointType type, int k) {
  const std::string word = axisWord(type, k);
  int alike = 0;
  for (int i = 0; i < axesOf(type).all(); ++i) alike += axisWord(type, i) == word;
  return alike > 1 ? word + " " + std::to_string(k + 1) : word;
}

std::string axisText(What what, const std::string& axis) {
  return what == What::position ? axis : axis + (what == What::rate ? " rate" : " effort");
}

// The words before "of NAME".
std::string wordsOf(const Reading& r, const Rig& rig) {
  if (r.what == What::distance) return "distance to " + rig.partName(r.other);
  for (const auto& list : {kJointReadings}) {
    for (const auto& [what, word] : list)
      if (what == r.what) return word;
  }
  for (const auto& [what, word] : kPartReadings)
    if (what == r.what) return word;
  for (const auto& [what, word] : kWholeWords)
    if (what == r.what) return word;
  const Joint* joint = rig.joint(r.of);
  return joint ? axisText(r.what, axisName(joint->type, r.axis)) : std::string("axis");
}

}  // namespace

std::string textOf(const Reading& r, const Rig& rig) {
  const std::string words = wordsOf(r, rig);
  if (r.of == kNone) return words;
  const Joint* joint = rig.joint(r.of);
  return words + " of " + (joint ? joint->name : rig.partName(r.of));
}

std::vector<Reading> readingsOf(int id, const Rig& rig, bool distances) {
  std::vector<Reading> list;
  if (id == kNone)
    for (const auto& entry : kWholeWords) list.push_back({entry.first, kNone, 0, kNone});
  if (const Joint* joint = rig.joint(id)) {
    for (const auto& entry : kJointReadings) list.push_back({entry.first, id, 0, kNone});
    for (int k = 0; k < axesOf(joint->type).all(); ++k) {
      if (!*axisWord(joint->type, k)) continue;
      for (const What what : {What::position, What::rate, What::effort}) list.push_back({what, id, k, kNone});
    }
  }
  if (!rig.part(id)) return list;
  for (const auto& entry : kPartReadings) list.push_back({entry.first, id, 0, kNone});
  for (const Part& other : rig.parts)
    if (distances && other.id != id) list.push_back({What::distance, id, 0, other.id});
  return list;
}

bool isMissing(const Reading& r, const Rig& rig) {
  const auto known = [&](Id id) { return id == kNone || rig.part(id) || rig.joint(id); };
  return !known(r.of) || !known(r.other);
}

std::optional<Reading> readingFrom(const std::string& text, const Rig& rig) {
  for (const Reading& r : readingsOf(kNone, rig))
    if (textOf(r, rig) == text) return r;
  const auto among = [&](const auto& items) -> std::optional<Reading> {
    for (const auto& item : items) {
      // Names may hold "of" themselves: what ends with the name is meant.
      const std::string tail = " of " + item.name;
      if (text.size() <= tail.size() || text.compare(text.size() - tail.size(), tail.size(), tail) != 0) continue;
      const bool distances = text.rfind("distance to ", 0) == 0;
      for (const Reading& r : readingsOf(item.id, rig, distances))
        if (textOf(r, rig) == text) return r;
    }
    return std::nullopt;
  };
  if (const auto found = among(rig.joints)) return found;
  return among(rig.parts);
}

Dimension dimensionOf(const Reading& r, const Rig& rig) {
  const Joint* joint = rig.joint(r.of);
  const bool turns = isOfAxis(r.what) && joint && axisTurns(joint->type, r.axis);
  switch (r.what) {
    case What::force:
    case What::touch:
      return Dimension::force;
    case What::torque:
      return Dimension::torque;
    case What::misalignment:
      return Dimension::angle;
    case What::position:
      return turns ? Dimension::angle : Dimension::length;
    case What::rate:
      return turns ? Dimension::turnRate : Dimension::speed;
    case What::effort:
      return turns ? Dimension::torque : Dimension::force;
    case What::speed:
    case What::fastest:
      return Dimension::speed;
    case What::turnRate:
      return Dimension::turnRate;
    case What::energy:
      return Dimension::energy;
    default:
      return Dimension::length;
  }
}

}  // namespace calm::rig
