// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts at the instant of touch.
#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <utility>

#include "engine/solve/contact_solver.h"
#include "engine/solve/drift.h"

namespace calm {

namespace {

// Touches within this fraction of the step count as one.
constexpr double kTogether = 0.01;

}  // namespace

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  for (int i = 0; i < size(); ++i) {
    const ContactPoint& p = touches_.points[i];
    if (!touches_.patches[p.patch].bounces) continue;
    const double v = partingSpeed(i, bodies);
    if (v < -slowest_ && p.gap + h * v < 0) return true;
  }
  return false;
}

double ContactSolver::partingSpeed(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  return patch.normal().dot(bodies[patch.b].velocityAt(p.armB) - bodies[patch.a].velocityAt(p.armA));
}

double ContactSolver::strikeOfHeld(const std::vector<Body>& bodies, double h) const {
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
    if (!isHeld(patch.a, patch.placeA) && !isHeld(patch.b, patch.placeB)) continue;
    if (!patch.bounces || p.gap < kNearTouch) continue;
    const double v = partingSpeed(i, bodies);
    if (v > -slowest_) continue;
    // At a steady acceleration, which is found from the gain over the time that it would take without.
    const double straight = -p.gap / v, squared = v * v - 2 * p.gap * partingGain(i, bodies, straight) / straight;
    if (squared < 0) continue;
    const double after = 2 * p.gap / (std::sqrt(squared) - v);
    if (after < h && (first < 0 || after < first)) first = after;
  }
  return (1 - 2 * kTogether) * first;
}

