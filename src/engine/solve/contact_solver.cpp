// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_solver.h"

#include <algorithm>
#include <cmath>

#include "engine/contact/even_pressure.h"
#include "engine/solve/rotor.h"

namespace calm {

namespace {

// Overlap is pushed out at this fraction a substep, but no faster than this share of what presses the two together
// brings to rest by the time that they part (of gravity at least, or of so much, m/s^2), nor than at this speed:
// nothing is flung.
constexpr double kPushRate = 0.2, kPushShare = 0.5, kLeastPress = 1;
constexpr double kPushSpeed = 1;  // m/s
// Impacts do not bounce that are slower than so many times the change of speed over a substep by gravity, by what else
// pushes the two together or by the load that they carried, or than the least speed: they are what rests.
constexpr double kBounceShare = 2.5, kLeastBounce = 1e-6;  // m/s
constexpr double kBent = 0.05;                             // of the way in a step, that its bend may open what touches

// Of what rests on something, in the middle of the coming drift. A rotor's is as in the last one, of which the end is
// at hand, before the kick that keeps it going so. On the step half of that is there already; after a blow only the
// spin that it has counts.
Vec3 spinInMiddle(const Body& body, double step) {
  if (!body.dynamic() || !isFastRotor(body, step)) return body.spin;
  const Vec3 drifted = body.momentumSpin - body.kickedSpin;
  const double since = (body.spin - body.momentumSpin).norm(), half = drifted.norm() / 2;
  return since < half ? Vec3(body.spin - (1 - since / half) / 2 * drifted) : body.spin;
}

// m/s^2, of a body's point where nothing pushes it.
Vec3 bend(const Body& body, const Vec3& arm) {
  return body.spin.cross(body.spin.cross(arm)) + body.freeTurning().cross(arm);
}

}  // namespace

void ContactSolver::begin(const Vec3& gravity, const Span& span, bool closing) {
  touches_.clear();
  slipsBefore_.clear();  // only noted where something is jointed
  speeds_.resize(0);
  closing_ = closing;
  span_ = span;
  gravity_ = gravity;
  softness_ = kSoftness;
}

void ContactSolver::add(ContactPair& pair, const std::vector<Body>& bodies, int face,
                        const std::vector<ContactCell>& cells) {
  constexpr double kCorner = 30;  // softer than the cells beside it
  if (closing_ && (pair.ends || !pair.pushed())) return;
  pair.ends = false;
  const Body &a = bodies[pair.bodyA], &b = bodies[pair.bodyB];
  const Manifold& manifold = pair.manifold;
  const Vec3 n = manifold.normal, t1 = anyPerpendicular(n), t2 = n.cross(t1);
  ContactPatch& patch = touches_.patches.emplace_back();
  patch.pair = &pair;
  patch.a = pair.bodyA, patch.b = pair.bodyB;
  patch.directions << n, t1, t2;
  patch.friction = pair.friction;
  patch.together = manifold.gapTogether();
  patch.middle.setZero();
  int together = 0;
  for (const ManifoldPoint& m : manifold.points)
    if (m.gap <= patch.together) patch.middle += m.position, ++together;
  patch.middle /= together;
  if (together != manifold.together) shareEvenPressure(pair.manifold);
  patch.twist = manifold.twistShare - 1;
  double load = 0;  // N
  for (const ContactImpulse& last : pair.last) load += last.force[0];
  patch.bounces = pair.restitution > 0 || !crowd_ || (manifold.touchTime > 0 && !a.jointed && !b.jointed);
  const Vec3 fromA = a.position + manifold.touchTime * a.velocity, fromB = b.position + manifold.touchTime * b.velocity;
  const double rate = kPushRate / span_.whole;
  const bool deep = rate * rate * -manifold.leastGap() > 2 * kPushShare * kLeastPress;
  double pressing = 0;  // m/s^2
  if (patch.bounces || deep) {
    const Vec3 parting = pushOn(b, patch.middle - fromB) - pushOn(a, patch.middle - fromA);
    const double loaded = load * (a.inverseMass + b.inverseMass);
    pressing = std::max(gravity_.norm(), -n.dot(parting));
    patch.slowest = std::max(kBounceShare * span_.whole * std::max(pressing, loaded), kLeastBounce);
    if (a.jointed || b.jointed) pressing = std::max(pressing, loaded);
  }
  const auto pushOut = [&](double depth) {
    const double most = std::min(kPushSpeed, std::sqrt(2 * kPushShare * std::max(pressing, kLeastPress) * depth));
    return deep ? std::min(rate * depth, most) : rate * depth;
  };
  // What stays in touch goes by its arms in the middle of the step: what stands on a turntable is carried along its
  // arc. Impulses have those of the instant, so that both bodies' turn by them is the same. Alike at all points: what
  // ceases to turn can stop at all of them.
  const double time = closing_ ? 0 : span_.step / 2, turnA = n.dot(a.spin), turnB = n.dot(b.spin);
  const Vec3 inwards = turnA * turnA * (patch.middle - a.position) - turnB * turnB * (patch.middle - b.position);
  const Eigen::Vector2d carried = time * patch.directions.rightCols<2>().transpose() * inwards;
  patch.first = size();
  patch.seam = face;
  if (face >= 0) patch.twist = 0;
  // One for each thread: patches are many.
  thread_local std::vector<ContactCell> points;
  points.clear();
  int known = 0;  // points of the last step
  for (const ManifoldPoint& m : manifold.points) {
    points.push_back({m, face < 0 ? 1 : kCorner});
    for (const ContactImpulse& last : pair.last)
      if (last.id == m.id) points.back().force = last.force, ++known;
  }
  points.insert(points.end(), cells.begin(), cells.end());
  for (const auto& [m, softer, force] : points) {
    // To the surfaces, that meet where they touch.
    const Vec3 half = manifold.touchTime > 0 ? Vec3(Vec3::Zero()) : Vec3(std::max(m.gap, 0.0) / 2 * n);
    const Vec3 armA = m.position - half - fromA, armB = m.position + half - fromB;
    const bool strikes = patch.bounces && n.dot(b.velocityAt(armB) - a.velocityAt(armA)) < -patch.slowest;
    // What was only grazed as the step ended is yet to bounce.
    if (closing_ && (force[0] <= 0 || strikes)) continue;
    const bool stays = m.gap < pair.near && !strikes;
    // What pushed was to end the step in touch; that it did not come straight there opens it again by a little.
    const double way =
        span_.left * ((b.velocity - a.velocity).norm() + a.spin.norm() * armA.norm() + b.spin.norm() * armB.norm());
    const bool closes = closing_ && m.gap <= pair.near + kBent * way;
    touches_.points.push_back({.patch = static_cast<int>(touches_.patches.size()) - 1,
                               .id = m.id,
                               .position = m.position,
                               .armA = armA,
                               .armB = armB,
                               .impulse = force,  // until warmStart()
                               .gap = m.gap,
                               .target = closes       ? 0
                                         : m.gap >= 0 ? -m.gap / span_.left
                                                      : pushOut(-m.gap),
                               .softer = softer});
    if (stays) touches_.points.back().carried = carried;
  }
  patch.end = size();
  patch.pressed = pressedOf(patch);
  patch.fresh = load <= 0 || known < static_cast<int>(std::max(manifold.points.size(), pair.last.size()));
  patch.wandering.setZero();
  if (crowd_) return;
  aimAtMiddle(patch, bodies);
  if (!closing_) followBends(patch, bodies);
}

void ContactSolver::arrange(const std::vector<Body>& bodies) {
  constexpr int kMany = 128;  // points, among which it does not come to that
  touches_.arrange(bodies);
  if (size() <= kMany) touches_.shareAcrossSeams();
}

bool ContactSolver::hasCells() const {
  return std::any_of(touches_.points.begin(), touches_.points.end(),
                     [](const ContactPoint& p) { return p.id >= kFirstCell; });
}

// A kick stands for what acts from half a step before to half a step after its instant, and the next one has no push.
void ContactSolver::endTouch(int patch, double after, double falling) {
  const ContactPatch& ending = touches_.patches[patch];
  ending.pair->ends = true;
  for (int i = ending.first; i < ending.end; ++i) touches_.points[i].target += (after - span_.left / 2) * falling;
}

// How fast what acts on a body from outside makes its point at `arm` gather speed, m/s^2.
Vec3 ContactSolver::pushOn(const Body& b, const Vec3& arm) const {
  if (!b.dynamic()) return Vec3::Zero();
  const Vec3 turning = b.givenSpin + b.turnedBy(b.torque);
  return b.gravityScale * gravity_ + b.inverseMass * b.force + b.given + turning.cross(arm);
}

// What is yet to touch may come as near as it will by turning.
void ContactSolver::followBends(const ContactPatch& patch, const std::vector<Body>& bodies) {
  constexpr double kFar = 0.5;  // rad
  if (span_.left * std::max(bodies[patch.a].spin.norm(), bodies[patch.b].spin.norm()) > kFar) return;
  for (int i = patch.first; i < patch.end; ++i) {
    ContactPoint& p = touches_.points[i];
    if (p.gap < patch.pair->near) continue;
    p.target = -p.gap / span_.left - span_.left / 2 * bendOf(i, bodies) + patch.normal().dot(patch.wandering);
  }
}

double ContactSolver::bendOf(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  const Manifold& manifold = patch.pair->manifold;
  // What was sought at the instant of touch has its arms turned already.
  if (manifold.touchTime > 0) return 0;
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const Vec3 n = patch.normal();
  const Vec3 armA = p.armA - manifold.roundA * n, armB = p.armB + manifold.roundB * n;
  double sum = n.dot(bend(b, armB) - bend(a, armA));
  // The normal turns, too.
  if (manifold.normalOn != Manifold::Owner::neither) {
    const Body& owner = manifold.normalOn == Manifold::Owner::a ? a : b;
    sum += 2 * owner.spin.cross(n).dot(b.velocityAt(armB) - a.velocityAt(armA));
  }
  return sum;
}

// Of what touches at one point or line, impulses have the arms of the instant, but speeds are to be right in the middle
// of the step: where the point will have come to, with what spins the bodies then have by themselves.
void ContactSolver::aimAtMiddle(ContactPatch& patch, const std::vector<Body>& bodies) {
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const auto wandering = patch.pair->wander(a, b, span_.now, span_.left);
  if (!wandering || closing_) return;
  for (int i = patch.first; i < patch.end; ++i) {
    ContactPoint& p = touches_.points[i];
    p.armA = p.position - a.position;
    p.armB = p.position - b.position;
    p.carried.setZero();
  }
  const Vec3 n = patch.normal();
  const auto rateOf = [&](const Body& body, double toCore) {
    const Vec3 spin = spinInMiddle(body, span_.step), turning = body.freeTurning(spin),
               arm = wandering->at - body.position;
    Vec3 rate = spin.cross(wandering->velocity - body.velocity) + turning.cross(arm);
    // What is round comes nearer only as its core does, wherever on it the touch goes.
    if (toCore != 0) {
      const Vec3 core = arm + toCore * n;
      rate += n * n.dot(spin.cross(spin.cross(core)) + turning.cross(core) - rate);
    }
    return rate;
  };
  const Manifold& manifold = patch.pair->manifold;
  patch.wandering = span_.step / 2 * (rateOf(b, manifold.roundB) - rateOf(a, -manifold.roundA));
  // A line leans as the two turn by themselves.
  for (int i = patch.first; i < patch.end; ++i) {
    ContactPoint& p = touches_.points[i];
    const Vec3 fromMiddle = p.position - wandering->at;
    p.target -= span_.step / 2 * n.dot(bend(b, fromMiddle) - bend(a, fromMiddle));
  }
}

Mat3 ContactSolver::ownMobility(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  Mat3 mobility = Mat3::Zero();
  const auto add = [&](const Body& body, const Vec3& arm) {
    if (!body.dynamic()) return;
    const Mat3 turning = turningBy(arm, patch.leverOf(p), patch.directions);
    mobility += turning.transpose() * body.response * turning;
    mobility.diagonal().array() += body.linearResponse;
  };
  add(bodies[patch.a], p.armA);
  add(bodies[patch.b], p.armB);
  return mobility;
}

Mat3 ContactSolver::turningBy(const Vec3& arm, const Vec3& lever, const Mat3& directions) {
  Mat3 turning;
  for (int k = 0; k < 3; ++k) turning.col(k) = arm.cross(directions.col(k)) + lever[k] * directions.col(0);
  return turning;
}

void ContactSolver::setMobility(ContactLaw<double>& law, const Mat3& mobility) const {
  double m[3][3];
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) m[i][j] = mobility(i, j);
  calm::setMobility(law, m, softness_);
}

