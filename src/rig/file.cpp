// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/file.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

namespace calm::rig {

namespace {

using Json = nlohmann::ordered_json;

constexpr std::uintmax_t kLargestFile = 512u << 20;  // bytes

// A value of the file and where it stands.
class Node {
 public:
  Node(const Json& json, std::string place) : json_(json), place_(std::move(place)) {}

  [[noreturn]] void fail(const std::string& message) const { throw FileError(place_ + ": " + message); }
  const Json& json() const { return json_; }
  std::string kind() const {
    if (json_.is_number()) return "the number " + json_.dump();
    if (json_.is_string()) return "the text " + json_.dump().substr(0, 60);
    return std::string("a value of type ") + json_.type_name();
  }

  // Requires an object and refuses keys that are not known, so that a mistyped one is not silently lost.
  void object(std::initializer_list<const char*> keys) const {
    if (!json_.is_object()) fail("expected an object, found " + kind());
    for (const auto& [key, value] : json_.items())
      if (std::none_of(keys.begin(), keys.end(), [&, &k = key](const char* known) { return k == known; }))
        Node(value, place_ + "." + key).fail("unknown key");
  }
  bool has(const char* key) const { return json_.contains(key) && !json_.at(key).is_null(); }
  Node at(const char* key) const {
    if (!json_.contains(key)) fail(fmt::format("the key \"{}\" is missing", key));
    return {json_.at(key), place_ + "." + key};
  }
  std::vector<Node> list() const {
    if (!json_.is_array()) fail("expected a list, found " + kind());
    std::vector<Node> nodes;
    for (std::size_t i = 0; i < json_.size(); ++i) nodes.emplace_back(json_[i], fmt::format("{}[{}]", place_, i));
    return nodes;
  }

  double number() const {
    if (!json_.is_number()) fail("expected a number, found " + kind());
    const double value = json_.get<double>();
    if (!std::isfinite(value)) fail("the number is too large");
    return value;
  }
  int integer() const {
    if (!json_.is_number_integer()) fail("expected a whole number, found " + kind());
    const auto value = json_.get<std::int64_t>();
    if (value < -2000000000 || value > 2000000000) fail("the whole number is too large");
    return static_cast<int>(value);
  }
  bool boolean() const {
    if (!json_.is_boolean()) fail("expected true or false, found " + kind());
    return json_.get<bool>();
  }
  std::string text() const {
    if (!json_.is_string()) fail("expected a text, found " + kind());
    return json_.get<std::string>();
  }
  Vec3 vector() const {
    const std::vector<Node> nodes = list();
    if (nodes.size() != 3) fail(fmt::format("expected three numbers, found {}", nodes.size()));
    return {nodes[0].number(), nodes[1].number(), nodes[2].number()};
  }
  Vec3 direction() const {
    const Vec3 v = vector();
    if (v.norm() < 1e-9) fail("a direction cannot be zero");
    // Values of our own come back bit for bit; only others are brought to length.
    return std::abs(v.norm() - 1) < 1e-14 ? v : v.normalized();
  }
  Quat orientation() const {
    const std::vector<Node> n = list();
    if (n.size() != 4) fail(fmt::format("expected four numbers w, x, y, z, found {}", n.size()));
    const Quat q(n[0].number(), n[1].number(), n[2].number(), n[3].number());
    if (std::abs(q.norm() - 1) > 1e-3)
      fail(fmt::format("expected a quaternion of length 1, found length {}", q.norm()));
    return std::abs(q.norm() - 1) < 1e-14 ? q : q.normalized();
  }

  template <class Value, class Read>
  void maybe(const char* key, Value& value, Read read) const {
    if (has(key)) value = (at(key).*read)();
  }
  void maybe(const char* key, double& value) const { maybe(key, value, &Node::number); }
  void maybe(const char* key, Vec3& value) const { maybe(key, value, &Node::vector); }