double ContactSolver::bounce(std::vector<Body>& bodies, double span, bool firstOnly,
                             const std::function<void()>& solveJoints) {
  constexpr int kStages = 200, kSweeps = 300;
  constexpr double kSettled = 1e-9;  // of the approach speed
  const double together = kTogether * span;
  double earliest = -1;
  for (int stage = 0; stage < kStages; ++stage) {
    // What a body would meet later it may not meet at all once it has struck what comes first.
    std::vector<double> first(touches_.bodies.size(), span);  // s from now
    std::vector<std::pair<int, double>> coming;               // points, and when they touch
    double next = span;
    for (int i = 0; i < size(); ++i) {
      const ContactPoint& p = touches_.points[i];
      const ContactPatch& patch = touches_.patches[p.patch];
      if (!patch.bounces) continue;
      const double v = partingSpeed(i, bodies);
      // What would come a moment too late comes along with what does not: the corners of a face touch together.
      if (v > -slowest_ || p.gap + (span + together) * v >= 0) continue;
      const double after = std::max(p.gap, 0.0) / -v;
      coming.emplace_back(i, after);
      next = std::min(next, after);
      for (const int place : {patch.placeA, patch.placeB}) first[place] = std::min(first[place], after);
    }
    if (next >= span) break;
    if (earliest < 0) earliest = next;
    if (firstOnly && next > earliest + together) break;
    const auto isFirst = [&](int body, int place, double after) {
      return !bodies[body].dynamic() || after <= (firstOnly ? earliest : first[place]) + together;
    };
    std::vector<std::pair<int, Contact>> struck;  // by point
    std::map<int, Touch> touching;                // bodies that may be moved to their touch
    double fastest = 0;
    for (const auto& [i, after] : coming) {
      const ContactPatch& patch = touches_.patches[touches_.points[i].patch];
      if (!isFirst(patch.a, patch.placeA, after) || !isFirst(patch.b, patch.placeB, after)) continue;
      const double v = partingSpeed(i, bodies);
      fastest = std::max(fastest, -v);
      ContactLaw<double>& law = struck.emplace_back(i, Contact{}).second.law;
      setImpactLaw(i, bodies, law);
      law.target = -patch.pair->restitution * v;
      if (bodies[patch.a].jointed || bodies[patch.b].jointed) continue;
      const double gained = partingGain(i, bodies, after);
      law.target = -patch.pair->restitution * (v + gained) - gained;
      for (int id : {patch.a, patch.b})
        if (bodies[id].dynamic()) touching.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    addResting(struck, bodies);
    for (int sweep = 0; sweep < kSweeps; ++sweep) {
      double largest = 0;
      for (auto& [point, contact] : struck) {
        const double friction = touches_.patches[touches_.points[point].patch].friction;
        largest = std::max(largest, resolve(contact.law, friction, slipAt(point, bodies).data(), contact.push));
        pushAt(point, Eigen::Map<const Vec3>(contact.push.change), bodies);
      }
      solveJoints();
      if (largest < kSettled * fastest) break;
    }
    for (const auto& [point, contact] : struck) {
      const ContactPoint& p = touches_.points[point];
      const ContactPatch& patch = touches_.patches[p.patch];
      addTo(patch, p, Eigen::Map<const Vec3>(contact.push.impulse), patch.pair->frameImpulse, patch.pair->frameMoment);
    }
    forgetCourse(struck, bodies);
    moveToTouch(touching, bodies, span);
  }
  return earliest;
}

// What is at rest at other points of pairs that strike may be pushed there by the impact.
void ContactSolver::addResting(std::vector<std::pair<int, Contact>>& struck, const std::vector<Body>& bodies) const {
  std::set<int> patches, points;
  for (const auto& [point, contact] : struck) patches.insert(touches_.points[point].patch), points.insert(point);
  for (const int patch : patches)
    for (int i = touches_.patches[patch].first; i < touches_.patches[patch].end; ++i) {
      if (touches_.points[i].gap > kNearTouch || points.contains(i)) continue;
      ContactLaw<double>& law = struck.emplace_back(i, Contact{}).second.law;
      setImpactLaw(i, bodies, law);
      law.target = std::min(0.0, partingSpeed(i, bodies));
    }
}

void ContactSolver::setImpactLaw(int point, const std::vector<Body>& bodies, ContactLaw<double>& law) const {
  setOwnMobility(point, bodies, law);
  law.softness = 0;
  law.perSpeed = 1 / law.mobility[0];
}

// How fast the point of a body at `arm` gathers speed, as over the last kick; of a kinematic body, as over this step.
Vec3 ContactSolver::accelerationAt(const Body& b, const Vec3& arm, bool turns) const {
  if (b.spanBefore <= 0) return b.dynamic() ? Vec3(b.gravityScale * gravity_ + b.inverseMass * b.force) : Vec3::Zero();
  Vec3 sum = (b.velocity - b.velocityBefore + (b.spin - b.spinBefore).cross(arm)) / b.spanBefore;
  if (turns) sum += b.spin.cross(b.spin.cross(arm));
  return sum;
}

double ContactSolver::partingGain(int point, const std::vector<Body>& bodies, double after) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  // Points that were sought at the instant of touch have their arms turned already.
  const bool turns = patch.pair->manifold.touchTime == 0;
  // A kinematic body's velocity is that of the step's middle.
  const double sinceMiddle = step_ / 2 - left_ + after;
  const auto gain = [&](const Body& b, const Vec3& arm) {
    return Vec3((b.dynamic() ? after : sinceMiddle) * accelerationAt(b, arm, turns));
  };
  return patch.normal().dot(gain(bodies[patch.b], p.armB) - gain(bodies[patch.a], p.armA));
}

// What was struck does not go on as it did.
void ContactSolver::forgetCourse(const std::vector<std::pair<int, Contact>>& struck, std::vector<Body>& bodies) {
  std::set<int> changed;
  for (const auto& [point, contact] : struck) {
    const ContactPatch& patch = touches_.patches[touches_.points[point].patch];
    for (const int id : {patch.a, patch.b})
      if (bodies[id].dynamic()) bodies[id].spanBefore = 0, changed.insert(id);
  }
  for (ContactPatch& patch : touches_.patches)
    if (changed.contains(patch.a) || changed.contains(patch.b)) patch.wandering.setZero();
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
    moveBy(b, shift.way, shift.turn);
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
    if (p.gap > 0) p.target = -p.gap / span;
  }
}

}  // namespace calm
