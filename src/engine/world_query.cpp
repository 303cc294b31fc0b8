// SPDX-License-Identifier: GPL-3.0-or-later
// Asking a world, and pushing what is in it.
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <set>

#include "engine/shape/mesh.h"
#include "engine/solve/yield.h"
#include "engine/world.h"

namespace calm {

void World::readAxes(JointState& j) const {
  const Body &a = bodies_[j.def.a], &b = bodies_[j.def.b];
  for (int k = 0; k < axesOf(j.def.type).all(); ++k) {
    std::array<double, RowBlock::storage(1, 1)> memory{};
    RowBlock rows(memory.data(), 1);
    std::vector<double> onRiders(6 * j.geometry.riders.size());
    rows.riders = {&bodies_, onRiders.data()};
    // A free axis has no row that counts its turns: it goes by where its rate has taken it.
    Winding winding = j.windings[k];
    if (!j.def.axes[k].isUsed()) winding.before[0] = j.reading.position[k] + settings_.frame * j.reading.rate[k];
    evaluateCoordinate(j.def.type, k, j.geometry, a, b, winding, rows);
    j.reading.position[k] = rows.error()[0];
    j.reading.rate[k] = rowVelocity(rows.jacobian(), rowMotion(a.velocity, a.spin, b.velocity, b.spin));
    for (std::size_t r = 0; r < j.geometry.riders.size(); ++r) {
      const Body& rider = bodies_[j.geometry.riders[r]];
      const Eigen::Map<const Vec3> along(&onRiders[6 * r]), about(&onRiders[6 * r + 3]);
      j.reading.rate[k] += along.dot(rider.velocity) + about.dot(rider.spin);
    }
    j.windings[k].before = winding.now;
  }
}

BodyState World::state(BodyId body) const {
  const Body& b = checked(body);
  return {b.partPose(), b.velocity, b.spin};
}

void World::setVelocity(BodyId body, const Vec3& velocity, const Vec3& angularVelocity) {
  checked(body);
  require(velocity.allFinite() && angularVelocity.allFinite(), "velocities must be finite");
  wake(body);
  Body& b = bodies_[body];
  b.velocity = velocity;
  b.spin = angularVelocity;
  b.spanBefore = 0;
}

void World::addForce(BodyId body, const Vec3& force, const Vec3& point) {
  checked(body);
  require(force.allFinite() && point.allFinite(), "a force and its point must be finite");
  wake(body);
  Body& b = bodies_[body];
  b.force += force;
  b.torque += (point - b.position).cross(force);
}

void World::addTorque(BodyId body, const Vec3& torque) {
  checked(body);
  require(torque.allFinite(), "a torque must be finite");
  wake(body);
  bodies_[body].torque += torque;
}

Vec3 World::velocityAt(BodyId body, const Vec3& point) const {
  const Body& b = checked(body);
  return b.velocityAt(point - b.position);
}

double World::massAt(BodyId body, const Vec3& point) const {
  const Body& b = checked(body);
  if (!b.dynamic()) return std::numeric_limits<double>::infinity();
  const Vec3 r = point - b.position;
  Mat3 cross;
  cross << 0, -r.z(), r.y(), r.z(), 0, -r.x(), -r.y(), r.x(), 0;
  const Mat3 inverse = b.axes * b.inertia.inverse().asDiagonal() * b.axes.transpose();
  const Mat3 mobility = b.inverseMass * Mat3::Identity() + cross.transpose() * inverse * cross;
  return 1 / Eigen::SelfAdjointEigenSolver<Mat3>(mobility, Eigen::EigenvaluesOnly).eigenvalues()[2];
}

void World::clearForces() {
  for (int id = 0; id < bodyCount(); ++id) {
    Body& b = bodies_[id];
    if (!b.force.isZero(0) || !b.torque.isZero(0)) wake(id);
    b.force = b.torque = Vec3::Zero();
  }
}

void World::applyImpulse(BodyId body, const Vec3& impulse, const Vec3& point) {
  checked(body);
  require(impulse.allFinite() && point.allFinite(), "an impulse and its point must be finite");
  Body& b = bodies_[body];
  if (!b.dynamic()) return;
  wake(body);
  b.velocity += b.inverseMass * impulse;
  b.spin += b.worldInertia().inverse() * (point - b.position).cross(impulse);
  b.spanBefore = 0;
}

std::vector<ContactReading> World::contacts() const {
  std::vector<ContactReading> readings;
  for (std::size_t i = 0; i < pairs_.size(); ++i) {
    const ContactPair& pair = pairs_[i];
    const Vec3& n = pair.manifold.normal;
    const Vec3 t1 = anyPerpendicular(n), t2 = n.cross(t1);
    const Body& a = bodies_[pair.bodyA];
    const std::vector<ManifoldPoint>& points = pair.manifold.points;
    for (const ContactImpulse& c : pair.last) {
      if (c.force[0] <= 0) continue;
      const auto point =
          std::find_if(points.begin(), points.end(), [&](const ManifoldPoint& p) { return p.id == c.id; });
      const bool cell = c.id >= kFirstCell && !points.empty();
      if (point == points.end() && !cell) continue;
      const Vec3 position = cell ? Vec3(a.position + a.axes * c.onA) : point->position;
      const double gap = cell ? pair.manifold.leastGap() : point->gap;
      readings.push_back(
          {pair.bodyA, pair.bodyB, position, n, c.force[0] * n + c.force[1] * t1 + c.force[2] * t2, gap});
    }
  }
  return readings;
}

std::vector<TouchReading> World::touches() const {
  std::map<std::pair<BodyId, BodyId>, TouchReading> sums;
  for (std::size_t i = 0; i < pairs_.size(); ++i) {
    const ContactPair& pair = pairs_[i];
    if (pair.frameImpulse.isZero(0)) continue;
    // Meshes are always b of a pair; the lower number comes first here.
    const bool flip = pair.bodyA > pair.bodyB;
    const std::pair<BodyId, BodyId> ids = std::minmax(pair.bodyA, pair.bodyB);
    TouchReading& sum =
        sums.try_emplace(ids, TouchReading{ids.first, ids.second, Vec3::Zero(), Vec3::Zero()}).first->second;
    const double rate = (flip ? -1 : 1) / settings_.frame;
    sum.force += rate * pair.frameImpulse;
    sum.moment += rate * pair.frameMoment;
  }
  std::vector<TouchReading> readings;
  for (const auto& [ids, reading] : sums) readings.push_back(reading);
  return readings;
}

std::vector<Aabb> World::bounds() const {
  std::vector<Aabb> boxes(bodies_.size());
  for (const BodyShape& s : shapes_) {
    const Aabb box = boundsOf(s.shape, bodies_[s.body].pose() * s.pose);
    if (box.high.x() < 1e200) boxes[s.body].include(box);
  }
  return boxes;
}

std::vector<World::SubstepReading> World::substepsOf(JointId joint) const {
  const JointState& j = joints_.at(joint);
  const double h = settings_.frame / settings_.substeps;
  // The newest entry is the half of a substep that the next frame completes.
  std::vector<SubstepReading> list;
  const std::size_t whole = j.window.empty() ? 0 : j.window.size() - 1;
  const std::size_t first = whole > j.errors.size() ? whole - j.errors.size() : 0;
  for (std::size_t i = first; i < whole; ++i)
    list.push_back({j.window[i].first.norm() / h, j.window[i].second.norm() / h, j.errors[i - first]});
  return list;
}

double World::kineticEnergy(BodyId body) const {
  const Body& b = checked(body);
  return b.dynamic() ? b.kineticEnergy() : 0;
}

double World::potentialEnergy(BodyId body) const {
  const Body& b = checked(body);
  if (!b.dynamic()) return 0;
  return potentialOf(fields_, body, b) - b.mass * b.gravityScale * settings_.gravity.dot(b.position);
}

Energy World::energy() const {
  Energy e;
  for (BodyId id = 0; id < bodyCount(); ++id) {
    e.kinetic += kineticEnergy(id);
    e.potential += potentialEnergy(id);
  }
  for (const JointState& j : joints_) {
    if (!j.holds()) continue;
    e.springs += energyOfYield(j);
    for (int k = 0; k < axesOf(j.def.type).all(); ++k) {
      const AxisDef& axis = j.def.axes[k];
      const double at = j.reading.position[k];
      e.springs += springEnergy(axis, at - axis.target);
      if (!axis.hasSoftStops()) continue;
      const double beyond = std::max({at - axis.high, axis.low - at, 0.0});
      e.springs += 0.5 * axis.stopStiffness * beyond * beyond;
    }
  }
  return e;
}

// J, of what a joint locks that yields by its compliance. What is too stiff for the step to follow yields by its load.
double World::energyOfYield(const JointState& j) const {
  const JointDef& d = j.def;
  if (d.compliance == 0) return 0;
  const double step = settings_.frame / settings_.substeps;
  const Yield yield = yieldOf(d.compliance, d.pinRadius, bodies_[d.a], bodies_[d.b], step);
  const auto stored = [](double stiffness, double compliance, double stretch, double load) {
    if (stiffness > 0) return 0.5 * stiffness * stretch * stretch;
    return 0.5 * std::min(stretch * stretch / compliance, compliance * load * load);
  };
  const double turning = d.compliance / (d.pinRadius * d.pinRadius);
  double sum = stored(yield.along, d.compliance, j.reading.separation, j.reading.force.norm()) +
               stored(yield.about, turning, j.reading.misalignment, j.reading.torque.norm());
  for (int k = 0; k < axesOf(d.type).all(); ++k) {
    const AxisDef& axis = d.axes[k];
    if (!axis.hasHardStops() || d.type == JointType::winch) continue;
    const double at = j.reading.position[k], beyond = std::max({at - axis.high, axis.low - at, 0.0});
    const bool along = k < axesOf(d.type).along;
    sum += stored(along ? yield.along : yield.about, along ? d.compliance : turning, beyond, j.reading.effort[k]);
  }
  return sum;
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

std::vector<BodyId> World::overlapping(const Shape& shape, const Pose& pose) const {
  require(faultOf(shape).empty(), faultOf(shape));
  std::set<BodyId> found;
  forEachSimple(shape, pose, [&](const Shape& probe, const Pose& at) {
    Collider own;
    buildCollider(probe, at, own);
    const Aabb box = boundsOf(probe, at);
    Manifold manifold;
    for (const BodyShape& s : shapes_) {
      const Pose there = bodies_[s.body].pose() * s.pose;
      if (found.count(s.body) || !box.overlaps(boundsOf(s.shape, there))) continue;
      const auto note = [&] {
        const auto touches = [](const ManifoldPoint& p) { return p.gap <= 0; };
        if (std::any_of(manifold.points.begin(), manifold.points.end(), touches)) found.insert(s.body);
      };
      if (const auto* mesh = std::get_if<TriangleMesh>(&s.shape)) {
        for (int t = 0; t < static_cast<int>(mesh->data->triangles.size()); ++t) {
          collideWithTriangle(own.core, {mesh->data.get(), t, there}, 1e-9, manifold);
          note();
        }
        continue;
      }
      Collider other;
      buildCollider(s.shape, there, other);
      collide(own, other, 1e-9, manifold);
      note();
    }
  });
  return {found.begin(), found.end()};
}

}  // namespace calm