Vec3 ContactSolver::slipAt(int point, const std::vector<Body>& bodies, Vec3 Body::*spin) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const Vec3 atA = a.velocity + (a.*spin).cross(p.armA), atB = b.velocity + (b.*spin).cross(p.armB);
  return patch.directions.transpose() * (atB - atA) + patch.leverOf(p) * patch.normal().dot(b.*spin - a.*spin);
}

void ContactSolver::noteSlips(const std::vector<Body>& bodies) {
  slipsBefore_.clear();
  for (int i = 0; i < size(); ++i) slipsBefore_.push_back(slipAt(i, bodies));
}

// Impulse times the mean of the slips before and after (Thomson and Tait): exactly what it changes the energy by.
void ContactSolver::noteWork(const std::vector<Body>& bodies, Vec3 Body::*spin) {
  for (int i = 0; i < size(); ++i)
    work_ += touches_.points[i].impulse.dot(slipsBefore_[i] + slipAt(i, bodies, spin)) / 2;
}

double ContactSolver::workOfMoved(const std::vector<Body>& bodies) const {
  double sum = 0;
  for (int i = 0; i < size(); ++i) sum += workOfMoved(i, touches_.points[i].impulse, bodies);
  return sum;
}

double ContactSolver::workOfMoved(int point, const Vec3& impulse, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const Vec3 along = patch.directions * impulse, twist = patch.leverOf(p).dot(impulse) * patch.normal();
  double work = 0;
  if (a.isMoved()) work += along.dot(a.velocityAt(p.armA)) + twist.dot(a.spin);
  if (b.isMoved()) work -= along.dot(b.velocityAt(p.armB)) + twist.dot(b.spin);
  return work;
}

