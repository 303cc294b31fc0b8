// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_solver.h"

#include <algorithm>
#include <cmath>

#include "engine/math/groups.h"

namespace calm {

namespace {

// Overlap is pushed out at this fraction a substep, and at most at this speed, so that nothing is flung.
constexpr double kPushRate = 0.2;
constexpr double kPushSpeed = 1;  // m/s
// Impacts do not bounce that are slower than so many times gravity's own change of speed over a substep, or than the
// least speed: they are what rests.
constexpr double kBounceShare = 2.5, kLeastBounce = 1e-6;  // m/s

}  // namespace

void ContactSolver::build(const std::vector<ContactPair*>& touching, const std::vector<Body>& bodies,
                          const Vec3& gravity, double h, bool closing) {
  points_.clear();
  closing_ = closing;
  slowest_ = std::max(kBounceShare * gravity.norm() * h, kLeastBounce);
  gatherPatches(touching, bodies);
  for (ContactPatch& patch : patches_) addPoints(patch, bodies, h);
}

void ContactSolver::gatherPatches(const std::vector<ContactPair*>& touching, const std::vector<Body>& bodies) {
  // Of each body among those that are touched; -1: none, as all are again in the end. One for each thread: islands are
  // many, and each touches few bodies.
  thread_local std::vector<int> placeOf;
  if (placeOf.size() < bodies.size()) placeOf.resize(bodies.size(), -1);
  patches_.clear();
  sets_.clear();
  touched_.clear();
  const auto pushes = [](const ContactImpulse& last) { return last.force[0] > 0; };
  std::vector<ContactPatch> found;
  const auto note = [&](int id) {
    if (placeOf[id] < 0) placeOf[id] = static_cast<int>(touched_.size()), touched_.push_back(id);
  };
  for (ContactPair* pair : touching) {
    if (closing_ && std::none_of(pair->last.begin(), pair->last.end(), pushes)) continue;
    note(pair->bodyA), note(pair->bodyB);
    ContactPatch& patch = found.emplace_back();
    patch.pair = pair;
    patch.a = pair->bodyA, patch.b = pair->bodyB;
  }
  Groups groups(touched_.size());
  for (const ContactPatch& p : found)
    if (bodies[p.a].dynamic() && bodies[p.b].dynamic()) groups.join(placeOf[p.a], placeOf[p.b]);
  // Sets one after another, each in the order of the pairs.
  std::vector<int> setOf(touched_.size(), -1), count;
  const auto rootOf = [&](const ContactPatch& p) { return groups.root(placeOf[bodies[p.a].dynamic() ? p.a : p.b]); };
  for (const ContactPatch& p : found) {
    int& set = setOf[rootOf(p)];
    if (set < 0) set = static_cast<int>(count.size()), count.push_back(0);
    ++count[set];
  }
  int first = 0;
  for (const int n : count) sets_.push_back({first, first, 0, 0}), first += n;
  patches_.resize(found.size());
  for (const ContactPatch& p : found) patches_[sets_[setOf[rootOf(p)]].endPatch++] = p;
  for (const int id : touched_) placeOf[id] = -1;
  touched_.clear();
  for (ContactSet& set : sets_) {
    set.firstPlace = static_cast<int>(touched_.size());
    for (int k = set.firstPatch; k < set.endPatch; ++k) {
      ContactPatch& p = patches_[k];
      note(p.a), note(p.b);
      p.placeA = placeOf[p.a], p.placeB = placeOf[p.b];
    }
    set.endPlace = static_cast<int>(touched_.size());
  }
  for (const int id : touched_) placeOf[id] = -1;
}

void ContactSolver::addPoints(ContactPatch& patch, const std::vector<Body>& bodies, double h) {
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const ContactPair& pair = *patch.pair;
  const Manifold& manifold = pair.manifold;
  const Vec3 n = manifold.normal, t1 = anyPerpendicular(n), t2 = n.cross(t1);
  const Vec3 fromA = a.position + manifold.touchTime * a.velocity, fromB = b.position + manifold.touchTime * b.velocity;
  // Arms are those in the middle of the step: what stands on a turntable is carried along its arc.
  const double turnA = closing_ ? 0 : h / 2 * n.dot(a.spin), turnB = closing_ ? 0 : h / 2 * n.dot(b.spin);
  const double twist = manifold.twistShare - 1;
  patch.directions << n, t1, t2;
  patch.first = size();
  patch.twists = twist != 0 && manifold.points.size() > 2;
  patch.bounces = pair.restitution > 0 || (manifold.touchTime > 0 && !a.jointed && !b.jointed);
  Vec3 middle = Vec3::Zero();
  for (const ManifoldPoint& m : manifold.points) middle += m.position / static_cast<double>(manifold.points.size());
  for (const ManifoldPoint& m : manifold.points) {
    Vec3 force = Vec3::Zero();
    for (const ContactImpulse& last : pair.last)
      if (last.id == m.id) force = last.force;
    if (closing_ && force[0] <= 0) continue;
    ContactPoint& p = points_.emplace_back();
    p.patch = static_cast<int>(&patch - patches_.data());
    p.id = m.id;
    p.position = m.position;
    p.armA = m.position - fromA, p.armB = m.position - fromB;
    p.armA += turnA * n.cross(p.armA), p.armB += turnB * n.cross(p.armB);
    p.lever = Vec3::Zero();
    if (patch.twists) {
      const Vec3 lever = twist * n.cross(m.position - middle);
      p.lever = Vec3(0, lever.dot(t1), lever.dot(t2));
    }
    p.gap = m.gap;
    if (m.gap >= 0 || closing_)
      p.target = -std::max(m.gap, 0.0) / h;
    else
      p.target = std::min(-kPushRate * m.gap / h, kPushSpeed);
    p.pushedOut = std::max(p.target, 0.0);
    p.impulse = force;  // until warmStart()
  }
  patch.end = size();
}

void ContactSolver::setOwnMobility(int point, const std::vector<Body>& bodies, ContactLaw<double>& law) const {
  const ContactPoint& p = points_[point];
  const ContactPatch& patch = patches_[p.patch];
  Mat3 mobility = Mat3::Zero();
  const auto add = [&](const Body& body, const Vec3& arm) {
    if (!body.dynamic()) return;
    const Mat3 turning = turningBy(arm, p.lever, patch.directions);
    mobility += turning.transpose() * body.response * turning;
    mobility.diagonal().array() += body.linearResponse;
  };
  add(bodies[patch.a], p.armA);
  add(bodies[patch.b], p.armB);
  setMobility(law, mobility);
}

Mat3 ContactSolver::turningBy(const Vec3& arm, const Vec3& lever, const Mat3& directions) {
  Mat3 turning;
  for (int k = 0; k < 3; ++k) turning.col(k) = arm.cross(directions.col(k)) + lever[k] * directions.col(0);
  return turning;
}

void ContactSolver::setMobility(ContactLaw<double>& law, const Mat3& mobility) {
  double m[3][3];
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) m[i][j] = mobility(i, j);
  calm::setMobility(law, m, kSoftness);
}

