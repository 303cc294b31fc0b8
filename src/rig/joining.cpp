// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/joining.h"

#include <fmt/format.h>

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <map>
#include <stdexcept>

#include "engine/contact/core.h"
#include "engine/shape/box_tree.h"
#include "rig/edits.h"

namespace calm::rig {

namespace {

std::pair<Id, Id> ordered(Id a, Id b) {
  return std::minmax(a, b);
}

std::set<std::pair<Id, Id>> joinedPairs(const Rig& rig) {
  std::set<std::pair<Id, Id>> pairs;
  for (const Joint& j : rig.joints) pairs.insert(ordered(j.a.part, j.b.part));
  return pairs;
}

Id joinLikely(Rig& rig, JointType type, Id a, Id b) {
  return addJoint(rig, type, a, b, likelyPivot(rig, a, b), likelyAxis(rig, a, b, type));
}

bool isMoving(const Rig& rig, Id id) {
  const Part* part = rig.part(id);
  return part && part->role == Role::dynamic;
}

}  // namespace

std::vector<Id> joinInOrder(Rig& rig, JointType type, const std::vector<Id>& parts, bool ring) {
  if (parts.size() < 2) throw std::invalid_argument("choose at least two parts to join");
  std::vector<Id> made;
  const auto pairs = joinedPairs(rig);
  const std::size_t count = ring && parts.size() > 2 ? parts.size() : parts.size() - 1;
  for (std::size_t i = 0; i < count; ++i) {
    const Id a = parts[i], b = parts[(i + 1) % parts.size()];
    if (a != b && !pairs.count(ordered(a, b))) made.push_back(joinLikely(rig, type, a, b));
  }
  if (made.empty()) throw std::invalid_argument("these are joined already");
  return made;
}

namespace {

// The middle of the parts, and the directions in which they spread: columns from the least to the most.
std::pair<Vec3, Mat3> spreadOf(const Rig& rig, const std::set<Id>& parts) {
  Vec3 middle = Vec3::Zero();
  for (const Id id : parts) middle += rig.part(id)->pose.position / static_cast<double>(parts.size());
  Mat3 spread = Mat3::Zero();
  for (const Id id : parts) {
    const Vec3 off = rig.part(id)->pose.position - middle;
    spread += off * off.transpose();
  }
  return {middle, Eigen::SelfAdjointEigenSolver<Mat3>(spread).eigenvectors()};
}

template <class Measure>
std::vector<Id> orderedBy(const std::set<Id>& parts, const Measure& measure) {
  std::vector<Id> order(parts.begin(), parts.end());
  std::stable_sort(order.begin(), order.end(), [&](Id a, Id b) { return measure(a) < measure(b); });
  return order;
}

}  // namespace

std::vector<Id> alongTheirLine(const Rig& rig, const std::set<Id>& parts) {
  const Vec3 line = spreadOf(rig, parts).second.col(2);
  return orderedBy(parts, [&](Id id) { return line.dot(rig.part(id)->pose.position); });
}

std::vector<Id> roundTheirRing(const Rig& rig, const std::set<Id>& parts) {
  const auto [middle, axes] = spreadOf(rig, parts);
  return orderedBy(parts, [&, m = middle, a = axes](Id id) {
    const Vec3 off = rig.part(id)->pose.position - m;
    return std::atan2(a.col(1).dot(off), a.col(2).dot(off));
  });
}

std::vector<std::pair<Id, Id>> neighbours(const Rig& rig, const std::set<Id>& parts, double gap, int most) {
  std::vector<const Part*> list;
  for (const Id id : parts)
    if (const Part* p = rig.part(id)) list.push_back(p);
  BoxTree tree;
  std::vector<ConvexCore> cores;
  std::vector<Aabb> boxes;
  for (std::size_t i = 0; i < list.size(); ++i) {
    cores.push_back(facingCore(*list[i]));
    boxes.push_back(boundsOf(list[i]->shape, list[i]->pose).grown(Vec3::Constant(gap)));
    tree.insert(boxes.back(), static_cast<int>(i));
  }
  const auto known = joinedPairs(rig);
  std::vector<std::pair<double, std::pair<Id, Id>>> found;
  for (std::size_t i = 0; i < list.size(); ++i)
    tree.query(boxes[i], [&](int k) {
      if (k <= static_cast<int>(i)) return;
      const Id a = list[i]->id, b = list[k]->id;
      if (known.count(ordered(a, b)) || !(isMoving(rig, a) || isMoving(rig, b))) return;
      const double distance = closestPoints(cores[i], cores[k]).distance - cores[i].radius - cores[k].radius;
      if (distance <= gap) found.emplace_back(std::max(distance, 0.0), ordered(a, b));
    });
  std::sort(found.begin(), found.end());
  std::map<Id, int> held;
  for (const Joint& j : rig.joints) ++held[j.a.part], ++held[j.b.part];
  std::vector<std::pair<Id, Id>> pairs;
  for (const auto& [distance, pair] : found) {
    if (held[pair.first] >= most || held[pair.second] >= most) continue;
    ++held[pair.first], ++held[pair.second];
    pairs.push_back(pair);
  }
  return pairs;
}

std::vector<Id> joinNeighbours(Rig& rig, JointType type, const std::set<Id>& parts, double gap, int most) {
  std::vector<Id> made;
  for (const auto& [a, b] : neighbours(rig, parts, gap, most)) made.push_back(joinLikely(rig, type, a, b));
  if (made.empty()) throw std::invalid_argument("no two of these are near enough and free to be joined");
  return made;
}

void convert(Rig& rig, Id id, JointType type) {
  Joint* joint = rig.joint(id);
  if (!joint) throw std::invalid_argument(fmt::format("there is no joint with id {}", id));
  if (joint->type == type) return;
  Rig trial = rig;
  std::erase_if(trial.joints, [&](const Joint& j) { return j.id == id; });
  const Pose at = restFrame(rig, joint->b);
  const Id made =
      addJoint(trial, type, joint->a.part, joint->b.part, restPivot(rig, *joint), at.rotation * Vec3::UnitX());
  Joint next = *trial.joint(made);
  next.id = joint->id;
  next.name = joint->name;
  next.breakForce = joint->breakForce;
  if (type != JointType::ball) next.breakTorque = joint->breakTorque;
  next.armed = joint->armed;
  next.compliance = joint->compliance;
  next.pinRadius = joint->pinRadius;
  next.neighboursCollide = joint->neighboursCollide;
  next.group = joint->group;
  *joint = next;
}

void moveEnd(Rig& rig, Id id, int end, Id part) {
  Joint* joint = rig.joint(id);
  if (!joint) throw std::invalid_argument(fmt::format("there is no joint with id {}", id));
  Side& side = end == 0 ? joint->a : joint->b;
  const Pose at = restFrame(rig, side);
  const Side before = side;
  side = sideAt(rig, part, at.position, at.rotation * Vec3::UnitX(), at.rotation * Vec3::UnitY());
  for (const Fault& f : faultsOf(rig))
    if (f.place == fmt::format("joint \"{}\"", joint->name)) {
      side = before;
      throw std::invalid_argument(f.message);
    }
}

std::vector<Id> cut(Rig& rig, Id id, int count, JointType type) {
  if (count < 2 || count > 500) throw std::invalid_argument("cut into between 2 and 500 pieces");
  const Part* whole = rig.part(id);
  if (!whole) throw std::invalid_argument("choose the part to cut");
  const Part before = *whole;
  Shape piece = before.shape;
  Vec3 along = Vec3::UnitY();
  double length = 0;
  if (auto* box = std::get_if<Box>(&piece)) {
    int longest = 0;
    box->size.maxCoeff(&longest);
    along = Vec3::Unit(longest);
    length = box->size[longest] / count;
    box->size[longest] = length;
  } else if (auto* capsule = std::get_if<Capsule>(&piece)) {
    length = capsule->length / count;
    capsule->length = length;
    capsule->radius = std::min(capsule->radius, length / 2);
  } else if (auto* cylinder = std::get_if<Cylinder>(&piece)) {
    length = cylinder->length / count;
    cylinder->length = length;
  } else {
    throw std::invalid_argument(
        fmt::format("a {} cannot be cut; boxes, capsules and cylinders can", word(before.shape)));
  }
  const double mass = before.mass() / count;
  std::vector<Id> pieces;
  for (int i = 0; i < count; ++i) {
    Part p = before;
    p.shape = piece;
    if (before.role == Role::dynamic && (std::holds_alternative<Mass>(before.heft) || before.inertia))
      p.heft = Mass{mass};
    p.inertia.reset();
    p.center.reset();
    p.pose.position += before.pose.rotation * along * (length * (i - (count - 1) / 2.0));
    if (i == 0) {
      *rig.part(id) = p;
      pieces.push_back(id);
    } else {
      pieces.push_back(addPart(rig, p));
    }
  }
  const auto nearest = [&](const Vec3& at) {
    return *std::min_element(pieces.begin(), pieces.end(), [&](Id a, Id b) {
      return (rig.part(a)->pose.position - at).norm() < (rig.part(b)->pose.position - at).norm() - 1e-9;
    });
  };
  for (Joint& j : rig.joints)
    for (Side* side : {&j.a, &j.b}) {
      if (side->part != id) continue;
      const Vec3 at = before.pose.apply(side->at);
      side->part = nearest(at);
      side->at = rig.part(side->part)->pose.applyInverse(at);
    }
  if (before.role != Role::dynamic) return pieces;
  for (int i = 0; i + 1 < count; ++i) {
    const Vec3 at = (rig.part(pieces[i])->pose.position + rig.part(pieces[i + 1])->pose.position) / 2;
    addJoint(rig, type, pieces[i], pieces[i + 1], at, likelyAxis(rig, pieces[i], pieces[i + 1]));
  }
  return pieces;
}

}  // namespace calm::rig
