// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/format/format.h"

namespace calm::rig {

namespace {

// The numbers of an axis by their keys; infinite where the axis says so by default.
const std::array kAxisNumbers = {std::pair{"low", &AxisDef::low},
                                 std::pair{"high", &AxisDef::high},
                                 std::pair{"stop_stiffness", &AxisDef::stopStiffness},
                                 std::pair{"stop_damping", &AxisDef::stopDamping},
                                 std::pair{"restitution", &AxisDef::restitution},
                                 std::pair{"motor_speed", &AxisDef::speed},
                                 std::pair{"motor_cap", &AxisDef::cap},
                                 std::pair{"friction", &AxisDef::friction},
                                 std::pair{"stiffness", &AxisDef::stiffness},
                                 std::pair{"damping", &AxisDef::damping},
                                 std::pair{"target", &AxisDef::target},
                                 std::pair{"spring_cap", &AxisDef::springCap},
                                 std::pair{"frequency_Hz", &AxisDef::frequency},
                                 std::pair{"damping_ratio", &AxisDef::dampingRatio}};
const std::initializer_list<const char*> kAxisKeys = {
    "low",      "high",      "stop_stiffness", "stop_damping", "restitution", "motor_speed",  "motor_cap",
    "friction", "stiffness", "damping",        "target",       "spring_cap",  "frequency_Hz", "damping_ratio"};
constexpr std::array kRouteWords = {std::pair{RouteOn::world, "world"}, std::pair{RouteOn::a, "a"},
                                    std::pair{RouteOn::b, "b"}};

Side readSide(const Node& n, const PartIndex& index) {
  n.object({"part", "at_m", "axis", "across"});
  Side s;
  s.part = index.read(n.at("part"));
  n.maybe("at_m", s.at);
  n.maybe("axis", s.axis, &Node::direction);
  s.across = anyPerpendicular(s.axis);
  n.maybe("across", s.across, &Node::direction);
  if (std::abs(s.axis.dot(s.across)) > 1e-6) n.at("across").fail("must be at right angles to the axis");
  return s;
}

Json writeSide(const Side& s) {
  return {{"part", s.part == kNone ? Json(nullptr) : Json(s.part)},
          {"at_m", list(s.at)},
          {"axis", list(s.axis)},
          {"across", list(s.across)}};
}

// The short form: parts by themselves; pivot, axis and across in the world at rest. Each side may have its own pivot.
void readSidesInWorld(const Node& n, const Rig& rig, const PartIndex& index, Joint& j) {
  const Vec3 axis = n.has("axis") ? n.at("axis").direction() : Vec3::UnitX();
  const Vec3 across = n.has("across") ? n.at("across").direction() : anyPerpendicular(axis);
  if (std::abs(axis.dot(across)) > 1e-6) n.at("across").fail("must be at right angles to the axis");
  const auto side = [&](const char* key, const char* own) {
    if (!n.has(own) && !n.has("pivot_m")) n.fail(fmt::format("needs {} where it has no pivot_m", own));
    return sideAt(rig, index.read(n.at(key)), n.at(n.has(own) ? own : "pivot_m").vector(), axis, across);
  };
  j.a = side("a", "pivot_a_m");
  j.b = side("b", "pivot_b_m");
}

void readAxes(const Node& n, Joint& j) {
  const std::vector<Node> nodes = n.list();
  const std::size_t most = static_cast<std::size_t>(axesOf(j.type).all());
  if (nodes.size() > most) n.fail(fmt::format("a {} joint has {} free axes, not {}", word(j.type), most, nodes.size()));
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    if (nodes[k].json().is_null()) continue;
    readAxis(nodes[k], j.axes[k]);
  }
}

void readRoute(const Node& n, const PartIndex& index, Joint& j) {
  for (const Node& p : n.list()) {
    p.object({"on", "part", "at_m"});
    RoutePoint point;
    if (p.has("part")) {
      if (p.has("on")) p.fail("a point of a route has on or part, not both");
      point.part = index.read(p.at("part"));
      point.on = point.part == j.a.part   ? RouteOn::a
                 : point.part == j.b.part ? RouteOn::b
                 : point.part == kNone    ? RouteOn::world
                                          : RouteOn::part;
      if (point.on != RouteOn::part) point.part = kNone;
    }
    if (p.has("on")) point.on = p.at("on").word(kRouteWords, "place");
    point.at = p.at("at_m").vector();
    j.form.route.push_back(point);
  }
}

// What a type takes from where its parts are at rest, if the file does not say: a spring's length without force.
void completeAtRest(const Node& n, const Rig& rig, Joint& j) {
  if (j.type != JointType::spring) return;
  bool given = false;
  if (n.has("axes"))
    for (const Node& axis : n.at("axes").list()) given |= axis.json().is_object() && axis.has("target");
  if (!given) j.axes[0].target = (restFrame(rig, j.b).position - restFrame(rig, j.a).position).norm();
}

void checkSpring(const Node& n, const AxisDef& axis) {
  if (axis.frequency > 0 && axis.stiffness > 0) n.fail("frequency_Hz and stiffness contradict; give one of them");
  if (axis.frequency > 0 && axis.damping > 0) n.fail("frequency_Hz takes damping_ratio, not damping");
  if (axis.dampingRatio > 0 && !(axis.frequency > 0)) n.fail("damping_ratio needs frequency_Hz");
}

}  // namespace

void readAxis(const Node& n, AxisDef& axis) {
  n.object(kAxisKeys);
  for (const auto& [key, member] : kAxisNumbers) n.maybe(key, axis.*member);
  checkSpring(n, axis);
}