Vec3 ContactSolver::slipAt(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = points_[point];
  const ContactPatch& patch = patches_[p.patch];
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  return patch.directions.transpose() * (b.velocityAt(p.armB) - a.velocityAt(p.armA)) +
         p.lever * patch.normal().dot(b.spin - a.spin);
}

template <class ImpulseOf>
void ContactSolver::pushBodies(const ContactPatch& patch, std::vector<Body>& bodies, const ImpulseOf& impulseOf) const {
  Vec3 force = Vec3::Zero(), turnA = Vec3::Zero(), turnB = Vec3::Zero();
  double twist = 0;
  for (int i = patch.first; i < patch.end; ++i) {
    const ContactPoint& p = points_[i];
    const Vec3 impulse = impulseOf(i), along = patch.directions * impulse;
    force += along;
    turnA += p.armA.cross(along);
    turnB += p.armB.cross(along);
    twist += p.lever.dot(impulse);
  }
  if (Body& a = bodies[patch.a]; a.dynamic())
    a.velocity -= a.linearResponse * force, a.spin -= a.response * (turnA + twist * patch.normal());
  if (Body& b = bodies[patch.b]; b.dynamic())
    b.velocity += b.linearResponse * force, b.spin += b.response * (turnB + twist * patch.normal());
}

