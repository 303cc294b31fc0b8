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

// Sets of contacts up to so many pairs are small.
constexpr int kSmallSet = 32;

// Where the body is among those that are touched, which it joins if it must.
int placeIn(std::vector<int>& touched, std::vector<int>& placeOf, int id) {
  if (placeOf[id] < 0) placeOf[id] = static_cast<int>(touched.size()), touched.push_back(id);
  return placeOf[id];
}

// Puts what is in [first, middle) and in [middle, end) side by side, as long as both last.
template <class Patch>
void interleave(std::vector<Patch>& patches, int first, int middle, int end) {
  const std::vector<Patch> before(patches.begin() + first, patches.begin() + end);
  const int ones = middle - first, others = end - middle;
  int at = first;
  for (int k = 0; k < std::max(ones, others); ++k) {
    if (k < ones) patches[at++] = before[k];
    if (k < std::min(ones, others)) patches[at - 1].withNext = true;
    if (k < others) patches[at++] = before[ones + k];
  }
}

// The velocities along the directions by unit impulses along them, less what the mass gives.
void addTurningMobility(const Body& body, const Mat3& turning, Mat3& mobility) {
  const Mat3 answer = body.response * turning;
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) mobility(i, j) += turning.col(i).dot(answer.col(j));
}

}  // namespace

std::vector<std::pair<ContactPair*, bool>> ContactSolver::inOrder(const std::vector<ContactPair*>& pairs,
                                                                  const std::vector<Body>& bodies) {
  std::vector<ContactPair*> touching;
  for (ContactPair* pair : pairs)
    if (!pair->manifold.points.empty()) touching.push_back(pair);
  touched_.clear();
  const auto place = [&](int id) { return placeIn(touched_, placeOf_, id); };
  Groups groups(2 * touching.size());
  for (const ContactPair* pair : touching) {
    const int a = place(pair->bodyA), b = place(pair->bodyB);
    if (bodies[pair->bodyA].dynamic() && bodies[pair->bodyB].dynamic()) groups.join(a, b);
  }
  std::vector<std::pair<int, ContactPair*>> sets;
  for (ContactPair* pair : touching)
    sets.emplace_back(groups.root(placeOf_[bodies[pair->bodyA].dynamic() ? pair->bodyA : pair->bodyB]), pair);
  std::stable_sort(sets.begin(), sets.end(), [](const auto& x, const auto& y) { return x.first < y.first; });
  std::vector<std::pair<ContactPair*, bool>> ordered;
  for (std::size_t i = 0; i < sets.size(); ++i)
    ordered.emplace_back(sets[i].second, i == 0 || sets[i].first != sets[i - 1].first);
  for (const int id : touched_) placeOf_[id] = -1;
  touched_.clear();
  return ordered;
}

void ContactSolver::build(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, const Vec3& gravity,
                          double h, bool closing) {
  patches_.clear();
  contacts_.clear();
  points_.clear();
  ranges_.clear();
  placeOf_.resize(bodies.size(), -1);
  gradient_ = beta_ = 0;
  closing_ = closing;
  slowest_ = std::max(kBounceShare * gravity.norm() * h, kLeastBounce);
  const auto closeRange = [&] {
    if (ranges_.empty()) return;
    ranges_.back().endPatch = static_cast<int>(patches_.size());
    ranges_.back().endMotion = static_cast<int>(touched_.size());
  };
  for (const auto& [pair, startsSet] : inOrder(pairs, bodies)) {
    if (startsSet) {
      closeRange();
      ranges_.push_back({static_cast<int>(patches_.size()), 0, static_cast<int>(touched_.size()), 0});
    }
    addPatch(*pair, bodies, h);
  }
  closeRange();
  motions_.clear();
  for (const int id : touched_) {
    placeOf_[id] = -1;
    const Body& b = bodies[id];
    Motion& m = motions_.emplace_back();
    m.inverseMass = b.linearResponse;
    for (int k = 0; b.dynamic() && k < 3; ++k) m.response[k] = Vec3(b.response.col(k));
  }
  // Small sets are swept two at a time, each in its own order: that of a stack from below loses least where sweeps end
  // before they have converged. Large ones are paired within.
  const auto isSmall = [](const Range& r) { return r.endPatch - r.firstPatch <= kSmallSet; };
  std::vector<Range> joined;
  for (std::size_t i = 0; i < ranges_.size(); ++i) {
    Range range = ranges_[i];
    if (!isSmall(range)) {
      pairUp(range);
    } else if (i + 1 < ranges_.size() && isSmall(ranges_[i + 1])) {
      const Range& next = ranges_[++i];
      interleave(patches_, range.firstPatch, next.firstPatch, next.endPatch);
      range.endPatch = next.endPatch, range.endMotion = next.endMotion;
    }
    joined.push_back(range);
  }
  ranges_.swap(joined);
  for (std::size_t k = 0; k < patches_.size(); ++k)
    for (int i = patches_[k].first; i < patches_[k].end; ++i) points_[i].patch = static_cast<int>(k);
}

