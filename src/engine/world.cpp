// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/world.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "engine/contact/broad_phase.h"

namespace calm {

namespace {

void require(bool condition, const std::string& fault) {
  if (!condition) throw WorldError(fault);
}

bool isPose(const Pose& pose) {
  return pose.position.allFinite() && pose.rotation.coeffs().allFinite() && std::abs(pose.rotation.norm() - 1) < 1e-6;
}

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

World::World(const StepSettings& settings) : settings_(settings) {
  require(settings.gravity.allFinite(), "gravity must be finite");
  require(std::isfinite(settings.frame) && settings.frame > 0, "the frame time must be above 0 s");
  require(settings.substeps >= 1 && settings.substeps <= 10000, "the number of substeps must lie in 1 to 10000");
  bodies_.emplace_back();  // kWorld
}

BodyId World::addBody(const BodyDef& def) {
  require(isPose(def.pose), "position and orientation must be finite, the orientation of unit length");
  require(def.velocity.allFinite() && def.angularVelocity.allFinite(), "velocities must be finite");
  require(def.friction >= 0 && std::isfinite(def.friction), "friction must be 0 or more");
  require(def.restitution >= 0 && def.restitution <= 1, "restitution must lie in 0 to 1");
  require(def.linearDamping >= 0 && def.angularDamping >= 0 && std::isfinite(def.linearDamping + def.angularDamping),
          "damping must be 0 or more");
  require(std::isfinite(def.gravityScale), "the gravity scale must be finite");
  for (const PlacedShape& s : def.shapes) {
    const std::string fault = faultOf(s.shape);
    require(fault.empty(), fault);
    require(isPose(s.pose), "a shape's position and orientation must be finite");
    require(!(std::holds_alternative<HalfSpace>(s.shape) && def.role == Role::dynamic),
            "a half space has no mass and cannot be dynamic");
  }
  Body body;
  body.role = def.role;
  if (def.role == Role::dynamic) {
    const std::string fault = faultOf(def.mass);
    require(fault.empty(), fault);
    const PrincipalAxes principal = principalAxes(def.mass.inertia);
    body.mass = def.mass.mass;
    body.inverseMass = 1 / def.mass.mass;
    body.inertia = PrincipalInertia(principal.moments);
    body.inPart = {def.mass.center, principal.rotation};
    body.linearDamping = def.linearDamping;
    body.angularDamping = def.angularDamping;
    body.gravityScale = def.gravityScale;
    body.velocity = def.velocity;
    body.spin = def.angularVelocity;
  }
  body.placePart(def.pose);
  const BodyId id = bodyCount();
  bodies_.push_back(body);
  for (const PlacedShape& s : def.shapes) {
    shapes_.push_back({id, s.shape, body.inPart.inverse() * s.pose, def.friction, def.restitution});
    colliders_.emplace_back();
    buildCollider(s.shape, def.pose * s.pose, colliders_.back());
  }
  return id;
}

const Body& World::checked(BodyId body) const {
  require(body >= 0 && body < bodyCount(), "there is no part number " + std::to_string(body));
  return bodies_[body];
}

JointId World::addJoint(const JointDef& def) {
  const Body &a = checked(def.a), &b = checked(def.b);
  require(def.a != def.b, "a part cannot be joined to itself");
  require(a.dynamic() || b.dynamic(), "at least one of the two parts must be dynamic");
  require(isPose(def.frameA) && isPose(def.frameB), "pivots and axes must be finite");
  require(def.compliance >= 0 && std::isfinite(def.compliance), "compliance must be 0 or more");
  require(def.pinRadius > 0 && std::isfinite(def.pinRadius), "the pin radius must be above 0 m");
  require(def.breakForce > 0, "the break force must be above 0 N");
  require(def.breakTorque > 0, "the break torque must be above 0 N m");
  for (int k = 0; k < axesOf(def.type).all(); ++k) {
    const AxisDef& axis = def.axes[k];
    require(axis.low <= axis.high, "the low stop of an axis must not lie above the high one");
    require(!std::isnan(axis.low + axis.high) || axis.low == -kNoLimit, "stops must be numbers");
    require(std::isfinite(axis.speed + axis.target), "motor speed and spring target must be finite");
    for (const auto& [what, value] : {std::pair("motor cap", axis.cap), std::pair("friction", axis.friction),
                                      std::pair("stiffness", axis.stiffness), std::pair("damping", axis.damping)})
      require(value >= 0 && std::isfinite(value), std::string(what) + " must be 0 or more");
  }
  JointState state;
  state.def = def;
  const Pose frameA = a.inPart.inverse() * def.frameA, frameB = b.inPart.inverse() * def.frameB;
  state.geometry = {frameA.position, frameB.position, frameA.rotation.toRotationMatrix(),
                    frameB.rotation.toRotationMatrix()};
  joints_.push_back(state);
  readAxes(joints_.back());
  if (!def.neighboursCollide) quiet_.insert(std::minmax(def.a, def.b));
  jointsChanged_ = true;
  return jointCount() - 1;
}

void World::buildAssemblies() {
  Groups groups(bodies_.size());
  const auto active = [&](const JointState& j) { return !j.reading.parted; };
  for (const JointState& j : joints_)
    if (active(j) && bodies_[j.def.a].dynamic() && bodies_[j.def.b].dynamic()) groups.join(j.def.a, j.def.b);
  std::map<int, std::vector<Assembly::Member>> members;
  for (JointId id = 0; id < jointCount(); ++id) {
    const JointDef& d = joints_[id].def;
    if (!active(joints_[id])) continue;
    const int group = groups.root(bodies_[d.a].dynamic() ? d.a : d.b);
    members[group].push_back({id, d.type, d.a, d.b, joints_[id].geometry, d.axes, d.compliance, d.pinRadius});
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
    if (b.dynamic()) {
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
  for (const auto& [key, pair] : pairs_)
    if (bodies_[pair.bodyA].dynamic() && bodies_[pair.bodyB].dynamic()) groups.join(pair.bodyA, pair.bodyB);
  std::map<int, Island> islands;
  for (BodyId id = 0; id < bodyCount(); ++id)
    if (bodies_[id].dynamic()) islands[groups.root(id)].bodies.push_back(id);
  for (Assembly& a : assemblies_) islands[groups.root(a.dynamicBodies().front())].assemblies.push_back(&a);
  for (auto& [key, pair] : pairs_)
    islands[groups.root(bodies_[pair.bodyA].dynamic() ? pair.bodyA : pair.bodyB)].pairs.push_back(&pair);
  std::vector<Island> list;
  for (auto& [root, island] : islands) list.push_back(std::move(island));
  return list;
}

void World::readAxes(JointState& j) const {
  const Body &a = bodies_[j.def.a], &b = bodies_[j.def.b];
  for (int k = 0; k < axesOf(j.def.type).all(); ++k) {
    std::vector<double> memory(RowBlock::storage(1, 1));
    RowBlock rows(memory.data(), 1);
    evaluateCoordinate(j.def.type, k, j.geometry, a, b, rows);
    const Eigen::Map<const Eigen::Matrix<double, kRowWidth, 1>> row(rows.jacobian());
    j.reading.position[k] = rows.error()[0];
    j.reading.rate[k] = row.segment<3>(0).dot(a.velocity) + row.segment<3>(3).dot(a.spin) +
                        row.segment<3>(6).dot(b.velocity) + row.segment<3>(9).dot(b.spin);
  }
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

BodyState World::state(BodyId body) const {
  const Body& b = checked(body);
  return {b.partPose(), b.velocity, b.spin};
}

void World::setVelocity(BodyId body, const Vec3& velocity, const Vec3& angularVelocity) {
  checked(body);
  require(velocity.allFinite() && angularVelocity.allFinite(), "velocities must be finite");
  bodies_[body].velocity = velocity;
  bodies_[body].spin = angularVelocity;
}

void World::addForce(BodyId body, const Vec3& force, const Vec3& point) {
  checked(body);
  require(force.allFinite() && point.allFinite(), "a force and its point must be finite");
  Body& b = bodies_[body];
  b.force += force;
  b.torque += (point - b.position).cross(force);
}

void World::addTorque(BodyId body, const Vec3& torque) {
  checked(body);
  require(torque.allFinite(), "a torque must be finite");
  bodies_[body].torque += torque;
}

void World::clearForces() {
  for (Body& b : bodies_) b.force = b.torque = Vec3::Zero();
}

void World::applyImpulse(BodyId body, const Vec3& impulse, const Vec3& point) {
  checked(body);
  require(impulse.allFinite() && point.allFinite(), "an impulse and its point must be finite");
  Body& b = bodies_[body];
  if (!b.dynamic()) return;
  b.velocity += b.inverseMass * impulse;
  b.spin += b.worldInertia().inverse() * (point - b.position).cross(impulse);
}

std::vector<ContactReading> World::contacts() const {
  std::vector<ContactReading> readings;
  for (const auto& [key, pair] : pairs_) {
    const Vec3& n = pair.manifold.normal;
    const Vec3 t1 = anyPerpendicular(n), t2 = n.cross(t1);
    for (const ManifoldPoint& p : pair.manifold.points)
      for (const ContactImpulse& c : pair.last)
        if (c.id == p.id && c.force[0] > 0)
          readings.push_back(
              {pair.bodyA, pair.bodyB, p.position, n, c.force[0] * n + c.force[1] * t1 + c.force[2] * t2, p.gap});
  }
  return readings;
}

Energy World::energy() const {
  Energy e;
  for (const Body& b : bodies_) {
    if (!b.dynamic()) continue;
    e.kinetic += b.kineticEnergy();
    e.potential -= b.mass * b.gravityScale * settings_.gravity.dot(b.position);
  }
  for (const JointState& j : joints_) {
    if (j.reading.parted) continue;
    const AxisCount count = axesOf(j.def.type);
    for (int k = 0; k < count.all(); ++k) {
      double stretch = j.reading.position[k] - j.def.axes[k].target;
      if (k >= count.along) stretch = std::remainder(stretch, 2 * std::numbers::pi);
      e.springs += 0.5 * j.def.axes[k].stiffness * stretch * stretch;
    }
  }
  return e;
}

Vec3 World::momentum() const {
  Vec3 sum = Vec3::Zero();
  for (const Body& b : bodies_)
    if (b.dynamic()) sum += b.mass * b.velocity;
  return sum;
}

Vec3 World::angularMomentum(const Vec3& about) const {
  Vec3 sum = Vec3::Zero();
  for (const Body& b : bodies_)
    if (b.dynamic()) sum += b.worldInertia() * b.spin + (b.position - about).cross(b.mass * b.velocity);
  return sum;
}

std::optional<World::Hit> World::castRay(const Ray& ray) const {
  std::optional<Hit> best;
  for (const BodyShape& s : shapes_) {
    const auto hit = calm::castRay(ray, s.shape, bodies_[s.body].pose() * s.pose);
    if (hit && (!best || hit->distance < best->distance)) best = Hit{s.body, hit->distance, hit->normal};
  }
  return best;
}

}  // namespace calm
