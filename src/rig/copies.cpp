// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/copies.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <stdexcept>
#include <utility>

namespace calm::rig {

namespace {

// How a copy differs from its original, besides names and ids.
struct Change {
  std::function<void(Part&)> part;
  // Of a side: what its part is now, and whether that part was copied. Points of the world move with the copies.
  std::function<void(Side&, bool copied)> side;
  std::function<void(Joint&, const std::function<bool(RouteOn)>& copied)> joint;
};

// What has to be copied with the ids: the members of groups, and the joints between what is copied.
struct Plan {
  std::set<Id> parts, joints, groups;
};

Plan planFor(const Rig& rig, const std::set<Id>& ids) {
  Plan plan;
  for (const Group& g : rig.groups)
    if (ids.count(g.id)) plan.groups.insert(g.id);
  for (const Part& p : rig.parts)
    if (ids.count(p.id) || plan.groups.count(p.group)) plan.parts.insert(p.id);
  for (const Joint& j : rig.joints) {
    const auto copied = [&](Id part) { return plan.parts.count(part) > 0; };
    const bool any = copied(j.a.part) || copied(j.b.part);
    const bool inside = any && (copied(j.a.part) || j.a.part == kNone) && (copied(j.b.part) || j.b.part == kNone);
    if (inside || (any && (ids.count(j.id) || plan.groups.count(j.group)))) plan.joints.insert(j.id);
  }
  return plan;
}

Copies copyWith(Rig& rig, const std::set<Id>& ids, const Change& change) {
  const Plan plan = planFor(rig, ids);
  if (plan.parts.empty()) throw std::invalid_argument("choose the parts to copy first");
  Copies copies;
  std::set<std::string> taken;
  const auto note = [&](const auto& items) {
    for (const auto& item : items) taken.insert(item.name);
  };
  note(rig.parts), note(rig.joints), note(rig.groups);
  std::map<std::string, int> last;  // number given after each word
  // Numbers go on from the original's own: "link 3" is followed by "link 4".
  const auto name = [&](const std::string& of) {
    const std::size_t end = of.find_last_not_of("0123456789");
    const bool numbered =
        end != std::string::npos && end > 0 && end + 1 < of.size() && of[end] == ' ' && of.size() - end < 8;
    const std::string base = numbered ? of.substr(0, end) : of;
    int& number = last.try_emplace(base, 1).first->second;
    if (numbered) number = std::max(number, std::stoi(of.substr(end + 1)));
    std::string free;
    do free = fmt::format("{} {}", base, ++number);
    while (!taken.insert(free).second);
    return free;
  };
  for (const Id id : plan.groups) {
    Group group = *rig.group(id);
    group.id = copies[id] = rig.nextId++;
    group.name = name(group.name);
    rig.groups.push_back(group);
  }
  const auto groupOf = [&](Id group) { return copies.count(group) ? copies.at(group) : kNone; };
  for (const Id id : plan.parts) {
    Part part = *rig.part(id);
    part.id = copies[id] = rig.nextId++;
    part.name = name(part.name);
    part.group = groupOf(part.group);
    change.part(part);
    rig.parts.push_back(part);
  }
  for (const Id id : plan.joints) {
    Joint joint = *rig.joint(id);
    joint.id = copies[id] = rig.nextId++;
    joint.name = name(joint.name);
    joint.group = groupOf(joint.group);
    const bool a = plan.parts.count(joint.a.part) > 0, b = plan.parts.count(joint.b.part) > 0;
    for (Side* side : {&joint.a, &joint.b}) {
      const bool copied = plan.parts.count(side->part) > 0;
      if (copied) side->part = copies.at(side->part);
      change.side(*side, copied);
    }
    bool riders = true;  // whether all that a rope runs over is copied, too
    for (RoutePoint& p : joint.form.route) {
      if (p.on != RouteOn::part) continue;
      if (copies.count(p.part))
        p.part = copies.at(p.part);
      else
        riders = false;
    }
    change.joint(joint, [&](RouteOn on) {
      return on == RouteOn::a ? a : on == RouteOn::b ? b : on == RouteOn::part && riders;
    });
    rig.joints.push_back(joint);
  }
  for (const Fault& f : faultsOf(rig)) throw std::invalid_argument(f.text());
  return copies;
}

void turnRound(AxisDef& axis) {
  std::tie(axis.low, axis.high) = std::pair(-axis.high, -axis.low);
  axis.target = -axis.target;
  axis.speed = -axis.speed;
}

// Which of a joint's coordinates count the other way round after its frame (x, y, z) has become (Sx, Sy, -Sz), S the
// mirror: turns are pseudovectors, so those about x and y do, and travel along z.
std::vector<int> turnedCoordinates(JointType type) {
  switch (type) {
    case JointType::hinge:
      return {0};
    case JointType::cylinder:
      return {1};
    case JointType::universal:
      return {0, 1};
    case JointType::planar:
      return {1, 2};
    case JointType::limb:
      return {0, 1};
    case JointType::wheel:
      return {1, 2};
    case JointType::sixAxis:
      return {2, 3, 4};
    default:
      return {};
  }
}

}  // namespace

Copies copyMoved(Rig& rig, const std::set<Id>& ids, const Pose& moved) {
  const Mat3 turn = moved.rotation.toRotationMatrix();
  Change change;
  change.part = [&](Part& p) {
    p.pose = moved * p.pose;
    p.velocity = turn * p.velocity;
    p.angularVelocity = turn * p.angularVelocity;
    if (!p.motion) return;
    for (Motion::Key& key : p.motion->keys) key.pose = moved * key.pose;
    for (Motion::Wave& wave : p.motion->waves) wave.direction = turn * wave.direction;
  };
  change.side = [&](Side& side, bool) {
    if (side.part != kNone) return;
    side.at = moved.apply(side.at);
    side.axis = turn * side.axis;
    side.across = turn * side.across;
  };
  change.joint = [&](Joint& j, const auto&) {
    for (RoutePoint& point : j.form.route)
      if (point.on == RouteOn::world) point.at = moved.apply(point.at);
  };
  return copyWith(rig, ids, change);
}

std::set<Id> copyInRow(Rig& rig, const std::set<Id>& ids, int count, const Vec3& step) {
  if (count < 1 || count > 1000) throw std::invalid_argument("make between 1 and 1,000 copies");
  std::set<Id> made;
  for (int i = 1; i <= count; ++i)
    for (const auto& [from, to] : copyMoved(rig, ids, {i * step, Quat::Identity()}))
      if (rig.part(to)) made.insert(to);
  return made;
}

Copies copyMirrored(Rig& rig, const std::set<Id>& ids, const Vec3& point, const Vec3& normal) {
  if (!(std::abs(normal.norm() - 1) < 1e-6)) throw std::invalid_argument("the mirror's normal must have length 1");
  const Mat3 mirror = Mat3::Identity() - 2 * normal * normal.transpose();
  const Mat3 own = Vec3(1, 1, -1).asDiagonal();  // the parts' own mirror: all of these shapes are their own image in it
  const auto image = [&](const Vec3& at) { return Vec3(mirror * (at - point) + point); };
  Change change;
  change.part = [&](Part& p) {
    if (std::holds_alternative<ConvexHull>(p.shape) || std::holds_alternative<TriangleMesh>(p.shape) ||
        std::holds_alternative<Compound>(p.shape))
      throw std::invalid_argument(fmt::format("part \"{}\": a {} has no mirror image here", p.name, word(p.shape)));
    if (p.motion) throw std::invalid_argument(fmt::format("part \"{}\": its motion cannot be mirrored", p.name));
    p.pose.position = image(p.pose.position);
    p.pose.rotation = Quat(Mat3(mirror * p.pose.rotation.toRotationMatrix() * own)).normalized();
    p.velocity = mirror * p.velocity;
    p.angularVelocity = -(mirror * p.angularVelocity);
    p.force = mirror * p.force;
    p.torque = -(mirror * p.torque);
    if (p.inertia) p.inertia = Mat3(own * *p.inertia * own);
    if (p.center) p.center = own * *p.center;
    for (Push& push : p.pushes) {
      const Mat3& of = push.follows ? own : mirror;
      push.at = own * push.at;
      push.force = of * push.force;
      push.torque = -(of * push.torque);
    }
  };
  change.side = [&](Side& side, bool) {
    const Mat3& of = side.part == kNone ? mirror : own;
    side.at = side.part == kNone ? image(side.at) : Vec3(own * side.at);
    side.axis = of * side.axis;
    side.across = of * side.across;
  };
  change.joint = [&](Joint& j, const std::function<bool(RouteOn)>& copied) {
    if (j.type == JointType::gear || j.type == JointType::rack || j.type == JointType::screw)
      throw std::invalid_argument(
          fmt::format("joint \"{}\": a {} would turn the wrong way in a mirror", j.name, word(j.type)));
    for (const Id side : {j.a.part, j.b.part})
      if (side != kNone && !copied(side == j.a.part ? RouteOn::a : RouteOn::b))
        throw std::invalid_argument(fmt::format("joint \"{}\": its other part would have to be mirrored, too", j.name));
    const auto onOther = [](const RoutePoint& p) { return p.on == RouteOn::part; };
    if (std::any_of(j.form.route.begin(), j.form.route.end(), onOther) && !copied(RouteOn::part))
      throw std::invalid_argument(
          fmt::format("joint \"{}\": the parts that its rope runs over would have to be mirrored, too", j.name));
    for (const int k : turnedCoordinates(j.type)) turnRound(j.axes[k]);
    for (RoutePoint& p : j.form.route) p.at = p.on == RouteOn::world ? image(p.at) : Vec3(own * p.at);
  };
  return copyWith(rig, ids, change);
}

}  // namespace calm::rig