template <class ImpulseOf>
void ContactSolver::pushBodies(const ContactPatch& patch, std::vector<Body>& bodies, const ImpulseOf& impulseOf) const {
  Vec3 force = Vec3::Zero(), turnA = Vec3::Zero(), turnB = Vec3::Zero();
  double twist = 0;
  for (int i = patch.first; i < patch.end; ++i) {
    const ContactPoint& p = touches_.points[i];
    const Vec3 impulse = impulseOf(i), along = patch.directions * impulse;
    force += along;
    turnA += p.armA.cross(along);
    turnB += p.armB.cross(along);
    twist += patch.leverOf(p).dot(impulse);
  }
  if (Body& a = bodies[patch.a]; a.dynamic())
    a.velocity -= a.linearResponse * force, a.spin -= a.response * (turnA + twist * patch.normal());
  if (Body& b = bodies[patch.b]; b.dynamic())
    b.velocity += b.linearResponse * force, b.spin += b.response * (turnB + twist * patch.normal());
}

void ContactSolver::pushByChanges(std::vector<Body>& bodies, const std::vector<Vec3>& impulses) {
  for (const ContactPatch& patch : touches_.patches)
    pushBodies(patch, bodies, [&](int i) { return Vec3(impulses[i] - touches_.points[i].impulse); });
  for (int i = 0; i < size(); ++i) touches_.points[i].impulse = impulses[i];
}

