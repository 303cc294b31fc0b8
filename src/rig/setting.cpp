// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/setting.h"

#include <cmath>
#include <stdexcept>

#include "rig/kits/placed.h"

namespace calm::rig {

namespace {

Setting ofPart(const char* word, Dimension dimension, Id id, double Part::*member) {
  return {word, dimension, [=](const Rig& r) { return std::optional(r.part(id)->*member); },
          [=](Rig& r, double v) { r.part(id)->*member = v; }};
}

Setting ofJoint(const char* word, Dimension dimension, Id id, std::optional<double> Joint::*member) {
  return {word, dimension, [=](const Rig& r) { return r.joint(id)->*member; },
          [=](Rig& r, double v) { r.joint(id)->*member = v; }};
}

std::vector<Setting> ofPartAll(Id id) {
  std::vector<Setting> list{
      {"mass", Dimension::mass, [=](const Rig& r) { return std::optional(r.part(id)->mass()); },
       [=](Rig& r, double v) {
         Part& p = *r.part(id);
         if (p.inertia) *p.inertia *= v / p.mass();
         p.heft = Mass{v};
       }},
      ofPart("friction", Dimension::number, id, &Part::friction),
      ofPart("rebound", Dimension::number, id, &Part::restitution),
      ofPart("damping", Dimension::number, id, &Part::linearDamping),
      ofPart("turning damping", Dimension::number, id, &Part::angularDamping),
  };
  constexpr const char* kStart[] = {"start speed x", "start speed y", "start speed z"};
  for (int k = 0; k < 3; ++k)
    list.push_back({kStart[k], Dimension::speed, [=](const Rig& r) { return std::optional(r.part(id)->velocity[k]); },
                    [=](Rig& r, double v) { r.part(id)->velocity[k] = v; }});
  return list;
}

std::vector<Setting> ofJointAll(const Joint& joint) {
  const Id id = joint.id;
  std::vector<Setting> list{ofJoint("break force", Dimension::force, id, &Joint::breakForce),
                            ofJoint("break torque", Dimension::torque, id, &Joint::breakTorque)};
  const int count = axesOf(joint.type).all();
  for (int k = 0; k < count; ++k) {
    const std::string word = axisWord(joint.type, k);
    if (word.empty()) continue;
    int alike = 0;
    for (int i = 0; i < count; ++i) alike += axisWord(joint.type, i) == word;
    const std::string axis = alike > 1 ? word + " " + std::to_string(k + 1) : word;
    const bool turns = axisTurns(joint.type, k);
    const auto add = [&](const char* what, double AxisDef::*member, Dimension travel, Dimension turn) {
      list.push_back({axis + " " + what, turns ? turn : travel,
                      [=](const Rig& r) {
                        const double v = r.joint(id)->axes[k].*member;
                        return std::isfinite(v) ? std::optional(v) : std::nullopt;
                      },
                      [=](Rig& r, double v) { r.joint(id)->axes[k].*member = v; }});
    };
    add("low stop", &AxisDef::low, Dimension::length, Dimension::angle);
    add("high stop", &AxisDef::high, Dimension::length, Dimension::angle);
    add("motor speed", &AxisDef::speed, Dimension::speed, Dimension::turnRate);
    add("motor strength", &AxisDef::cap, Dimension::force, Dimension::torque);
    if (joint.type != JointType::winch) add("friction", &AxisDef::friction, Dimension::force, Dimension::torque);
    add("stiffness", &AxisDef::stiffness, Dimension::stiffness, Dimension::turnStiffness);
    add("damping", &AxisDef::damping, Dimension::damping, Dimension::turnDamping);
    add("target", &AxisDef::target, Dimension::length, Dimension::angle);
    add("frequency", &AxisDef::frequency, Dimension::frequency, Dimension::frequency);
    add("damping ratio", &AxisDef::dampingRatio, Dimension::number, Dimension::number);
  }
  return list;
}

std::string lower(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

std::vector<Setting> ofGroup(const Group& group) {
  std::vector<Setting> list;
  const Id id = group.id;
  visitForm(group.form, [&](const char* key, const char* words, Dimension dimension, const auto&) {
    const std::string name = key;
    list.push_back({lower(words), dimension,
                    [=](const Rig& r) {
                      std::optional<double> value;
                      visitForm(r.group(id)->form, [&](const char* k, const char*, Dimension, const auto& v) {
                        if (name == k) value = static_cast<double>(v);
                      });
                      return value;
                    },
                    [=](Rig& r, double to) {
                      Form form = r.group(id)->form;
                      visitForm(form, [&](const char* k, const char*, Dimension, auto& v) {
                        using Value = std::decay_t<decltype(v)>;
                        if (name == k) v = static_cast<Value>(std::is_integral_v<Value> ? std::lround(to) : to);
                      });
                      remakeKit(r, id, form);
                    }});
  });
  return list;
}

std::vector<Setting> ofStage() {
  const auto plain = [](const char* name, Dimension dimension, double Stage::*member) {
    return Setting{name, dimension, [=](const Rig& r) { return std::optional(r.stage.*member); },
                   [=](Rig& r, double v) { r.stage.*member = v; }};
  };
  return {{"substeps", Dimension::number, [](const Rig& r) { return std::optional<double>(r.stage.substeps); },
           [](Rig& r, double v) {
             if (!(v >= 1 && v <= 10000)) throw std::invalid_argument("substeps lie in 1 to 10000");
             r.stage.substeps = static_cast<int>(std::lround(v));
           }},
          plain("frame rate", Dimension::frequency, &Stage::frameRate),
          plain("ground friction", Dimension::number, &Stage::groundFriction)};
}

}  // namespace

std::vector<Setting> settingsOf(const Rig& rig, Id id) {
  if (id == kNone) return ofStage();
  std::vector<Setting> list;
  std::string name = rig.partName(id);
  if (const Joint* joint = rig.joint(id))
    list = ofJointAll(*joint), name = joint->name;
  else if (const Group* group = rig.group(id))
    list = ofGroup(*group), name = group->name;
  else if (rig.part(id))
    list = ofPartAll(id);
  for (Setting& s : list) s.name += " of " + name;
  return list;
}

std::optional<Setting> settingNamed(const std::string& name, const Rig& rig) {
  for (Setting& s : ofStage())
    if (s.name == name) return s;
  const std::string every = " of *";
  const bool all = name.size() > every.size() && name.ends_with(every);
  const auto among = [&](const auto& items) -> std::optional<Setting> {
    std::vector<Setting> found;
    for (const auto& item : items) {
      const std::string wanted = all ? name.substr(0, name.size() - 1) + item.name : name;
      if (!wanted.ends_with(" of " + item.name)) continue;
      for (Setting& s : settingsOf(rig, item.id))
        if (s.name == wanted) found.push_back(std::move(s));
    }
    if (found.empty()) return std::nullopt;
    if (!all) return found[0];
    Setting together = found[0];
    together.name = name;
    together.set = [found](Rig& r, double v) {
      for (const Setting& s : found) s.set(r, v);
    };
    return together;
  };
  if (const auto found = among(rig.joints)) return found;
  if (const auto found = among(rig.parts)) return found;
  return among(rig.groups);
}

}  // namespace calm::rig
