// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/format/format.h"

namespace calm::rig {

namespace {

constexpr const char* kAxisNames[] = {"x", "y", "z"};

// A list of some of "x", "y", "z".
std::array<bool, 3> readAxisSet(const Node& n) {
  std::array<bool, 3> set{};
  for (const Node& entry : n.list()) {
    const std::string name = entry.text();
    const auto* const found = std::find(std::begin(kAxisNames), std::end(kAxisNames), name);
    if (found == std::end(kAxisNames)) entry.fail(fmt::format("expected \"x\", \"y\" or \"z\", found \"{}\"", name));
    set[static_cast<std::size_t>(found - std::begin(kAxisNames))] = true;
  }
  return set;
}

Json writeAxisSet(const std::array<bool, 3>& set) {
  Json json = Json::array();
  for (std::size_t i = 0; i < 3; ++i)
    if (set[i]) json.push_back(kAxisNames[i]);
  return json;
}

// Three moments, or the whole tensor as three rows.
Mat3 readInertia(const Node& n) {
  const std::vector<Node> rows = n.list();
  if (rows.size() == 3 && rows[0].json().is_array()) {
    Mat3 tensor;
    for (int i = 0; i < 3; ++i) tensor.row(i) = rows[static_cast<std::size_t>(i)].vector();
    if ((tensor - tensor.transpose()).cwiseAbs().maxCoeff() > 1e-9 * tensor.cwiseAbs().maxCoeff())
      n.fail("an inertia tensor must be symmetric");
    return (tensor + tensor.transpose()) / 2;
  }
  return n.vector().asDiagonal();
}

Json writeInertia(const Mat3& m) {
  if (m.isDiagonal(0)) return list(Vec3(m.diagonal()));
  return Json::array({list(Vec3(m.row(0))), list(Vec3(m.row(1))), list(Vec3(m.row(2)))});
}

Motion readMotion(const Node& n, const Pose& rest) {
  n.object({"keys", "smooth", "repeats", "waves"});
  Motion motion;
  n.maybe("smooth", motion.smooth, &Node::boolean);
  n.maybe("repeats", motion.repeats, &Node::boolean);
  if (n.has("keys"))
    for (const Node& k : n.at("keys").list()) {
      k.object({"at_s", "position_m", "orientation_wxyz"});
      Motion::Key key{k.at("at_s").number(), rest};
      k.maybe("position_m", key.pose.position);
      k.maybe("orientation_wxyz", key.pose.rotation, &Node::orientation);
      motion.keys.push_back(key);
    }
  else
    motion.keys.push_back({0, rest});
  if (n.has("waves"))
    for (const Node& w : n.at("waves").list()) {
      w.object({"along", "about", "amplitude", "frequency_Hz", "phase_rad"});
      if (w.has("along") == w.has("about")) w.fail("give either along or about");
      Motion::Wave wave;
      wave.turns = w.has("about");
      wave.direction = w.at(wave.turns ? "about" : "along").direction();
      wave.amplitude = w.at("amplitude").number();
      wave.frequency = w.at("frequency_Hz").number();
      w.maybe("phase_rad", wave.phase);
      motion.waves.push_back(wave);
    }
  if (const std::string fault = calm::faultOf(motion); !fault.empty()) n.fail(fault);
  return motion;
}

Json writeMotion(const Motion& m) {
  Json json{{"smooth", m.smooth}, {"repeats", m.repeats}, {"keys", Json::array()}};
  for (const Motion::Key& k : m.keys)
    json["keys"].push_back(
        {{"at_s", k.time}, {"position_m", list(k.pose.position)}, {"orientation_wxyz", list(k.pose.rotation)}});
  if (!m.waves.empty()) json["waves"] = Json::array();
  for (const Motion::Wave& w : m.waves)
    json["waves"].push_back({{w.turns ? "about" : "along", list(w.direction)},
                             {"amplitude", w.amplitude},
                             {"frequency_Hz", w.frequency},
                             {"phase_rad", w.phase}});
  return json;
}

Push readPush(const Node& n) {
  n.object({"at_m", "force_N", "torque_Nm", "follows", "from_s", "until_s"});
  Push p;
  n.maybe("at_m", p.at);
  n.maybe("force_N", p.force);
  n.maybe("torque_Nm", p.torque);
  n.maybe("follows", p.follows, &Node::boolean);
  n.maybe("from_s", p.from);
  n.maybe("until_s", p.until);
  return p;
}

Json writePush(const Push& p) {
  Json json{{"at_m", list(p.at)}};
  if (!p.force.isZero(0)) json["force_N"] = list(p.force);
  if (!p.torque.isZero(0)) json["torque_Nm"] = list(p.torque);
  if (p.follows) json["follows"] = true;
  if (p.from > 0) json["from_s"] = p.from;
  if (p.until < Push{}.until) json["until_s"] = p.until;
  return json;
}

}  // namespace

Part readPart(const Node& n) {
  n.object({"id",
            "name",
            "role",
            "shape",
            "position_m",
            "orientation_wxyz",
            "mass_kg",
            "density_kg_m3",
            "velocity_m_s",
            "angular_velocity_rad_s",
            "force_N",
            "torque_Nm",
            "pushes",
            "inertia_kg_m2",
            "centre_of_mass_m",
            "gravity_scale",
            "collides",
            "layer",
            "material",
            "friction",
            "restitution",
            "linear_damping_1_s",
            "angular_damping_1_s",
            "motion",
            "locked_travel",
            "locked_turn",
            "group",
            "slot",
            "tags"});
  Part p;
  p.id = n.at("id").integer();
  p.name = n.at("name").text();
  if (n.has("role")) p.role = n.at("role").word(kRoleWords, "role");
  p.shape = readShape(n.at("shape"));
  n.maybe("position_m", p.pose.position);
  n.maybe("orientation_wxyz", p.pose.rotation, &Node::orientation);
  if (n.has("mass_kg") && n.has("density_kg_m3")) n.fail("mass_kg and density_kg_m3 contradict; give one of them");
  if (n.has("mass_kg")) p.heft = Mass{n.at("mass_kg").number()};
  if (n.has("density_kg_m3")) p.heft = Density{n.at("density_kg_m3").number()};
  n.maybe("velocity_m_s", p.velocity);
  n.maybe("angular_velocity_rad_s", p.angularVelocity);
  n.maybe("force_N", p.force);
  n.maybe("torque_Nm", p.torque);
  if (n.has("pushes"))
    for (const Node& push : n.at("pushes").list()) p.pushes.push_back(readPush(push));
  if (n.has("inertia_kg_m2")) p.inertia = readInertia(n.at("inertia_kg_m2"));
  if (n.has("centre_of_mass_m")) p.center = n.at("centre_of_mass_m").vector();
  n.maybe("gravity_scale", p.gravityScale);
  n.maybe("collides", p.collides, &Node::boolean);
  n.maybe("layer", p.layer, &Node::text);
  n.maybe("material", p.material, &Node::text);
  n.maybe("friction", p.friction);
  n.maybe("restitution", p.restitution);
  n.maybe("linear_damping_1_s", p.linearDamping);
  n.maybe("angular_damping_1_s", p.angularDamping);
  if (n.has("motion")) p.motion = readMotion(n.at("motion"), p.pose);
  if (n.has("locked_travel")) p.lockedTravel = readAxisSet(n.at("locked_travel"));
  if (n.has("locked_turn")) p.lockedTurn = readAxisSet(n.at("locked_turn"));
  n.maybe("group", p.group, &Node::integer);
  n.maybe("slot", p.slot, &Node::text);
  if (n.has("tags")) p.tags = readTags(n.at("tags"));
  return p;
}

Json writePart(const Part& p) {
  const Part standard;
  Json j{{"id", p.id},
         {"name", p.name},
         {"role", word(p.role)},
         {"shape", writeShape(p.shape)},
         {"position_m", list(p.pose.position)},
         {"orientation_wxyz", list(p.pose.rotation)}};
  if (const auto* m = std::get_if<Mass>(&p.heft))
    j["mass_kg"] = m->mass;
  else
    j["density_kg_m3"] = std::get<Density>(p.heft).density;
  if (!p.velocity.isZero(0)) j["velocity_m_s"] = list(p.velocity);
  if (!p.angularVelocity.isZero(0)) j["angular_velocity_rad_s"] = list(p.angularVelocity);
  j["friction"] = p.friction;
  if (p.restitution != standard.restitution) j["restitution"] = p.restitution;
  if (p.linearDamping != standard.linearDamping) j["linear_damping_1_s"] = p.linearDamping;
  if (p.angularDamping != standard.angularDamping) j["angular_damping_1_s"] = p.angularDamping;
  if (p.gravityScale != standard.gravityScale) j["gravity_scale"] = p.gravityScale;
  if (!p.collides) j["collides"] = false;
  if (!p.layer.empty()) j["layer"] = p.layer;
  if (!p.material.empty()) j["material"] = p.material;
  if (!p.force.isZero(0)) j["force_N"] = list(p.force);
  if (!p.torque.isZero(0)) j["torque_Nm"] = list(p.torque);
  for (const Push& push : p.pushes) j["pushes"].push_back(writePush(push));
  if (p.inertia) j["inertia_kg_m2"] = writeInertia(*p.inertia);
  if (p.center) j["centre_of_mass_m"] = list(*p.center);
  if (p.motion) j["motion"] = writeMotion(*p.motion);
  if (p.lockedTravel != standard.lockedTravel) j["locked_travel"] = writeAxisSet(p.lockedTravel);
  if (p.lockedTurn != standard.lockedTurn) j["locked_turn"] = writeAxisSet(p.lockedTurn);
  if (p.group != kNone) j["group"] = p.group;
  if (!p.slot.empty()) j["slot"] = p.slot;
  if (!p.tags.empty()) j["tags"] = p.tags;
  return j;
}

}  // namespace calm::rig