void ContactSolver::pushAt(int point, const Vec3& impulse, std::vector<Body>& bodies) const {
  ContactPatch alone = touches_.patches[touches_.points[point].patch];
  alone.first = point, alone.end = point + 1;
  pushBodies(alone, bodies, [&](int) { return impulse; });
}

void ContactSolver::warmStart(std::vector<Body>& bodies, double time) {
  // Impulses over half a step stand for twice their force, which yields by its full measure.
  if (!closing_) softness_ = kSoftness * span_.step / time;
  given_.clear();
  for (ContactPoint& p : touches_.points) {
    p.impulse *= time;  // was a force
    if (closing_) given_.push_back(p.impulse[0]);
  }
  for (const ContactPatch& patch : touches_.patches)
    pushBodies(patch, bodies, [&](int i) { return touches_.points[i].impulse; });
}

// What all but rests and a few sweeps do not settle is solved exactly, where that is not too dear. Sweeps would leave
// its slow modes, as when a stack sways, at their tolerance for good: what one step makes up for of what others have
// left is more than the next ones need, which feeds them.
double ContactSolver::relaxApart(std::vector<Body>& bodies, const Goal& goal) {
  constexpr int kFirstSweeps = 4;
  constexpr double kExact = 1e-2, kRests = 2;  // of what is enough
  lanes_->load(touches_, bodies, {softness_, closing_, true});
  lanes_->takeVelocities(bodies);
  std::vector<ContactSet> unsettled;
  double change = lanes_->relax(kFirstSweeps, kExact * goal.enough, 0, unsettled);
  lanes_->giveVelocities(bodies);
  lanes_->giveImpulses(touches_);
  const ContactNewton::Terms terms{softness_, closing_ ? &given_ : nullptr, goal.enough};
  const auto settled = [&](const ContactSet& set) {
    return set.stir < kRests * goal.enough && newton_.solve(touches_, set, terms, bodies);
  };
  unsettled.erase(std::remove_if(unsettled.begin(), unsettled.end(), settled), unsettled.end());
  if (unsettled.empty()) return std::min(change, goal.enough);
  lanes_->takeVelocities(bodies);
  lanes_->takeImpulses(touches_);
  change = lanes_->relax(goal.sweeps - kFirstSweeps, goal.enough, goal.reduction, unsettled);
  lanes_->giveVelocities(bodies);
  lanes_->giveImpulses(touches_);
  return change;
}

