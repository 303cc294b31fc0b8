// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/advice/rules.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "engine/contact/collide.h"
#include "engine/shape/box_tree.h"
#include "rig/units.h"

namespace calm::rig {

std::vector<Finding> adviceFor(const Rig& rig) {
  std::vector<Finding> found;
  for (const auto rule :
       {findLoosePart, findMissingLink, findDoubledPair, findFarJoint, findMisfit, findOverlap, findCollidingNeighbours,
        findStopAtRest, findLockedByStops, findMotorWithoutStrength, findTargetWithoutSpring, findWeakStrength,
        findMassRatio, findSpringBeyondStep, findOddSize, findFallsAway, findMaskedLayer})
    rule(rig, found);
  return found;
}

bool joinsAtAPoint(JointType type) {
  return type == JointType::fixed || type == JointType::ball || type == JointType::hinge ||
         type == JointType::universal || type == JointType::limb;
}

std::vector<Overlap> overlapsOf(const Rig& rig) {
  std::map<std::pair<Id, Id>, const Joint*> joints;
  for (const Joint& j : rig.joints) joints[std::minmax(j.a.part, j.b.part)] = &j;
  std::set<std::pair<std::string, std::string>> apart;
  for (const auto& [a, b] : rig.stage.layersApart) apart.insert({a, b}), apart.insert({b, a});
  BoxTree tree;
  std::vector<Aabb> boxes;
  std::vector<Collider> colliders(rig.parts.size());
  const auto isSimple = [](const Shape& s) {
    return !std::holds_alternative<TriangleMesh>(s) && !std::holds_alternative<Compound>(s) &&
           !std::holds_alternative<HalfSpace>(s);
  };
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    const Part& p = rig.parts[i];
    boxes.push_back(boundsOf(p.shape, p.pose));
    if (!isSimple(p.shape) || !p.collides) continue;
    buildCollider(p.shape, p.pose, colliders[i]);
    tree.insert(boxes[i], static_cast<int>(i));
  }
  std::vector<Overlap> list;
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    const Part& a = rig.parts[i];
    if (!isSimple(a.shape) || !a.collides) continue;
    tree.query(boxes[i], [&](int k) {
      const Part& b = rig.parts[k];
      if (k <= static_cast<int>(i) || (a.role != Role::dynamic && b.role != Role::dynamic)) return;
      const auto joint = joints.find(std::minmax(a.id, b.id));
      const bool joined = joint != joints.end();
      if ((joined && !joint->second->neighboursCollide) || apart.count({a.layer, b.layer})) return;
      Manifold manifold;
      collide(colliders[i], colliders[k], 0, manifold);
      double depth = 0;
      for (const ManifoldPoint& p : manifold.points) depth = std::max(depth, -p.gap);
      const double size = std::min((boxes[i].high - boxes[i].low).norm(), (boxes[k].high - boxes[k].low).norm());
      if (depth > 0.01 * size && depth > 1e-3)
        list.push_back({a.id, b.id, joined ? joint->second->id : kNone, depth, manifold.normal});
    });
  }
  return list;
}

double weightOn(const Rig& rig, const Joint& joint) {
  // From one side, all that can be reached without this joint; if nothing that stands is among it, it hangs here.
  std::map<Id, std::vector<Id>> next;
  for (const Joint& j : rig.joints) {
    if (j.id == joint.id) continue;
    next[j.a.part].push_back(j.b.part);
    next[j.b.part].push_back(j.a.part);
  }
  for (const Id start : {joint.b.part, joint.a.part}) {
    std::set<Id> seen{start};
    std::vector<Id> open{start};
    double mass = 0;
    bool hangs = true;
    while (!open.empty() && hangs) {
      const Id id = open.back();
      open.pop_back();
      const Part* part = rig.part(id);
      hangs = part && part->role == Role::dynamic;
      if (!hangs) break;
      mass += part->mass() * part->gravityScale;
      for (const Id to : next[id])
        if (seen.insert(to).second) open.push_back(to);
    }
    if (hangs && mass > 0) return mass * rig.stage.gravity.norm();
  }
  return 0;
}

Shape scaled(const Shape& shape, double factor) {
  Shape s = shape;
  if (auto* box = std::get_if<Box>(&s)) box->size *= factor;
  if (auto* sphere = std::get_if<Sphere>(&s)) sphere->radius *= factor;
  if (auto* capsule = std::get_if<Capsule>(&s)) capsule->radius *= factor, capsule->length *= factor;
  if (auto* cylinder = std::get_if<Cylinder>(&s)) cylinder->radius *= factor, cylinder->length *= factor;
  return s;
}

std::string lengthWords(double length) {
  return formatQuantity(length, Dimension::length);
}

std::string forceWords(double force) {
  return formatQuantity(force, Dimension::force);
}

std::string axisWords(JointType type, int k, double value) {
  if (!std::isfinite(value)) return "anything";
  return formatQuantity(value, axisTurns(type, k) ? Dimension::angle : Dimension::length);
}

}  // namespace calm::rig
