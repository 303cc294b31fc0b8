// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/edits.h"

#include <fmt/format.h>

#include <algorithm>
#include <stdexcept>

#include "engine/contact/collide.h"

namespace calm::rig {

Id addPart(Rig& rig, Part part) {
  part.id = rig.nextId++;
  part.name = rig.freeName(part.name.empty() ? word(part.shape) : part.name);
  rig.parts.push_back(part);
  return part.id;
}

Id addCue(Rig& rig, Cue cue) {
  cue.id = rig.nextId++;
  if (const std::string fault = faultOf(cue, rig); !fault.empty()) throw std::invalid_argument(fault);
  rig.cues.push_back(cue);
  return cue.id;
}

namespace {

// A rope or a spring runs from centre to centre (the world's side stays at the pivot), as long as it is now; a spring
// swings twice a second.
void spanCentres(const Rig& rig, Joint& joint) {
  for (Side* side : {&joint.a, &joint.b})
    if (const Part* part = rig.part(side->part)) side->at = part->massProperties().center;
  const double length = (restFrame(rig, joint.b).position - restFrame(rig, joint.a).position).norm();
  AxisDef& axis = joint.axes[0];
  if (joint.type == JointType::distance)
    axis.high = length;
  else
    axis.target = length, axis.frequency = 2, axis.dampingRatio = 0.1;
}

}  // namespace

Id addJoint(Rig& rig, JointType type, Id a, Id b, const Vec3& pivot, const Vec3& axis) {
  Joint joint;
  joint.id = rig.nextId;
  joint.type = type;
  joint.a = sideAt(rig, a, pivot, axis);
  joint.b = sideAt(rig, b, pivot, axis);
  if (type == JointType::distance || type == JointType::spring) spanCentres(rig, joint);
  joint.name = rig.freeName(fmt::format("{} {}", rig.partName(b), word(type)));
  rig.joints.push_back(joint);
  const std::vector<Fault> faults = faultsOf(rig);
  for (const Fault& f : faults)
    if (f.place == fmt::format("joint \"{}\"", joint.name)) {
      rig.joints.pop_back();
      throw std::invalid_argument(f.message);
    }
  ++rig.nextId;
  return joint.id;
}

ConvexCore facingCore(const Part& part) {
  ConvexCore core;
  const bool convex =
      !std::holds_alternative<Compound>(part.shape) && !std::holds_alternative<TriangleMesh>(part.shape);
  if (convex) {
    buildCore(part.shape, part.pose, core);
  } else {
    const Aabb box = boundsOf(part.shape, part.pose);
    buildCore(Box{box.high - box.low}, {(box.low + box.high) / 2, Quat::Identity()}, core);
  }
  return core;
}

Vec3 likelyPivot(const Rig& rig, Id a, Id b) {
  const Part *pa = rig.part(a), *pb = rig.part(b);
  if (!pa && !pb) return Vec3::Zero();
  if (!pa || !pb) {
    const Part& only = pa ? *pa : *pb;
    const Aabb box = boundsOf(only.shape, only.pose);
    return {only.pose.position.x(), box.high.y(), only.pose.position.z()};
  }
  const ConvexCore ca = facingCore(*pa), cb = facingCore(*pb);
  const ClosestPoints closest = closestPoints(ca, cb);
  if (closest.distance > 1e-9) {
    const Vec3 n = (closest.onB - closest.onA) / closest.distance;
    return (closest.onA + n * ca.radius + closest.onB - n * cb.radius) / 2;
  }
  return (pa->pose.position + pb->pose.position) / 2;
}

namespace {

// The edge of a thin box that is nearest to the pivot, where the box is thin: what a door or a lid turns about.
std::optional<Vec3> slabEdge(const Part& part, const Vec3& pivot) {
  constexpr double kThin = 0.25;  // of the next larger side
  const auto* box = std::get_if<Box>(&part.shape);
  if (!box) return std::nullopt;
  int thin = 0;
  box->size.minCoeff(&thin);
  const int u = (thin + 1) % 3, v = (thin + 2) % 3;
  if (box->size[thin] > kThin * std::min(box->size[u], box->size[v])) return std::nullopt;
  const Vec3 at = part.pose.applyInverse(pivot);
  // Nearer to the edge that is crossed by u: that edge runs along v.
  const double toU = box->size[u] / 2 - std::abs(at[u]), toV = box->size[v] / 2 - std::abs(at[v]);
  return part.pose.rotation * Vec3::Unit(toU < toV ? v : u);
}

// Square to the face where two parts touch or face each other, from a to b; none for what has no sides.
std::optional<Vec3> touchNormal(const Part& a, const Part& b) {
  Collider ca, cb;
  ca.core = facingCore(a), cb.core = facingCore(b);
  Manifold touch;
  constexpr double kFacing = 1;  // m, as far as a joint may reach
  collide(ca, cb, kFacing, touch);
  if (touch.points.empty()) return std::nullopt;
  return touch.normal;
}

Vec3 longestAxis(const Part& part) {
  if (const auto* box = std::get_if<Box>(&part.shape)) {
    int longest = 0;
    box->size.maxCoeff(&longest);
    return part.pose.rotation * Vec3::Unit(longest);
  }
  return part.pose.rotation * Vec3::UnitY();
}

}  // namespace

Vec3 likelyAxis(const Rig& rig, Id a, Id b, JointType type) {
  const Part *pa = rig.part(a), *pb = rig.part(b);
  const Vec3 pivot = likelyPivot(rig, a, b);
  if (type == JointType::planar && pa && pb)
    if (const auto normal = touchNormal(*pa, *pb)) return *normal;
  // A wheel or a pin turns about its own axis.
  for (const Part* part : {pb, pa})
    if (part && std::holds_alternative<Cylinder>(part->shape)) return part->pose.rotation * Vec3::UnitY();
  const bool slides = type == JointType::slider || type == JointType::cylinder || type == JointType::screw;
  for (const Part* part : {pb, pa})
    if (slides && part && part->role == Role::dynamic) return longestAxis(*part);
  for (const Part* part : {pb, pa})
    if (part && part->role == Role::dynamic)
      if (const auto edge = slabEdge(*part, pivot)) return *edge;
  const Vec3 from = pa ? pa->pose.position : pivot;
  const Vec3 to = pb ? pb->pose.position : pivot;
  const Vec3 line = (to - from).norm() > 1e-9 ? Vec3((to - from).normalized()) : Vec3::UnitY();
  const Vec3 candidates[] = {Vec3::UnitZ(), Vec3::UnitX(), Vec3::UnitY()};
  return *std::min_element(std::begin(candidates), std::end(candidates), [&](const Vec3& p, const Vec3& q) {
    return std::abs(p.dot(line)) + 1e-9 < std::abs(q.dot(line));
  });
}

void place(Rig& rig, const std::map<Id, Pose>& poses) {
  const auto spans = [](JointType type) {
    return type == JointType::distance || type == JointType::spring || type == JointType::pulley ||
           type == JointType::winch || type == JointType::gear || type == JointType::rack;
  };
  for (const auto& [id, pose] : poses)
    if (Part* part = rig.part(id)) part->pose = pose;
  for (Joint& j : rig.joints) {
    const bool a = poses.count(j.a.part) > 0, b = poses.count(j.b.part) > 0;
    if (a == b || spans(j.type)) continue;
    Side& moved = a ? j.a : j.b;
    const Pose stays = restFrame(rig, a ? j.b : j.a);
    moved = sideAt(rig, moved.part, stays.position, stays.rotation * Vec3::UnitX(), stays.rotation * Vec3::UnitY());
  }
}

void remove(Rig& rig, const std::set<Id>& ids) {
  std::set<Id> gone = ids;
  for (const Part& p : rig.parts)
    if (gone.count(p.group)) gone.insert(p.id);
  for (const Joint& j : rig.joints)
    if (gone.count(j.group)) gone.insert(j.id);
  const auto isGone = [&](const auto& item) { return gone.count(item.id) > 0; };
  std::erase_if(rig.joints, [&](const Joint& j) {
    const std::vector<Id> parts = j.parts();
    return isGone(j) || std::any_of(parts.begin(), parts.end(), [&](Id id) { return gone.count(id) > 0; });
  });
  std::erase_if(rig.parts, isGone);
  dropEmptyGroups(rig);
  const auto missing = [&](Id id) { return id != kNone && !rig.part(id) && !rig.joint(id); };
  std::erase_if(rig.cues, [&](Cue& c) {
    const Trigger& w = c.when;
    if (isGone(c) || missing(c.part) || missing(c.joint) || missing(w.of) || missing(w.other)) return true;
    if (isMissing(w.reading, rig)) return true;
    return std::erase_if(c.parts, missing) > 0 && c.parts.empty();
  });
  std::erase_if(rig.expectations, [&](const Expectation& e) { return missing(e.of) || isMissing(e.reading, rig); });
  // A field that acts on all has no list; one whose parts are all gone goes too.
  std::erase_if(rig.fields, [&](Field& f) { return std::erase_if(f.parts, missing) > 0 && f.parts.empty(); });
}

void rename(Rig& rig, Id id, const std::string& name) {
  if (name.empty()) throw std::invalid_argument("a name cannot be empty");
  Part* part = rig.part(id);
  Joint* joint = rig.joint(id);
  Group* group = rig.group(id);
  std::string* present = part ? &part->name : joint ? &joint->name : group ? &group->name : nullptr;
  if (!present) throw std::invalid_argument(fmt::format("there is nothing with id {}", id));
  if (*present == name) return;
  if (rig.freeName(name) != name) throw std::invalid_argument(fmt::format("the name \"{}\" is taken", name));
  *present = name;
}

void renameAll(Rig& rig, const std::vector<Id>& ids, const std::string& pattern) {
  const std::size_t mark = pattern.find('#');
  if (mark == std::string::npos) throw std::invalid_argument("put a # where the numbers are to go, as in \"pile #\"");
  Rig next = rig;
  // Out of one another's way first: they may bear some of these names already.
  for (const Id id : ids) rename(next, id, fmt::format("\x01{}", id));
  int number = 0;
  for (const Id id : ids)
    rename(next, id, pattern.substr(0, mark) + std::to_string(++number) + pattern.substr(mark + 1));
  rig = std::move(next);
}

}  // namespace calm::rig