double ContactSolver::relaxInTurn(std::vector<Body>& bodies, const Goal& goal,
                                  const std::function<void()>& solveJoints) {
  lanes_->load(touches_, bodies, {softness_, closing_, false});
  double change = 0, enough = goal.enough;
  for (int i = 0; i < goal.sweeps; ++i) {
    lanes_->takeVelocities(bodies);
    change = lanes_->sweep();
    lanes_->giveVelocities(bodies);
    solveJoints();
    if (change < enough) break;
    if (i == 0) enough = std::max(enough, goal.reduction * change);
  }
  lanes_->giveImpulses(touches_);
  return change;
}

void ContactSolver::takeOver(const std::vector<ContactPair*>& pairs) {
  pushing_.clear();
  for (ContactPair* pair : pairs)
    if (!pair->last.empty()) pushing_.push_back(pair);
}

void ContactSolver::forgetPast() {
  const std::vector<ContactPatch>& patches = touches_.patches;
  // Mostly the same pairs push as before.
  if (std::equal(pushing_.begin(), pushing_.end(), patches.begin(), patches.end(),
                 [](const ContactPair* pair, const ContactPatch& patch) { return pair == patch.pair; }))
    return;
  for (ContactPair* pair : pushing_) pair->last.clear();
  pushing_.clear();
  for (const ContactPatch& patch : patches) pushing_.push_back(patch.pair);
}

void ContactSolver::store(const std::vector<Body>& bodies, double time) {
  storedTime_ = time;
  const double perTime = 1 / time;
  const std::vector<ContactPatch>& patches = touches_.patches;
  const bool coupled = speeds_.size() > 0;
  for (std::size_t k = 0; k < patches.size(); ++k) {
    if (k + 4 < patches.size()) patches[k + 4].pair->prefetchSelf();
    if (k + 2 < patches.size()) patches[k + 2].pair->prefetchLast();
    const ContactPatch& patch = patches[k];
    const Mat3 toA = bodies[patch.a].axes.transpose();
    std::vector<ContactImpulse>& last = patch.pair->last;
    last.resize(patch.size());
    Vec3 impulse = Vec3::Zero(), moment = Vec3::Zero();
    for (int i = 0; i < patch.size(); ++i) {
      const ContactPoint& p = touches_.points[patch.first + i];
      last[i] = {p.id, toA * p.armA, p.impulse * perTime};
      addTo(patch, p, p.impulse, impulse, moment);
      const double rise = coupled ? speeds_[3 * (patch.first + i)] : p.target;
      pushedOut_ += p.impulse[0] * std::max(rise, 0.0);
    }
    patch.pair->frameImpulse += impulse;
    patch.pair->frameMoment += moment;
  }
}

void ContactSolver::addTo(const ContactPatch& patch, const ContactPoint& p, const Vec3& impulse, Vec3& sum,
                          Vec3& moment) {
  const Vec3 along = patch.directions * impulse;
  sum += along;
  moment += p.position.cross(along);
  if (patch.twist != 0) moment += patch.leverOf(p).dot(impulse) * patch.normal();
}

void ContactSolver::pushAtLastForce(std::vector<Body>& bodies) const {
  for (const ContactPatch& patch : touches_.patches)
    pushBodies(patch, bodies, [&](int i) { return Vec3(touches_.points[i].impulse / storedTime_); });
}

}  // namespace calm
