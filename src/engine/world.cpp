// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/world.h"

#include <algorithm>
#include <numeric>

#include "engine/contact/broad_phase.h"

namespace calm {

namespace {

// Disjoint sets over body ids.
class Groups {
 public:
  explicit Groups(std::size_t count) : parent_(count) { std::iota(parent_.begin(), parent_.end(), 0); }
  int root(int i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  void join(int i, int j) {
    i = root(i), j = root(j);
    parent_[std::max(i, j)] = std::min(i, j);
  }

 private:
  std::vector<int> parent_;
};

}  // namespace

void World::buildAssemblies() {
  Groups groups(bodies_.size());
  const auto active = [&](const JointState& j) { return !j.reading.parted; };
  for (const JointState& j : joints_)
    if (active(j) && bodies_[j.def.a].dynamic() && bodies_[j.def.b].dynamic()) groups.join(j.def.a, j.def.b);
  std::map<int, std::vector<Assembly::Member>> members;
  for (JointId id = 0; id < jointCount(); ++id) {
    const JointDef& d = joints_[id].def;
    if (!active(joints_[id]) || !(bodies_[d.a].dynamic() || bodies_[d.b].dynamic())) continue;
    const int group = groups.root(bodies_[d.a].dynamic() ? d.a : d.b);
    members[group].push_back(
        {id, d.type, d.a, d.b, joints_[id].geometry, d.axes, joints_[id].windings, d.compliance, d.pinRadius});
  }
  assemblies_.clear();
  for (Body& b : bodies_) {
    b.untouchedAxis.setZero();
    b.jointed = false;
  }
  for (const auto& [group, list] : members) {
    assemblies_.emplace_back(list, bodies_);
    assemblies_.back().markUntouchedAxes(bodies_);
    for (BodyId id : assemblies_.back().dynamicBodies()) bodies_[id].jointed = true;
  }
  jointsChanged_ = false;
}

void World::refreshPairs() {
  std::vector<Aabb> boxes;
  std::vector<char> moving;
  for (const BodyShape& s : shapes_) {
    const Body& b = bodies_[s.body];
    Aabb box = boundsOf(s.shape, b.pose() * s.pose);
    if (b.moves()) {
      // As far as the shape can get within the frame, with as much again for what pushes it.
      const double t = settings_.frame;
      const double size = (box.high - box.low).norm();
      const double fall =
          (settings_.gravity.norm() * std::abs(b.gravityScale) + b.force.norm() * b.inverseMass) * t * t;
      const double reach = 2 * (b.velocity.norm() + b.spin.norm() * size) * t + fall + 0.01 * size;
      box = box.grown(Vec3::Constant(reach));
    }
    boxes.push_back(box);
    moving.push_back(b.dynamic());
  }
  std::map<std::pair<int, int>, ContactPair> next;
  for (const auto& key : overlappingPairs(boxes, moving)) {
    const BodyShape &a = shapes_[key.first], &b = shapes_[key.second];
    if (a.body == b.body || quiet_.count(std::minmax(a.body, b.body))) continue;
    if (const auto known = pairs_.find(key); known != pairs_.end()) {
      next.insert(pairs_.extract(known));
      continue;
    }
    ContactPair pair;
    pair.bodyA = a.body, pair.bodyB = b.body;
    pair.shapeA = key.first, pair.shapeB = key.second;
    pair.friction = std::sqrt(a.friction * b.friction);
    pair.restitution = std::max(a.restitution, b.restitution);
    next.emplace(key, pair);
  }
  pairs_ = std::move(next);
}

std::vector<Island> World::makeIslands() {
  Groups groups(bodies_.size());
  const auto joinAll = [&](const std::vector<BodyId>& ids) {
    for (BodyId id : ids) groups.join(ids.front(), id);
  };
  for (const Assembly& a : assemblies_) joinAll(a.dynamicBodies());
  // Kinematic bodies belong to one island each, so that their motion is followed once.
  const auto joinMoving = [&](BodyId a, BodyId b) {
    if (bodies_[a].moves() && bodies_[b].moves()) groups.join(a, b);
  };
  for (const JointState& j : joints_)
    if (!j.reading.parted) joinMoving(j.def.a, j.def.b);
  for (const auto& [key, pair] : pairs_) joinMoving(pair.bodyA, pair.bodyB);
  std::map<int, Island> islands;
  for (BodyId id = 0; id < bodyCount(); ++id)
    if (bodies_[id].moves()) islands[groups.root(id)].bodies.push_back(id);
  for (Assembly& a : assemblies_) islands[groups.root(a.dynamicBodies().front())].assemblies.push_back(&a);
  for (auto& [key, pair] : pairs_)
    islands[groups.root(bodies_[pair.bodyA].dynamic() ? pair.bodyA : pair.bodyB)].pairs.push_back(&pair);
  std::vector<Island> list;
  for (auto& [root, island] : islands) list.push_back(std::move(island));
  return list;
}

Residual World::step() {
  if (jointsChanged_) buildAssemblies();
  refreshPairs();
  std::vector<Island> islands = makeIslands();
  const Scene scene{settings_, bodies_, shapes_, colliders_, joints_, time()};
  Residual residual;
  for (JointState& j : joints_)
    if (j.reading.parted) {
      const double at = j.reading.partedAt;
      j.reading = {};
      j.reading.parted = true;
      j.reading.partedAt = at;
    }
  for (Island& island : islands) residual.include(island.advance(scene, fresh_));
  fresh_ = false;
  for (const Assembly& a : assemblies_)
    for (int n = 0; n < a.nodes(); ++n) jointsChanged_ |= a.released(n);
  ++frames_;
  for (JointState& j : joints_) readAxes(j);
  return residual;
}

}  // namespace calm