Json writeAxis(const AxisDef& axis) {
  const AxisDef standard;
  Json json = Json::object();
  for (const auto& [key, member] : kAxisNumbers)
    if (axis.*member != standard.*member) json[key] = axis.*member;
  return json;
}

AxisChange readAxisChange(const Node& n, const AxisDef& axis) {
  n.object(kAxisKeys);
  const AxisDef standard;
  AxisChange change;
  for (const auto& [key, member] : kAxisNumbers) {
    const bool none = n.json().contains(key) && std::isinf(standard.*member);
    if (n.has(key))
      change.set(member, n.at(key).number());
    else if (none)
      change.set(member, standard.*member);
  }
  if (axis.frequency > 0 && change.value(&AxisDef::damping) && !change.value(&AxisDef::stiffness))
    n.fail("the axis has a spring by frequency_Hz, which takes damping_ratio; or give a stiffness as well");
  checkSpring(n, change.over(axis));
  return change;
}

Json writeAxisChange(const AxisChange& change) {
  Json json = Json::object();
  for (const auto& [key, member] : kAxisNumbers)
    if (const auto value = change.value(member)) json[key] = std::isfinite(*value) ? Json(*value) : Json();
  return json;
}

Joint readJoint(const Node& n, const Rig& rig, const PartIndex& index) {
  n.object({"id",
            "name",
            "type",
            "a",
            "b",
            "pivot_m",
            "pivot_a_m",
            "pivot_b_m",
            "axis",
            "across",
            "axes",
            "ratio",
            "radius_m",
            "lead_m",
            "cone_rad",
            "route",
            "break_force_N",
            "break_torque_Nm",
            "armed",
            "compliance_m_N",
            "pin_radius_m",
            "neighbours_collide",
            "made",
            "group",
            "slot",
            "tags"});
  Joint j;
  j.id = n.at("id").integer();
  j.name = n.at("name").text();
  j.type = n.at("type").word(kJointWords, "joint type");
  if (n.has("pivot_m") || n.has("pivot_a_m") || n.has("pivot_b_m")) {
    readSidesInWorld(n, rig, index, j);
  } else {
    for (const char* key : {"axis", "across"})
      if (n.has(key)) n.at(key).fail("goes with pivot_m; without it each side has its own");
    j.a = readSide(n.at("a"), index);
    j.b = readSide(n.at("b"), index);
  }
  if (n.has("axes")) readAxes(n.at("axes"), j);
  n.maybe("ratio", j.form.ratio);
  n.maybe("radius_m", j.form.radius);
  n.maybe("lead_m", j.form.lead);
  if (n.has("cone_rad")) {
    const std::vector<double> cone = n.at("cone_rad").numbers();
    if (cone.size() != 2) n.at("cone_rad").fail("expected two angles: about across, and about the third axis");
    j.form.coneY = cone[0], j.form.coneZ = cone[1];
  }
  if (n.has("route")) readRoute(n.at("route"), index, j);
  completeAtRest(n, rig, j);
  if (n.has("break_force_N")) j.breakForce = n.at("break_force_N").number();
  if (n.has("break_torque_Nm")) j.breakTorque = n.at("break_torque_Nm").number();
  n.maybe("armed", j.armed, &Node::boolean);
  n.maybe("compliance_m_N", j.compliance);
  n.maybe("pin_radius_m", j.pinRadius);
  n.maybe("neighbours_collide", j.neighboursCollide, &Node::boolean);
  n.maybe("made", j.made, &Node::boolean);
  n.maybe("group", j.group, &Node::integer);
  n.maybe("slot", j.slot, &Node::text);
  if (n.has("tags")) j.tags = readTags(n.at("tags"));
  return j;
}

Json writeJoint(const Joint& j) {
  const Joint standard;
  Json json{{"id", j.id}, {"name", j.name}, {"type", word(j.type)}, {"a", writeSide(j.a)}, {"b", writeSide(j.b)}};
  Json axes = Json::array();
  bool any = false;
  for (int k = 0; k < axesOf(j.type).all(); ++k) {
    axes.push_back(writeAxis(j.axes[k]));
    any |= !axes.back().empty();
  }
  if (any) json["axes"] = axes;
  if (j.form.ratio != standard.form.ratio) json["ratio"] = j.form.ratio;
  if (j.form.radius != standard.form.radius) json["radius_m"] = j.form.radius;
  if (j.form.lead != standard.form.lead) json["lead_m"] = j.form.lead;
  if (j.form.coneY > 0 || j.form.coneZ > 0) json["cone_rad"] = {j.form.coneY, j.form.coneZ};
  for (const RoutePoint& p : j.form.route) {
    if (p.on == RouteOn::part) {
      json["route"].push_back({{"part", p.part}, {"at_m", list(p.at)}});
      continue;
    }
    const auto* const on =
        std::find_if(kRouteWords.begin(), kRouteWords.end(), [&](const auto& w) { return w.first == p.on; });
    json["route"].push_back({{"on", on->second}, {"at_m", list(p.at)}});
  }
  if (j.breakForce) json["break_force_N"] = *j.breakForce;
  if (j.breakTorque) json["break_torque_Nm"] = *j.breakTorque;
  if (!j.armed) json["armed"] = false;
  if (j.compliance > 0) json["compliance_m_N"] = j.compliance;
  if (j.pinRadius != standard.pinRadius) json["pin_radius_m"] = j.pinRadius;
  if (j.neighboursCollide) json["neighbours_collide"] = true;
  if (!j.made) json["made"] = false;
  if (j.group != kNone) json["group"] = j.group;
  if (!j.slot.empty()) json["slot"] = j.slot;
  if (!j.tags.empty()) json["tags"] = j.tags;
  return json;
}

}  // namespace calm::rig