void ContactSolver::pushByChanges(std::vector<Body>& bodies, const std::vector<Vec3>& impulses) {
  for (const ContactPatch& patch : patches_)
    pushBodies(patch, bodies, [&](int i) { return Vec3(impulses[i] - points_[i].impulse); });
  for (int i = 0; i < size(); ++i) points_[i].impulse = impulses[i];
}

void ContactSolver::pushAt(int point, const Vec3& impulse, std::vector<Body>& bodies) const {
  ContactPatch alone = patches_[points_[point].patch];
  alone.first = point, alone.end = point + 1;
  pushBodies(alone, bodies, [&](int) { return impulse; });
}

void ContactSolver::warmStart(std::vector<Body>& bodies, double time) {
  for (ContactPoint& p : points_) {
    p.impulse *= time;  // was a force
    p.given = p.impulse[0];
  }
  for (const ContactPatch& patch : patches_) pushBodies(patch, bodies, [&](int i) { return points_[i].impulse; });
}

double ContactSolver::relaxApart(std::vector<Body>& bodies, const Goal& goal) {
  lanes_.load(patches_, points_, sets_, touched_, bodies, kSoftness, closing_, true);
  lanes_.takeVelocities(bodies);
  const double change = lanes_.relax(goal.sweeps, goal.enough, goal.reduction);
  lanes_.giveVelocities(bodies);
  lanes_.giveImpulses(patches_, points_);
  return change;
}

double ContactSolver::relaxInTurn(std::vector<Body>& bodies, const Goal& goal,
                                  const std::function<void()>& solveJoints) {
  lanes_.load(patches_, points_, sets_, touched_, bodies, kSoftness, closing_, false);
  double change = 0, enough = goal.enough;
  for (int i = 0; i < goal.sweeps; ++i) {
    lanes_.takeVelocities(bodies);
    change = lanes_.sweep();
    lanes_.giveVelocities(bodies);
    solveJoints();
    if (change < enough) break;
    if (i == 0) enough = std::max(enough, goal.reduction * change);
  }
  lanes_.giveImpulses(patches_, points_);
  return change;
}

void ContactSolver::takeOver(const std::vector<ContactPair*>& pairs) {
  pushing_.clear();
  for (ContactPair* pair : pairs)
    if (!pair->last.empty()) pushing_.push_back(pair);
}

void ContactSolver::store(const std::vector<Body>& bodies, double time) {
  storedTime_ = time;
  for (ContactPair* pair : pushing_) pair->last.clear();
  pushing_.clear();
  for (const ContactPatch& patch : patches_) {
    pushing_.push_back(patch.pair);
    const Mat3 toA = bodies[patch.a].axes.transpose();
    for (int i = patch.first; i < patch.end; ++i) {
      const ContactPoint& p = points_[i];
      patch.pair->last.push_back({p.id, toA * p.armA, p.impulse / time});
      account(p, p.impulse);
    }
  }
}

void ContactSolver::account(const ContactPoint& p, const Vec3& impulse) {
  const ContactPatch& patch = patches_[p.patch];
  const Vec3 along = patch.directions * impulse;
  patch.pair->frameImpulse += along;
  patch.pair->frameMoment += p.position.cross(along) + p.lever.dot(impulse) * patch.normal();
}

void ContactSolver::pushAtLastForce(std::vector<Body>& bodies) const {
  for (const ContactPatch& patch : patches_)
    pushBodies(patch, bodies, [&](int i) { return Vec3(points_[i].impulse / storedTime_); });
}

}  // namespace calm
