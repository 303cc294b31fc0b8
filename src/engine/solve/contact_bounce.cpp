// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts at the instant of touch.
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>
#include <utility>

#include "engine/solve/assembly.h"
#include "engine/solve/contact_solver.h"
#include "engine/solve/drift.h"

namespace calm {

namespace {

// Touches within this fraction of the step count as one ...
constexpr double kTogether = 0.01;
// ... where their normals differ by no more than this, and else within that: the edge just beyond what is struck is
// not.
constexpr double kAlike = 1e-3, kAtOnce = 1e-6;

constexpr double kNever = std::numeric_limits<double>::infinity();

constexpr double kRoundOff = 1e-8;  // of the work that goes both ways in an impact

// An impact of faces is taken again so often at most, until their friction acts where they are pressed.
constexpr int kPressureRounds = 4;

// The part x of the way, between 0 and 1, after which a x^2 + b x + c, c <= 0, is zero.
double shareThatKeeps(double a, double b, double c) {
  if (a + b <= 0) return 0;
  const double root = std::sqrt(std::max(0.0, b * b - 4 * a * c));
  return std::clamp(b > 0 ? -2 * c / (b + root) : (root - b) / (2 * a), 0.0, 1.0);
}

}  // namespace

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  for (int i = 0; i < size(); ++i) {
    const ContactPoint& p = touches_.points[i];
    const ContactPatch& patch = touches_.patches[p.patch];
    if (!patch.bounces) continue;
    const double v = partingSpeed(i, bodies);
    if (v > -patch.slowest) continue;
    // The velocities may be those of half a step ago.
    const double now = partingGain(i, bodies, 0), gathered = std::min(0.0, partingGain(i, bodies, h) - now);
    if (p.gap + h * (v + now + gathered) < 0) return true;
  }
  return false;
}

bool ContactSolver::touchesNow() const {
  return std::any_of(touches_.points.begin(), touches_.points.end(),
                     [&](const ContactPoint& p) { return p.gap < touches_.patches[p.patch].pair->near; });
}

bool ContactSolver::struckUnawares() const {
  for (int i = 0; i < size(); ++i) {
    const ContactPoint& p = touches_.points[i];
    const ContactPatch& patch = touches_.patches[p.patch];
    if (!patch.bounces || patch.pair->restitution == 0 || p.gap < patch.pair->near || p.impulse[0] <= 0) continue;
    if (std::min(slipsBefore_[i][0], p.target) < -patch.slowest) return true;
  }
  return false;
}

double ContactSolver::partingSpeed(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  return patch.normal().dot(bodies[patch.b].velocityAt(p.armB) - bodies[patch.a].velocityAt(p.armA));
}

double ContactSolver::timeToTouch(int point, const std::vector<Body>& bodies) const {
  const double gap = touches_.points[point].gap;
  if (gap <= 0) return 0;
  const double now = partingGain(point, bodies, 0),
               gathering = (partingGain(point, bodies, span_.step) - now) / span_.step;
  const double v = partingSpeed(point, bodies) + now, squared = v * v - 2 * gap * gathering;
  return v < 0 && squared >= 0 ? 2 * gap / (std::sqrt(squared) - v) : kNever;
}

bool ContactSolver::swings(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  const Manifold& manifold = patch.pair->manifold;
  constexpr double kRoundOff = 1e-9;  // m
  const auto across = [&](const Body& body, const Vec3& arm, double round) {
    const Vec3 toMiddle = arm + round * patch.normal();
    return !body.spin.isZero(0) && toMiddle.norm() > std::abs(p.gap) + kRoundOff;
  };
  return across(bodies[patch.a], p.armA, -manifold.roundA) || across(bodies[patch.b], p.armB, manifold.roundB);
}

double ContactSolver::nextStrike(const std::vector<Body>& bodies, double h) const {
  if (crowd_) return -1;
  std::vector<char> held(touches_.bodies.size(), 0);
  for (const ContactPoint& p : touches_.points)
    if (p.impulse[0] > 0) held[touches_.patches[p.patch].placeA] = held[touches_.patches[p.patch].placeB] = 1;
  double first = -1;
  for (int i = 0; i < size(); ++i) {
    const ContactPoint& p = touches_.points[i];
    const ContactPatch& patch = touches_.patches[p.patch];
    const auto isHeld = [&](int body, int place) {
      return bodies[body].dynamic() && (held[place] || bodies[body].jointed);
    };
    if (!swings(i, bodies) && !isHeld(patch.a, patch.placeA) && !isHeld(patch.b, patch.placeB)) continue;
    if (!patch.bounces || p.gap < patch.pair->near) continue;
    const double v = partingSpeed(i, bodies);
    if (v > -patch.slowest) continue;
    const double after = timeToTouch(i, bodies);
    if (after < h && (first < 0 || after < first)) first = after;
  }
  // Just short of it: what an impact leaves to rest there is to count as touching when the next one comes.
  constexpr double kShort = 1e-3;
  return (1 - kShort) * first;
}

