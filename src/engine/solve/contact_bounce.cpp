// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts that send back what meets.
#include <algorithm>
#include <map>
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

double ContactSolver::bounce(std::vector<Body>& bodies, double span, bool firstOnly, const Vec3& gravity,
                             const std::function<void()>& solveJoints) {
  constexpr int kStages = 200, kSweeps = 50;
  constexpr double kSettled = 1e-9;  // of the approach speed
  const double together = kTogether * span;
  const auto acceleration = [&](const Body& b) {
    return b.dynamic() ? Vec3(b.gravityScale * gravity + b.inverseMass * b.force) : Vec3(Vec3::Zero());
  };
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
      const ContactPoint& p = touches_.points[i];
      const ContactPatch& patch = touches_.patches[p.patch];
      if (!isFirst(patch.a, patch.placeA, after) || !isFirst(patch.b, patch.placeB, after)) continue;
      const double v = partingSpeed(i, bodies);
      fastest = std::max(fastest, -v);
      ContactLaw<double>& law = struck.emplace_back(i, Contact{}).second.law;
      setOwnMobility(i, bodies, law);
      law.softness = 0;
      law.perSpeed = 1 / law.mobility[0];
      law.target = -patch.pair->restitution * v;
      const Body &a = bodies[patch.a], &b = bodies[patch.b];
      if (a.jointed || b.jointed) continue;
      const double gained = after * patch.normal().dot(acceleration(b) - acceleration(a));
      law.target = -patch.pair->restitution * (v + gained) - gained;
      for (int id : {patch.a, patch.b})
        if (bodies[id].dynamic()) touching.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
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
    moveToTouch(touching, bodies, span);
  }
  return earliest;
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