void ContactSolver::addPatch(ContactPair& pair, const std::vector<Body>& bodies, double h) {
  const auto place = [&](int id) { return placeIn(touched_, placeOf_, id); };
  const Body &a = bodies[pair.bodyA], &b = bodies[pair.bodyB];
  const Vec3 n = pair.manifold.normal, t1 = anyPerpendicular(n), t2 = n.cross(t1);
  const Vec3 fromA = a.position + pair.manifold.touchTime * a.velocity,
             fromB = b.position + pair.manifold.touchTime * b.velocity;
  Patch patch;
  Mat3 directions;
  directions << n, t1, t2;
  for (int k = 0; k < 3; ++k) {
    patch.directions[k] = Vec3(directions.col(k));
    patch.across[k] = Vec3(directions.row(k));
  }
  patch.a = pair.bodyA, patch.b = pair.bodyB;
  patch.pair = &pair;
  patch.first = size();
  const double twist = pair.manifold.twistShare - 1;
  patch.twists = twist != 0 && pair.manifold.points.size() > 2;
  if (a.dynamic()) patch.twistA = Vec3(a.response * n);
  if (b.dynamic()) patch.twistB = Vec3(b.response * n);
  Vec3 middle = Vec3::Zero();
  for (const ManifoldPoint& m : pair.manifold.points)
    middle += m.position / static_cast<double>(pair.manifold.points.size());
  for (const ManifoldPoint& m : pair.manifold.points) {
    Contact c;
    for (const ContactImpulse& last : pair.last)
      if (last.id == m.id) c.impulse = last.force;
    if (closing_ && c.impulse.at[0] <= 0) continue;
    Vec3 armA = m.position - fromA, armB = m.position - fromB;
    if (!closing_) {
      // As it will be in the middle of the step: what stands on a turntable is carried along its arc.
      armA += h / 2 * n.dot(a.spin) * n.cross(armA);
      armB += h / 2 * n.dot(b.spin) * n.cross(armB);
    }
    c.armA = armA, c.armB = armB;
    c.friction = pair.friction;
    const Vec3 lever = twist * n.cross(m.position - middle);
    if (patch.twists) c.lever = Vec3(0, lever.dot(t1), lever.dot(t2));
    const auto turningBy = [&](const Vec3& arm) {
      Mat3 turning;
      for (int k = 0; k < 3; ++k) turning.col(k) = arm.cross(directions.col(k)) + c.lever.at[k] * n;
      return turning;
    };
    Mat3 mobility = Mat3::Zero();
    if (a.dynamic()) addTurningMobility(a, turningBy(armA), mobility);
    if (b.dynamic()) addTurningMobility(b, turningBy(armB), mobility);
    mobility.diagonal().array() += a.linearResponse + b.linearResponse;
    setMobility(c, mobility);
    Point p;
    p.patch = static_cast<int>(patches_.size());
    p.id = m.id;
    p.position = m.position;
    p.restitution = pair.restitution;
    p.bounces = p.restitution > 0 || (pair.manifold.touchTime > 0 && !a.jointed && !b.jointed);
    p.alone = mobility.diagonal();
    p.gap = m.gap;
    if (m.gap >= 0 || closing_)
      c.target = -std::max(m.gap, 0.0) / h;
    else
      c.target = std::min(-kPushRate * m.gap / h, kPushSpeed);
    p.pushedOut = std::max(c.target, 0.0);
    contacts_.push_back(c);
    points_.push_back(p);
  }
  patch.end = size();
  if (patch.end == patch.first) return;
  patch.placeA = place(patch.a), patch.placeB = place(patch.b);
  patches_.push_back(patch);
}