 private:
  const Json& json_;
  std::string place_;
};

Stage readStage(const Node& n) {
  n.object({"gravity_m_s2", "frame_rate_Hz", "substeps", "duration_s", "ground"});
  Stage s;
  n.maybe("gravity_m_s2", s.gravity);
  n.maybe("frame_rate_Hz", s.frameRate);
  n.maybe("substeps", s.substeps, &Node::integer);
  n.maybe("duration_s", s.duration);
  if (!n.has("ground")) {
    s.groundHeight.reset();
    return s;
  }
  const Node ground = n.at("ground");
  ground.object({"height_m", "friction"});
  s.groundHeight = 0;
  ground.maybe("height_m", *s.groundHeight);
  ground.maybe("friction", s.groundFriction);
  return s;
}

Shape readShape(const Node& n) {
  n.object({"type", "size_m", "radius_m", "length_m"});
  const std::string type = n.at("type").text();
  Shape shape;
  if (type == "box")
    shape = Box{n.at("size_m").vector()};
  else if (type == "sphere")
    shape = Sphere{n.at("radius_m").number()};
  else if (type == "cylinder")
    shape = Cylinder{n.at("radius_m").number(), n.at("length_m").number()};
  else if (type == "capsule")
    shape = Capsule{n.at("radius_m").number(), n.at("length_m").number()};
  else
    n.at("type").fail(fmt::format("unknown shape \"{}\"; known are box, sphere, capsule, cylinder", type));
  if (const std::string fault = calm::faultOf(shape); !fault.empty()) n.fail(fault);
  return shape;
}

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
            "inertia_kg_m2",
            "centre_of_mass_m",
            "gravity_scale",
            "collides",
            "friction",
            "restitution",
            "linear_damping_1_s",
            "angular_damping_1_s",
            "line"});
  Part p;
  p.id = n.at("id").integer();
  p.name = n.at("name").text();
  if (n.has("role")) {
    const std::string text = n.at("role").text();
    const std::optional<Role> role = roleFrom(text);
    if (!role) n.at("role").fail(fmt::format("unknown role \"{}\"; known are static, dynamic", text));
    p.role = *role;
  }
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
  if (n.has("inertia_kg_m2")) p.inertia = n.at("inertia_kg_m2").vector();
  n.maybe("centre_of_mass_m", p.center);
  n.maybe("gravity_scale", p.gravityScale);
  n.maybe("collides", p.collides, &Node::boolean);
  n.maybe("friction", p.friction);
  n.maybe("restitution", p.restitution);
  n.maybe("linear_damping_1_s", p.linearDamping);
  n.maybe("angular_damping_1_s", p.angularDamping);
  n.maybe("line", p.line, &Node::integer);
  return p;
}

// Finds parts by id or, if only one bears it, by name.
class PartIndex {
 public:
  explicit PartIndex(const Rig& rig) {
    for (const Part& p : rig.parts) {
      ids_.insert(p.id);
      const auto [it, fresh] = names_.try_emplace(p.name, p.id);
      if (!fresh) it->second = kNone;
    }
  }
  Id read(const Node& n) const {
    if (n.json().is_null()) return kNone;
    if (n.json().is_string()) {
      const std::string name = n.text();
      if (name == "world" && !names_.count(name)) return kNone;
      const auto it = names_.find(name);
      if (it == names_.end()) n.fail(fmt::format("there is no part named \"{}\"", name));
      if (it->second == kNone) n.fail(fmt::format("several parts are named \"{}\"; use the id", name));
      return it->second;
    }
    const Id id = n.integer();
    if (id != kNone && !ids_.count(id)) n.fail(fmt::format("there is no part with id {}", id));
    return id;
  }

 private:
  std::set<Id> ids_;
  std::map<std::string, Id> names_;
};

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

void readAxes(const Node& n, Joint& j) {
  const std::vector<Node> nodes = n.list();
  const std::size_t most = static_cast<std::size_t>(axesOf(j.type).all());
  if (nodes.size() > most) n.fail(fmt::format("a {} joint has {} free axes, not {}", word(j.type), most, nodes.size()));
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    nodes[k].object({"low", "high", "motor_speed", "motor_cap", "friction", "stiffness", "damping", "target"});
    AxisDef& axis = j.axes[k];
    nodes[k].maybe("low", axis.low);
    nodes[k].maybe("high", axis.high);
    nodes[k].maybe("motor_speed", axis.speed);
    nodes[k].maybe("motor_cap", axis.cap);
    nodes[k].maybe("friction", axis.friction);
    nodes[k].maybe("stiffness", axis.stiffness);
    nodes[k].maybe("damping", axis.damping);
    nodes[k].maybe("target", axis.target);
  }
}

Joint readJoint(const Node& n, const Rig& rig, const PartIndex& index) {
  n.object({"id", "name", "type", "a", "b", "pivot_m", "axis", "axes", "break_force_N", "break_torque_Nm",
            "compliance_m_N", "neighbours_collide", "line"});
  Joint j;
  j.id = n.at("id").integer();
  j.name = n.at("name").text();
  const std::string type = n.at("type").text();
  const std::optional<JointType> known = jointTypeFrom(type);
  if (!known)
    n.at("type").fail(
        fmt::format("unknown joint type \"{}\"; known are fixed, ball, hinge, slider, cylinder, universal, "
                    "planar, distance",
                    type));
  j.type = *known;
  if (n.has("pivot_m")) {
    // The short form: parts by themselves, pivot and axis in the world at rest.
    const Vec3 axis = n.has("axis") ? n.at("axis").direction() : Vec3::UnitX();
    const auto side = [&](const char* key) {
      return sideAt(rig, index.read(n.at(key)), n.at("pivot_m").vector(), axis);
    };
    j.a = side("a");
    j.b = side("b");
  } else {
    if (n.has("axis")) n.at("axis").fail("goes with pivot_m; without it each side has its own axis");
    j.a = readSide(n.at("a"), index);
    j.b = readSide(n.at("b"), index);
  }
  if (n.has("axes")) readAxes(n.at("axes"), j);
  if (n.has("break_force_N")) j.breakForce = n.at("break_force_N").number();
  if (n.has("break_torque_Nm")) j.breakTorque = n.at("break_torque_Nm").number();
  n.maybe("compliance_m_N", j.compliance);
  n.maybe("neighbours_collide", j.neighboursCollide, &Node::boolean);
  n.maybe("line", j.line, &Node::integer);
  return j;
}

