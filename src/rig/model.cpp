// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/model.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <set>

namespace calm::rig {

namespace {

template <class Items>
auto find(Items& items, Id id) -> decltype(items.data()) {
  const auto it = std::find_if(items.begin(), items.end(), [id](const auto& item) { return item.id == id; });
  return it == items.end() ? nullptr : &*it;
}

template <class Words, class Value>
const char* wordOf(const Words& words, Value value) {
  for (const auto& [v, w] : words)
    if (v == value) return w;
  return "?";
}

// Collects faults of one thing.
class Checker {
 public:
  Checker(std::vector<Fault>& faults, std::string place) : faults_(faults), place_(std::move(place)) {}

  void fail(std::string message) { faults_.push_back({place_, std::move(message)}); }
  void require(bool condition, const std::string& message) {
    if (!condition) fail(message);
  }
  void range(const char* what, double value, double low, double high, const char* unit) {
    if (!(value >= low && value <= high))
      fail(fmt::format("{} must lie in {} to {}{}{}, not {}", what, low, high, *unit ? " " : "", unit, value));
  }
  void vector(const char* what, const Vec3& v, double limit, const char* unit) {
    for (int i = 0; i < 3; ++i)
      if (!(std::abs(v[i]) <= limit)) {
        fail(fmt::format("{} must be three numbers of at most {} {}, not {}, {}, {}", what, limit, unit, v.x(), v.y(),
                         v.z()));
        return;
      }
  }