void ContactSolver::pairUp(const Range& range) {
  constexpr int kFar = 16;  // patches that are looked at for one to go with
  const auto moves = [&](int place) { return motions_[place].inverseMass > 0; };
  const auto share = [&](const Patch& x, const Patch& y) {
    const auto holds = [&](int place) { return moves(place) && (place == y.placeA || place == y.placeB); };
    return holds(x.placeA) || holds(x.placeB);
  };
  for (int k = range.firstPatch; k + 1 < range.endPatch; ++k)
    for (int i = k + 1; i < std::min(range.endPatch, k + kFar); ++i) {
      if (share(patches_[k], patches_[i])) continue;
      std::rotate(patches_.begin() + k + 1, patches_.begin() + i, patches_.begin() + i + 1);
      patches_[k++].withNext = true;
      break;
    }
}

void ContactSolver::setMobility(Contact& c, const Mat3& mobility) {
  c.mobility = Vec3(mobility.col(0));
  c.tangents[0] = mobility(1, 1), c.tangents[1] = mobility(1, 2), c.tangents[2] = mobility(2, 2);
  const double scale = 1 / (c.tangents[0] * c.tangents[2] - c.tangents[1] * c.tangents[1]);
  c.stopSlip[0] = scale * c.tangents[2], c.stopSlip[1] = -scale * c.tangents[1], c.stopSlip[2] = scale * c.tangents[0];
  const double mean = (c.tangents[0] + c.tangents[2]) / 2, half = (c.tangents[0] - c.tangents[2]) / 2;
  c.slipRate = 1 / (mean + std::sqrt(half * half + c.tangents[1] * c.tangents[1]));
  c.softness = kSoftness * mobility(0, 0);
  c.perSpeed = 1 / (mobility(0, 0) + c.softness);
}

void ContactSolver::load(const std::vector<Body>& bodies) {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    motions_[i].velocity = bodies[touched_[i]].velocity;
    motions_[i].spin = bodies[touched_[i]].spin;
  }
}

void ContactSolver::unload(std::vector<Body>& bodies) const {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    Body& b = bodies[touched_[i]];
    if (b.dynamic()) b.velocity = motions_[i].velocity.vec(), b.spin = motions_[i].spin.vec();
  }
}

void ContactSolver::pushBodies(int point, const Vec3& impulse, std::vector<Body>& bodies) const {
  const Patch& patch = patches_[points_[point].patch];
  const Contact& c = contacts_[point];
  const Vec3 along = patch.axes() * impulse, twist = c.lever.vec().dot(impulse) * patch.directions[0].vec();
  if (Body& a = bodies[patch.a]; a.dynamic())
    a.velocity -= a.linearResponse * along, a.spin -= a.response * (c.armA.vec().cross(along) + twist);
  if (Body& b = bodies[patch.b]; b.dynamic())
    b.velocity += b.linearResponse * along, b.spin += b.response * (c.armB.vec().cross(along) + twist);
}

void ContactSolver::warmStart(std::vector<Body>& bodies, double time) {
  for (int i = 0; i < size(); ++i) {
    Contact& c = contacts_[i];
    c.impulse = Vec3(c.impulse.vec() * time);  // were forces
    // Velocities are closed without the compliance's own yield.
    if (closing_) c.target += c.softness * c.impulse.at[0];
    pushBodies(i, c.impulse.vec(), bodies);
  }
}

void ContactSolver::store(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, double time) {
  storedTime_ = time;
  for (ContactPair* pair : pairs) pair->last.clear();
  for (int i = 0; i < size(); ++i) {
    const Patch& patch = patches_[points_[i].patch];
    const Contact& c = contacts_[i];
    patch.pair->last.push_back(
        {points_[i].id, bodies[patch.a].axes.transpose() * c.armA.vec(), c.impulse.vec() / time});
    account(i, c.impulse.vec());
  }
}

void ContactSolver::account(int point, const Vec3& impulse) {
  const Point& p = points_[point];
  const Patch& patch = patches_[p.patch];
  const Vec3 along = patch.axes() * impulse;
  patch.pair->frameImpulse += along;
  patch.pair->frameMoment +=
      p.position.cross(along) + contacts_[point].lever.vec().dot(impulse) * patch.directions[0].vec();
}

void ContactSolver::pushAtLastForce(std::vector<Body>& bodies) const {
  for (int i = 0; i < size(); ++i) pushBodies(i, contacts_[i].impulse.vec() / storedTime_, bodies);
}

}  // namespace calm