Line readLine(const Node& n) {
  n.object({"id", "name", "length_m", "links", "thickness_m", "mass_per_metre_kg_m"});
  Line l;
  l.id = n.at("id").integer();
  l.name = n.at("name").text();
  n.maybe("length_m", l.length);
  n.maybe("links", l.links, &Node::integer);
  n.maybe("thickness_m", l.thickness);
  n.maybe("mass_per_metre_kg_m", l.massPerMetre);
  return l;
}

Rig readRig(const Node& n) {
  n.object({"format", "version", "name", "stage", "parts", "joints", "lines"});
  if (n.at("format").text() != "calm-tether-rig")
    n.at("format").fail("is not \"calm-tether-rig\"; this is no rig file");
  const int version = n.at("version").integer();
  if (version > kFormatVersion)
    n.at("version").fail(
        fmt::format("the file is of version {}, newer than {}, the newest known here", version, kFormatVersion));
  if (version < 1) n.at("version").fail(fmt::format("there is no version {}", version));
  Rig rig;
  n.maybe("name", rig.name, &Node::text);
  if (n.has("stage")) rig.stage = readStage(n.at("stage"));
  if (n.has("parts"))
    for (const Node& part : n.at("parts").list()) rig.parts.push_back(readPart(part));
  if (n.has("lines"))
    for (const Node& line : n.at("lines").list()) rig.lines.push_back(readLine(line));
  const PartIndex index(rig);
  if (n.has("joints"))
    for (const Node& joint : n.at("joints").list()) rig.joints.push_back(readJoint(joint, rig, index));
  const auto reserve = [&](Id id) { rig.nextId = std::max(rig.nextId, id + 1); };
  for (const Part& p : rig.parts) reserve(p.id);
  for (const Joint& j : rig.joints) reserve(j.id);
  for (const Line& l : rig.lines) reserve(l.id);
  const auto checkLine = [&](Id id, const std::string& name) {
    if (id != kNone && !rig.line(id)) n.fail(fmt::format("\"{}\" names line {}, which does not exist", name, id));
  };
  for (const Part& p : rig.parts) checkLine(p.line, p.name);
  for (const Joint& j : rig.joints) checkLine(j.line, j.name);
  if (const std::vector<Fault> faults = faultsOf(rig); !faults.empty()) n.fail(faults.front().text());
  return rig;
}

}  // namespace

Rig parseRig(const std::string& text, const std::string& source) {
  Json json;
  try {
    json = Json::parse(text);
  } catch (const Json::parse_error& e) {
    const std::size_t at = std::min<std::size_t>(e.byte, text.size());
    const auto line = 1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n');
    const std::string why = at >= text.size() ? "the file ends in the middle" : "this is not valid JSON here";
    throw FileError(fmt::format("{}: line {}: {}", source, line, why));
  } catch (const Json::exception& e) {
    throw FileError(fmt::format("{}: {}", source, e.what()));
  }
  try {
    return readRig(Node(json, source));
  } catch (const Json::exception& e) {
    throw FileError(fmt::format("{}: {}", source, e.what()));
  }
}

Rig loadRig(const std::filesystem::path& path) {
  const std::string name = path.filename().string();
  std::error_code error;
  if (std::filesystem::is_directory(path, error)) throw FileError(name + ": is a folder, not a rig file");
  const std::uintmax_t size = std::filesystem::file_size(path, error);
  if (error) throw FileError(fmt::format("{}: {}", path.string(), error.message()));
  if (size > kLargestFile) throw FileError(fmt::format("{}: {} MB is more than a rig file may have", name, size >> 20));
  std::ifstream file(path, std::ios::binary);
  std::string text(size, '\0');
  file.read(text.data(), static_cast<std::streamsize>(size));
  if (!file) throw FileError(fmt::format("{}: cannot be read: {}", path.string(), std::strerror(errno)));
  return parseRig(text, name);
}

}  // namespace calm::rig