 private:
  std::vector<Fault>& faults_;
  std::string place_;
};

constexpr double kFarthest = 1e6;  // m; beyond it double precision no longer holds a micrometre

void checkStage(const Stage& s, Checker check) {
  check.vector("gravity", s.gravity, 1e4, "m/s^2");
  check.range("frame rate", s.frameRate, 1, 1e5, "Hz");
  check.range("substeps", s.substeps, 1, 10000, "");
  check.range("duration", s.duration, 1e-6, 1e6, "s");
  if (s.groundHeight) check.range("ground height", *s.groundHeight, -kFarthest, kFarthest, "m");
  check.range("ground friction", s.groundFriction, 0, 100, "");
  check.range("ground restitution", s.groundRestitution, 0, 1, "");
  check.range("sleep", s.sleepAfter, 0, 1e6, "s");
  check.range("separation budget", s.separationBudget, 0, 1e3, "m");
  for (const MaterialPair& m : s.materialPairs) {
    check.range("friction of a material pair", m.friction, 0, 100, "");
    check.range("restitution of a material pair", m.restitution, 0, 1, "");
  }
}

void checkPart(const Part& p, Checker check) {
  check.require(!p.name.empty(), "needs a name");
  check.vector("position", p.pose.position, kFarthest, "m");
  const double length = p.pose.rotation.norm();
  if (!(std::abs(length - 1) < 1e-6))
    check.fail(fmt::format("orientation must be a quaternion of length 1, not {}", length));
  check.vector("velocity", p.velocity, 1e6, "m/s");
  check.vector("angular velocity", p.angularVelocity, 1e6, "rad/s");
  check.range("friction", p.friction, 0, 100, "");
  check.range("restitution", p.restitution, 0, 1, "");
  check.range("linear damping", p.linearDamping, 0, 1e6, "1/s");
  check.range("angular damping", p.angularDamping, 0, 1e6, "1/s");
  const std::string shapeFault = faultOf(p.shape);
  if (!shapeFault.empty()) return check.fail(shapeFault);
  if (std::holds_alternative<HalfSpace>(p.shape)) return check.fail("a half space is the stage's ground, not a part");
  const bool byMass = std::holds_alternative<Mass>(p.heft);
  const double value = byMass ? std::get<Mass>(p.heft).mass : std::get<Density>(p.heft).density;
  check.range("gravity scale", p.gravityScale, -1e6, 1e6, "");
  check.vector("force", p.force, 1e15, "N");
  check.vector("torque", p.torque, 1e15, "N m");
  if (p.center) check.vector("centre of mass", *p.center, kFarthest, "m");
  for (const Push& push : p.pushes) {
    check.vector("the point of a push", push.at, kFarthest, "m");
    check.vector("the force of a push", push.force, 1e15, "N");
    check.vector("the torque of a push", push.torque, 1e15, "N m");
  }
  if (p.motion)
    if (const std::string fault = calm::faultOf(*p.motion); !fault.empty()) check.fail(fault);
  if (p.role != Role::dynamic && volumeOf(p.shape) <= 0) return;
  if (p.role == Role::dynamic && volumeOf(p.shape) <= 0)
    return check.fail("a mesh has no volume and cannot be dynamic");
  check.range(byMass ? "mass" : "density", value, 1e-12, 1e15, byMass ? "kg" : "kg/m^3");
  if (p.role == Role::dynamic && value > 0)
    if (const std::string fault = calm::faultOf(p.massProperties()); !fault.empty()) check.fail(fault);
}

void checkAxis(JointType type, const AxisDef& axis, int number, Checker check) {
  const auto named = [&](const char* what) { return fmt::format("axis {}: {}", number + 1, what); };
  if (const std::string fault = calm::faultOf(type, axis); !fault.empty()) check.fail(named(fault.c_str()));
  for (const auto& [what, value] : {std::pair("motor speed", axis.speed), std::pair("spring target", axis.target)})
    check.range(named(what).c_str(), value, -1e9, 1e9, "");
  for (const auto& [what, value] :
       {std::pair("motor cap", axis.cap), std::pair("friction", axis.friction), std::pair("stiffness", axis.stiffness),
        std::pair("damping", axis.damping), std::pair("stop stiffness", axis.stopStiffness),
        std::pair("stop damping", axis.stopDamping)})
    check.range(named(what).c_str(), value, 0, 1e15, "");
}

void checkJoint(const Rig& rig, const Joint& j, Checker check) {
  check.require(!j.name.empty(), "needs a name");
  for (const Side* side : {&j.a, &j.b}) {
    if (side->part != kNone && !rig.part(side->part))
      check.fail(fmt::format("names part {}, which does not exist", side->part));
    check.vector("pivot", side->at, kFarthest, "m");
    const bool square = std::abs(side->axis.norm() - 1) < 1e-6 && std::abs(side->across.norm() - 1) < 1e-6 &&
                        std::abs(side->axis.dot(side->across)) < 1e-6;
    check.require(square, "axis and its zero direction must be of length 1 and at right angles");
  }
  if (j.a.part == j.b.part) {
    check.fail(j.a.part == kNone ? "joins the world to itself" : "joins a part to itself");
  } else {
    const auto moves = [&](Id id) { return id != kNone && rig.part(id) && rig.part(id)->role != Role::fixed; };
    check.require(moves(j.a.part) || moves(j.b.part), "joins two things that cannot move; one must be dynamic");
  }
  for (int k = 0; k < axesOf(j.type).all(); ++k) checkAxis(j.type, j.axes[k], k, check);
  if (j.breakForce) check.range("break force", *j.breakForce, 1e-12, 1e15, "N");
  if (j.breakTorque) check.range("break torque", *j.breakTorque, 1e-12, 1e15, "N m");
  check.range("compliance", j.compliance, 0, 1e3, "m/N");
  check.range("pin radius", j.pinRadius, 1e-6, 1e3, "m");
  check.require(std::isfinite(j.form.ratio) && j.form.ratio != 0, "the ratio must be finite and not 0");
  check.range("radius", j.form.radius, 1e-9, kFarthest, "m");
  check.range("lead", j.form.lead, -kFarthest, kFarthest, "m");
  for (const double cone : {j.form.coneY, j.form.coneZ}) check.range("cone", cone, 0, 3.1415926535897936, "rad");
  check.require((j.form.coneY > 0) == (j.form.coneZ > 0), "the cone needs both its angles above 0, or none");
  for (const RoutePoint& p : j.form.route) {
    check.vector("route", p.at, kFarthest, "m");
    if (p.on != RouteOn::part) continue;
    check.require(p.part != j.a.part && p.part != j.b.part, "the route names the joint's own sides as a and b");
    if (!rig.part(p.part)) check.fail(fmt::format("routes over part {}, which does not exist", p.part));
  }
}

}  // namespace

double Part::mass() const {
  if (const auto* m = std::get_if<Mass>(&heft)) return m->mass;
  return std::get<Density>(heft).density * volumeOf(shape);
}

MassProperties Part::massProperties() const {
  MassProperties properties = massPropertiesOf(shape, mass());
  if (inertia) properties.inertia = *inertia;
  if (center) properties.center = *center;
  return properties;
}

std::vector<Id> Joint::parts() const {
  std::vector<Id> all{a.part, b.part};
  for (const RoutePoint& p : form.route)
    if (p.on == RouteOn::part) all.push_back(p.part);
  return all;
}

const Part* Rig::part(Id id) const {
  return find(parts, id);
}
const Joint* Rig::joint(Id id) const {
  return find(joints, id);
}
const Group* Rig::group(Id id) const {
  return find(groups, id);
}
const Cue* Rig::cue(Id id) const {
  return find(cues, id);
}
Part* Rig::part(Id id) {
  return find(parts, id);
}
Joint* Rig::joint(Id id) {
  return find(joints, id);
}
Group* Rig::group(Id id) {
  return find(groups, id);
}
Cue* Rig::cue(Id id) {
  return find(cues, id);
}

std::string Rig::partName(Id id) const {
  if (id == kNone) return "world";
  const Part* p = part(id);
  return p ? p->name : fmt::format("missing part {}", id);
}

std::string Rig::freeName(const std::string& base) const {
  std::set<std::string> taken;
  for (const Part& p : parts) taken.insert(p.name);
  for (const Joint& j : joints) taken.insert(j.name);
  for (const Group& g : groups) taken.insert(g.name);
  if (!taken.count(base)) return base;
  for (int i = 2;; ++i)
    if (std::string free = fmt::format("{} {}", base, i); !taken.count(free)) return free;
}

const char* axisWord(JointType type, int k) {
  switch (type) {
    case JointType::hinge:
      return "turn";
    case JointType::slider:
      return "travel";
    case JointType::cylinder:
      return k == 0 ? "travel" : "turn";
    case JointType::universal:
      return k == 0 ? "turn of the first arm" : "turn of the second arm";
    case JointType::planar:
      return k == 0 ? "travel across" : k == 1 ? "travel beside" : "turn";
    case JointType::limb:
      return k == 0 ? "twist" : k == 1 ? "swing about across" : k == 2 ? "swing about beside" : "lean beyond the cone";
    case JointType::wheel:
      return k == 0 ? "suspension" : k == 1 ? "steer" : "spin";
    case JointType::screw:
      return k == 0 ? "travel" : k == 2 ? "turn" : "";
    case JointType::sixAxis: {
      static constexpr const char* words[] = {"travel along", "travel across",      "travel beside",
                                              "twist",        "swing about across", "swing about beside"};
      return words[k];
    }
    case JointType::distance:
    case JointType::spring:
    case JointType::pulley:
    case JointType::winch:
      return "length";
    default:
      return "";
  }
}

bool axisTurns(JointType type, int k) {
  return k >= axesOf(type).along;
}

const char* word(JointType type) {
  return wordOf(kJointWords, type);
}
const char* word(Role role) {
  return wordOf(kRoleWords, role);
}
const char* word(const Shape& shape) {
  constexpr const char* kWords[] = {"sphere",     "capsule",     "box",  "cylinder",
                                    "half space", "convex hull", "mesh", "compound"};
  return kWords[shape.index()];
}

const char* word(const Form& form) {
  return kFormWords[form.index()];
}

Pose restFrame(const Rig& rig, const Side& side) {
  const Part* part = rig.part(side.part);
  Mat3 axes;
  axes << side.axis, side.across, side.axis.cross(side.across);
  return (part ? part->pose : Pose{}) * Pose{side.at, Quat(axes).normalized()};
}

Side sideAt(const Rig& rig, Id id, const Vec3& pivot, const Vec3& axis) {
  return sideAt(rig, id, pivot, axis, anyPerpendicular(axis));
}

Side sideAt(const Rig& rig, Id id, const Vec3& pivot, const Vec3& axis, const Vec3& across) {
  const Part* part = rig.part(id);
  const Pose pose = part ? part->pose : Pose{};
  const Quat back = pose.rotation.conjugate();
  return {id, pose.applyInverse(pivot), (back * axis).normalized(), (back * across).normalized()};
}

Vec3 restPivot(const Rig& rig, const Joint& joint) {
  return (restFrame(rig, joint.a).position + restFrame(rig, joint.b).position) / 2;
}

std::vector<Fault> faultsOf(const Rig& rig) {
  std::vector<Fault> faults;
  checkStage(rig.stage, Checker(faults, "stage"));
  std::set<Id> ids;
  const auto checkId = [&](Id id, Checker check) {
    if (id <= kNone) check.fail(fmt::format("id must be 1 or more, not {}", id));
    if (!ids.insert(id).second) check.fail(fmt::format("id {} is used twice", id));
  };
  for (const Part& p : rig.parts) {
    const Checker check(faults, fmt::format("part \"{}\"", p.name));
    checkId(p.id, check);
    checkPart(p, check);
  }
  for (const Joint& j : rig.joints) {
    const Checker check(faults, fmt::format("joint \"{}\"", j.name));
    checkId(j.id, check);
    checkJoint(rig, j, check);
  }
  for (const Group& g : rig.groups) checkId(g.id, Checker(faults, fmt::format("group \"{}\"", g.name)));
  for (std::size_t i = 0; i < rig.cues.size(); ++i) {
    Checker check(faults, fmt::format("cue {} ({})", i + 1, word(rig.cues[i].act)));
    checkId(rig.cues[i].id, check);
    if (const std::string fault = faultOf(rig.cues[i], rig); !fault.empty()) check.fail(fault);
  }
  return faults;
}

void dropEmptyGroups(Rig& rig) {
  std::set<Id> used;
  for (const Part& p : rig.parts) used.insert(p.group);
  std::erase_if(rig.groups, [&](const Group& g) { return !used.count(g.id); });
  std::set<Id> known;
  for (const Group& g : rig.groups) known.insert(g.id);
  const auto letGo = [&](auto& items) {
    for (auto& item : items)
      if (!known.count(item.group)) item.group = kNone, item.slot.clear();
  };
  letGo(rig.parts), letGo(rig.joints);
}

}  // namespace calm::rig
