// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/format/format.h"

namespace calm::rig {

Stage readStage(const Node& n) {
  n.object({"gravity_m_s2", "frame_rate_Hz", "substeps", "duration_s", "ground", "sleep_after_s", "separation_budget_m",
            "layers_apart", "material_pairs"});
  Stage s;
  n.maybe("gravity_m_s2", s.gravity);
  n.maybe("frame_rate_Hz", s.frameRate);
  n.maybe("substeps", s.substeps, &Node::integer);
  n.maybe("duration_s", s.duration);
  n.maybe("sleep_after_s", s.sleepAfter);
  n.maybe("separation_budget_m", s.separationBudget);
  if (n.has("layers_apart"))
    for (const Node& pair : n.at("layers_apart").list()) {
      const std::vector<Node> names = pair.list();
      if (names.size() != 2) pair.fail(fmt::format("expected two layers, found {}", names.size()));
      s.layersApart.emplace_back(names[0].text(), names[1].text());
    }
  if (n.has("material_pairs"))
    for (const Node& pair : n.at("material_pairs").list()) {
      pair.object({"a", "b", "friction", "restitution"});
      MaterialPair m;
      m.a = pair.at("a").text();
      m.b = pair.at("b").text();
      pair.maybe("friction", m.friction);
      pair.maybe("restitution", m.restitution);
      s.materialPairs.push_back(m);
    }
  if (!n.has("ground")) {
    s.groundHeight.reset();
    return s;
  }
  const Node ground = n.at("ground");
  ground.object({"height_m", "friction", "restitution", "material", "layer"});
  s.groundHeight = 0;
  ground.maybe("height_m", *s.groundHeight);
  ground.maybe("friction", s.groundFriction);
  ground.maybe("restitution", s.groundRestitution);
  ground.maybe("material", s.groundMaterial, &Node::text);
  ground.maybe("layer", s.groundLayer, &Node::text);
  return s;
}

Json writeStage(const Stage& s) {
  Json json{{"gravity_m_s2", list(s.gravity)},
            {"frame_rate_Hz", s.frameRate},
            {"substeps", s.substeps},
            {"duration_s", s.duration}};
  if (s.sleepAfter > 0) json["sleep_after_s"] = s.sleepAfter;
  if (s.separationBudget > 0) json["separation_budget_m"] = s.separationBudget;
  for (const auto& [a, b] : s.layersApart) json["layers_apart"].push_back({a, b});
  for (const MaterialPair& m : s.materialPairs)
    json["material_pairs"].push_back(
        {{"a", m.a}, {"b", m.b}, {"friction", m.friction}, {"restitution", m.restitution}});
  json["ground"] = nullptr;
  if (s.groundHeight) {
    json["ground"] = {{"height_m", *s.groundHeight}, {"friction", s.groundFriction}};
    if (s.groundRestitution > 0) json["ground"]["restitution"] = s.groundRestitution;
    if (!s.groundMaterial.empty()) json["ground"]["material"] = s.groundMaterial;
    if (!s.groundLayer.empty()) json["ground"]["layer"] = s.groundLayer;
  }
  return json;
}

Field readField(const Node& n, const PartIndex& index) {
  n.object({"type", "velocity_m_s", "linear_N_s_m", "quadratic_N_s2_m2", "centre_m", "strength_m_s2", "falloff",
            "core_m", "parts"});
  Field field;
  const std::string type = n.at("type").text();
  if (type == "wind") {
    Wind wind;
    n.maybe("velocity_m_s", wind.velocity);
    n.maybe("linear_N_s_m", wind.linear);
    n.maybe("quadratic_N_s2_m2", wind.quadratic);
    field.law = wind;
  } else if (type == "attraction") {
    Attraction a;
    n.maybe("centre_m", a.center);
    a.strength = n.at("strength_m_s2").number();
    n.maybe("falloff", a.falloff);
    n.maybe("core_m", a.core);
    field.law = a;
  } else {
    n.at("type").fail(fmt::format("unknown field \"{}\"; known are wind, attraction", type));
  }
  if (n.has("parts"))
    for (const Node& part : n.at("parts").list()) field.parts.push_back(index.read(part));
  if (const std::string fault = calm::faultOf(calm::Field{field.law, {}}); !fault.empty()) n.fail(fault);
  return field;
}

Json writeField(const Field& f) {
  Json json;
  if (const auto* wind = std::get_if<Wind>(&f.law)) {
    json = {{"type", "wind"},
            {"velocity_m_s", list(wind->velocity)},
            {"linear_N_s_m", wind->linear},
            {"quadratic_N_s2_m2", wind->quadratic}};
  } else {
    const Attraction& a = std::get<Attraction>(f.law);
    json = {{"type", "attraction"},
            {"centre_m", list(a.center)},
            {"strength_m_s2", a.strength},
            {"falloff", a.falloff},
            {"core_m", a.core}};
  }
  if (!f.parts.empty()) json["parts"] = f.parts;
  return json;
}

}  // namespace calm::rig