double ContactSolver::bounce(std::vector<Body>& bodies, double span, bool firstOnly,
                             const std::vector<Assembly*>& assemblies) {
  // What is struck more often than that jams: no impact frees it, as in a crowd. A light ball between a wall and a
  // heavy one that comes to it is struck a thousand times before it has sent that back.
  const int most = assemblies.empty() ? 2000 : 20, stages = 10 * most;
  std::vector<int> times(static_cast<std::size_t>(size()), 0);
  const double together = kTogether * span;
  double earliest = -1;
  for (int stage = 0; stage < stages; ++stage) {
    // What a body would meet later it may not meet at all once it has struck what comes first.
    struct First {
      double after;  // s from now
      Vec3 normal;
    };
    std::vector<First> first(touches_.bodies.size(), {span, Vec3::Zero()});
    std::vector<std::pair<int, double>> coming;  // points, and when they touch
    double next = span;
    for (int i = 0; i < size(); ++i) {
      const ContactPatch& patch = touches_.patches[touches_.points[i].patch];
      if (!patch.bounces || partingSpeed(i, bodies) > -patch.slowest) continue;
      const double after = timeToTouch(i, bodies);
      // What would come a moment too late comes along with what does not: the corners of a face touch together.
      if (after >= span + together) continue;
      coming.emplace_back(i, after);
      next = std::min(next, after);
      for (const int place : {patch.placeA, patch.placeB})
        if (after < first[place].after) first[place] = {after, patch.normal()};
    }
    if (next >= span) break;
    if (earliest < 0) earliest = next;
    if (firstOnly && next > earliest + together) break;
    const auto isFirst = [&](int body, int place, double after, const Vec3& normal) {
      if (!bodies[body].dynamic()) return true;
      const First& own = first[place];
      const bool alike = normal.cross(own.normal).norm() < kAlike;
      return after <= (firstOnly ? earliest : own.after) + together && (alike || after <= own.after + kAtOnce * span);
    };
    const auto comesLater = [&](const std::pair<int, double>& one) {
      const ContactPatch& patch = touches_.patches[touches_.points[one.first].patch];
      const Vec3 n = patch.normal();
      return !isFirst(patch.a, patch.placeA, one.second, n) || !isFirst(patch.b, patch.placeB, one.second, n);
    };
    coming.erase(std::remove_if(coming.begin(), coming.end(), comesLater), coming.end());
    pressWhereStruck(coming);
    std::vector<Impact> struck;
    std::map<int, Touch> touching;  // bodies that may be moved to their touch
    double fastest = 0;
    for (const auto& [i, after] : coming) {
      const ContactPatch& patch = touches_.patches[touches_.points[i].patch];
      if (++times[static_cast<std::size_t>(i)] > most) {
        crowd_ = true;
        return earliest;
      }
      Impact& impact = struck.emplace_back(impactAt(i, bodies));
      const double v = impact.slip[0];
      fastest = std::max(fastest, -v);
      impact.contact.law.target = -patch.pair->restitution * v;
      if (bodies[patch.a].jointed || bodies[patch.b].jointed) continue;
      const double gained = partingGain(i, bodies, after);
      impact.slip[0] += gained;
      impact.gained = gained;
      impact.contact.law.target = -patch.pair->restitution * (v + gained) - gained;
      for (int id : {patch.a, patch.b})
        if (bodies[id].dynamic()) touching.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    addResting(struck, bodies);
    const Motions before = motionsOf(bodies, assemblies);
    std::vector<std::vector<double>> ofJoints;
    for (const Assembly* assembly : assemblies) ofJoints.push_back(assembly->impulses());
    settle(struck, bodies, fastest, assemblies);
    for (int i = 0; i < kPressureRounds && pressAnew(struck); ++i) {
      for (const auto& [id, velocity, spin] : before) bodies[id].velocity = velocity, bodies[id].spin = spin;
      for (std::size_t k = 0; k < assemblies.size(); ++k) assemblies[k]->mixImpulses(ofJoints[k], 1);
      for (Impact& impact : struck) strikeAgain(impact, bodies);
      settle(struck, bodies, fastest, assemblies);
    }
    if (assemblies.empty())
      keepEnergy(struck, bodies, fastest);
    else
      keepEnergyWithJoints(struck, bodies, fastest, assemblies, before);
    for (const Impact& impact : struck) {
      const ContactPoint& p = touches_.points[impact.point];
      const ContactPatch& patch = touches_.patches[p.patch];
      addTo(patch, p, impact.impulse(), patch.pair->frameImpulse, patch.pair->frameMoment);
      work_ += impact.impulse().dot(doubleMeanSlip(impact, bodies)) / 2;
    }
    forgetCourse(struck, bodies);
    moveToTouch(touching, bodies, span);
  }
  return earliest;
}

// Sweeps until all is as the laws ask.
void ContactSolver::settle(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                           const std::vector<Assembly*>& assemblies) const {
  if (!assemblies.empty()) return settleWithJoints(struck, bodies, fastest, assemblies);
  for (int sweep = 0; sweep < kImpactSweeps; ++sweep) {
    double largest = 0;
    for (Impact& impact : struck) {
      auto& [law, push, friction] = impact.contact;
      largest = std::max(largest, resolve(law, friction, slipAt(impact.point, bodies).data(), push));
      pushAt(impact.point, Eigen::Map<const Vec3>(push.change), bodies);
    }
    if (largest < kImpactSettled * fastest) break;
  }
}

// Newton's law of restitution together with friction may bring energy (Kane and Levinson 1985). Then what lies between
// it and the impact without restitution, and neither brings nor takes any, comes in its place: impulses between two
// that friction allows are so, too. The work of the impulses p is p.(slip before + slip after)/2 (Thomson and Tait),
// which is never above zero without restitution.
void ContactSolver::keepEnergy(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest) const {
  // Twice the slip's mean: at the touch, as the slip before.
  const auto slips = [&] {
    std::vector<Vec3> sums;
    for (const Impact& impact : struck) sums.push_back(doubleMeanSlip(impact, bodies));
    return sums;
  };
  const std::vector<Vec3> bouncing = slips();
  double work = 0;
  for (std::size_t i = 0; i < struck.size(); ++i) work += struck[i].impulse().dot(bouncing[i]);
  if (work <= kRoundOff * workBothWays(struck)) return;
  const std::vector<Vec3> impulses = settleDull(struck, bodies, fastest, {});
  // On the way from there to here, by its part x: work = a x^2 + b x + c, c <= 0 < a + b + c.
  const std::vector<Vec3> dull = slips();
  double a = 0, b = 0, c = 0;
  for (std::size_t i = 0; i < struck.size(); ++i) {
    const Vec3 p = struck[i].impulse(), dp = impulses[i] - p, dv = bouncing[i] - dull[i];
    a += dp.dot(dv);
    b += p.dot(dv) + dp.dot(dull[i]);
    c += p.dot(dull[i]);
  }
  const double share = shareThatKeeps(a, b, c);
  for (std::size_t i = 0; i < struck.size(); ++i) {
    const Vec3 more = share * (impulses[i] - struck[i].impulse());
    Eigen::Map<Vec3>(struck[i].contact.push.impulse) += more;
    pushAt(struck[i].point, more, bodies);
  }
}

// The same where joints pass the impact on: stops that hold in it may bring energy, too, so that all is judged by the
// energy of motion. What lies between two motions that joints allow, they allow as well.
void ContactSolver::keepEnergyWithJoints(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                                         const std::vector<Assembly*>& assemblies, const Motions& before) const {
  constexpr double kRoundOffOfAll = 1e-12;
  const auto energyOf = [&](const Motions& motions) {
    double sum = 0;
    for (const auto& [id, velocity, spin] : motions) sum += bodies[id].kineticEnergyAt(velocity, spin);
    return sum;
  };
  // What free bodies gain until they touch does work as well, and so do those that are moved.
  const auto given = [&](const std::vector<Vec3>& impulses) {
    double sum = 0;
    for (std::size_t i = 0; i < struck.size(); ++i)
      sum += workOfMoved(struck[i].point, impulses[i], bodies) - impulses[i][0] * struck[i].gained;
    for (const Assembly* assembly : assemblies) sum += assembly->workOfMoved(bodies);
    return sum;
  };
  const auto impulsesOf = [&] {
    std::vector<Vec3> all;
    for (const Impact& impact : struck) all.push_back(impact.impulse());
    return all;
  };
  const Motions bouncing = motionsOf(bodies, assemblies);
  const double had = energyOf(before), work = energyOf(bouncing) - had - given(impulsesOf());
  if (work <= kRoundOff * workBothWays(struck) + kRoundOffOfAll * had) return;
  std::vector<std::vector<double>> ofJoints;
  for (const Assembly* assembly : assemblies) ofJoints.push_back(assembly->impulses());
  const std::vector<Vec3> impulses = settleDull(struck, bodies, fastest, assemblies), dullImpulses = impulsesOf();
  const Motions dull = motionsOf(bodies, assemblies);
  Motions change = bouncing;
  for (std::size_t i = 0; i < change.size(); ++i)
    change[i].velocity -= dull[i].velocity, change[i].spin -= dull[i].spin;
  const double a = energyOf(change), c = energyOf(dull) - had - given(dullImpulses),
               share = shareThatKeeps(a, work - a - c, c);
  for (std::size_t i = 0; i < change.size(); ++i) {
    Body& body = bodies[change[i].id];
    body.velocity += share * change[i].velocity;
    body.spin += share * change[i].spin;
  }
  for (std::size_t i = 0; i < struck.size(); ++i)
    Eigen::Map<Vec3>(struck[i].contact.push.impulse) += share * (impulses[i] - dullImpulses[i]);
  for (std::size_t i = 0; i < assemblies.size(); ++i) assemblies[i]->mixImpulses(ofJoints[i], share);
}

// J, doubled, of what comes in and goes out.
double ContactSolver::workBothWays(const std::vector<Impact>& struck) {
  double sum = 0;
  for (const Impact& impact : struck) sum += std::abs(impact.impulse().dot(impact.slip));
  return sum;
}

// Without restitution; returns the impulses with it.
std::vector<Vec3> ContactSolver::settleDull(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                                            const std::vector<Assembly*>& assemblies) const {
  std::vector<Vec3> impulses;
  for (Impact& impact : struck) {
    impulses.push_back(impact.impulse());
    double& target = impact.contact.law.target;
    target = std::min(target, -impact.gained);
  }
  settle(struck, bodies, fastest, assemblies);
  return impulses;
}

ContactSolver::Motions ContactSolver::motionsOf(const std::vector<Body>& bodies,
                                                const std::vector<Assembly*>& assemblies) const {
  std::set<int> ids(touches_.bodies.begin(), touches_.bodies.end());
  for (const Assembly* assembly : assemblies)
    ids.insert(assembly->dynamicBodies().begin(), assembly->dynamicBodies().end());
  Motions all;
  for (const int id : ids)
    if (bodies[id].dynamic()) all.push_back({id, bodies[id].velocity, bodies[id].spin});
  return all;
}

Vec3 ContactSolver::doubleMeanSlip(const Impact& impact, const std::vector<Body>& bodies) const {
  return impact.slip + slipAt(impact.point, bodies) + impact.gained * Vec3::UnitX();
}

ContactSolver::Impact ContactSolver::impactAt(int point, const std::vector<Body>& bodies) const {
  Impact impact{point, {}, slipAt(point, bodies)};
  impact.contact.friction = touches_.patches[touches_.points[point].patch].friction;
  setImpactLaw(ownMobility(point, bodies), impact.contact.law);
  return impact;
}

// The pressure of an impact is even only if all points that touch together are struck.
void ContactSolver::pressWhereStruck(const std::vector<std::pair<int, double>>& struck) {
  std::map<int, int> points;  // of each patch that is struck
  for (const auto& [point, after] : struck) ++points[touches_.points[point].patch];
  for (const auto& [number, count] : points) {
    ContactPatch& patch = touches_.patches[number];
    if (count < patch.pair->manifold.together) patch.twist = 0;
    // Not where they were pressed before.
    patch.pressed = patch.middle;
  }
}

// Where struck faces turn out to be pressed elsewhere than was thought, lets their friction act there, and says so.
bool ContactSolver::pressAnew(const std::vector<Impact>& struck) {
  constexpr double kMatters = 1e-9;                // m
  std::map<int, std::pair<Vec3, double>> pressed;  // of each patch: by impulse, and the sum of these
  for (const Impact& impact : struck) {
    const ContactPoint& p = touches_.points[impact.point];
    const ContactPatch& patch = touches_.patches[p.patch];
    if (patch.twist == 0 || p.gap > patch.together) continue;
    auto& [sum, load] = pressed.try_emplace(p.patch, Vec3::Zero(), 0).first->second;
    sum += impact.impulse()[0] * p.position, load += impact.impulse()[0];
  }
  bool moved = false;
  for (const auto& [number, sum] : pressed) {
    ContactPatch& patch = touches_.patches[number];
    const Vec3 at = sum.second > 0 ? Vec3(sum.first / sum.second) : patch.middle;
    moved |= (at - patch.pressed).norm() > kMatters;
    patch.pressed = at;
  }
  return moved;
}

void ContactSolver::strikeAgain(Impact& impact, const std::vector<Body>& bodies) const {
  Impact again = impactAt(impact.point, bodies);
  again.slip[0] += impact.gained;
  again.gained = impact.gained;
  again.contact.law.target = impact.contact.law.target;
  impact = again;
}

// What is at rest at other points of pairs that strike may be pushed there by the impact.
void ContactSolver::addResting(std::vector<Impact>& struck, const std::vector<Body>& bodies) const {
  std::set<int> patches, points;
  for (const Impact& impact : struck) patches.insert(touches_.points[impact.point].patch), points.insert(impact.point);
  for (const int patch : patches)
    for (int i = touches_.patches[patch].first; i < touches_.patches[patch].end; ++i) {
      if (touches_.points[i].gap > touches_.patches[patch].pair->near || points.contains(i)) continue;
      Impact& impact = struck.emplace_back(impactAt(i, bodies));
      impact.contact.law.target = std::min(0.0, impact.slip[0]);
    }
}

void ContactSolver::setImpactLaw(const Mat3& mobility, ContactLaw<double>& law) const {
  setMobility(law, mobility);
  law.softness = 0;
  law.perSpeed = 1 / law.mobility[0];
}

// How fast the point of a body at `arm` gathers speed by what pushes it, as over the last kick; of a kinematic body, as
// over this step.
Vec3 ContactSolver::accelerationAt(const Body& b, const Vec3& arm) const {
  if (b.spanBefore <= 0) return b.dynamic() ? Vec3(b.gravityScale * gravity_ + b.inverseMass * b.force) : Vec3::Zero();
  return (b.velocity - b.velocityBefore + (b.spin - b.spinBefore).cross(arm)) / b.spanBefore;
}

double ContactSolver::partingGain(int point, const std::vector<Body>& bodies, double after) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  // A kinematic body's velocity is that of the step's middle.
  const double sinceMiddle = span_.step / 2 - span_.left + after;
  const auto gain = [&](const Body& b, const Vec3& arm) {
    return Vec3((b.dynamic() ? after : sinceMiddle) * accelerationAt(b, arm));
  };
  return patch.normal().dot(gain(bodies[patch.b], p.armB) - gain(bodies[patch.a], p.armA)) +
         after * bendOf(point, bodies);
}

// What was struck does not go on as it did.
void ContactSolver::forgetCourse(const std::vector<Impact>& struck, std::vector<Body>& bodies) {
  std::set<int> changed;
  for (const Impact& impact : struck) {
    const ContactPatch& patch = touches_.patches[touches_.points[impact.point].patch];
    for (const int id : {patch.a, patch.b})
      if (bodies[id].dynamic()) bodies[id].spanBefore = 0, changed.insert(id);
  }
  for (ContactPatch& patch : touches_.patches) {
    if (!changed.contains(patch.a) && !changed.contains(patch.b)) continue;
    patch.wandering.setZero();
    if (!bodies[patch.a].jointed && !bodies[patch.b].jointed) patch.pair->roll.points = 0;
  }
}

// Sets bodies so that their new velocities take them from where they touched to where they will be.
void ContactSolver::moveToTouch(const std::map<int, Touch>& touching, std::vector<Body>& bodies, double span) {
  struct Shift {
    Vec3 way = Vec3::Zero(), turn = Vec3::Zero();
  };
  std::map<int, Shift> shifts;
  for (const auto& [id, touch] : touching) {
    if (touch.after == 0) continue;
    Body& b = bodies[id];
    const Shift& shift =
        shifts[id] = {touch.after * (touch.velocity - b.velocity), touch.after * (touch.spin - b.spin)};
    // What turns freely keeps its momentum, not its spin.
    const Vec3 momentum = b.worldInertia() * b.spin;
    moveBy(b, shift.way, shift.turn);
    if (b.dynamic()) b.spin = b.turnedBy(momentum);
  }
  if (shifts.empty()) return;
  const auto moved = [&](int id, const Vec3& arm) {
    const auto found = shifts.find(id);
    return found == shifts.end() ? Vec3(Vec3::Zero()) : Vec3(found->second.way + found->second.turn.cross(arm));
  };
  for (ContactPoint& p : touches_.points) {
    const ContactPatch& patch = touches_.patches[p.patch];
    const Vec3 change = moved(patch.b, p.armB) - moved(patch.a, p.armA);
    if (change.isZero(0)) continue;
    p.gap += patch.normal().dot(change);
    // What has come to its touch may be beyond it by round-off.
    if (p.gap > 0 || p.target < 0) p.target = -std::max(p.gap, 0.0) / span;
  }
}

}  // namespace calm
