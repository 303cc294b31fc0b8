// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts that send back what meets.
#include <algorithm>
#include <map>
#include <utility>

#include "engine/solve/contact_solver.h"

namespace calm {

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  for (int i = 0; i < size(); ++i) {
    const ContactPoint& p = points_[i];
    if (!patches_[p.patch].bounces) continue;
    const double v = partingSpeed(i, bodies);
    if (v < -slowest_ && p.gap + h * v < 0) return true;
  }
  return false;
}

double ContactSolver::partingSpeed(int point, const std::vector<Body>& bodies) const {
  const ContactPoint& p = points_[point];
  const ContactPatch& patch = patches_[p.patch];
  return patch.normal().dot(bodies[patch.b].velocityAt(p.armB) - bodies[patch.a].velocityAt(p.armA));
}

bool ContactSolver::bounce(std::vector<Body>& bodies, double h, const Vec3& gravity,
                           const std::function<void()>& solveJoints) {
  constexpr int kStages = 200, kSweeps = 50;
  constexpr double kSettled = 1e-9;  // of the approach speed
  const auto acceleration = [&](const Body& b) {
    return b.dynamic() ? Vec3(b.gravityScale * gravity + b.inverseMass * b.force) : Vec3(Vec3::Zero());
  };
  struct Touch {
    double after;  // s from now
    Vec3 velocity, spin;
  };
  std::map<int, Touch> touches;  // of bodies that may be moved to their touch
  bool bounced = false;
  for (int stage = 0; stage < kStages; ++stage) {
    std::vector<std::pair<int, Contact>> struck;  // by point
    double fastest = 0;
    for (int i = 0; i < size(); ++i) {
      const ContactPoint& p = points_[i];
      const ContactPatch& patch = patches_[p.patch];
      if (!patch.bounces) continue;
      const double v = partingSpeed(i, bodies);
      if (v > -slowest_ || p.gap + h * v >= 0) continue;
      fastest = std::max(fastest, -v);
      ContactLaw<double>& law = struck.emplace_back(i, Contact{}).second.law;
      setOwnMobility(i, bodies, law);
      law.softness = 0;
      law.perSpeed = 1 / law.mobility[0];
      law.target = -patch.pair->restitution * v;
      const Body &a = bodies[patch.a], &b = bodies[patch.b];
      if (a.jointed || b.jointed) continue;
      const double after = std::max(p.gap, 0.0) / -v;
      const double gained = after * patch.normal().dot(acceleration(b) - acceleration(a));
      law.target = -patch.pair->restitution * (v + gained) - gained;
      for (int id : {patch.a, patch.b})
        if (bodies[id].dynamic()) touches.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    if (struck.empty()) break;
    bounced = true;
    for (int sweep = 0; sweep < kSweeps; ++sweep) {
      double largest = 0;
      for (auto& [point, contact] : struck) {
        const double friction = patches_[points_[point].patch].pair->friction;
        largest = std::max(largest, resolve(contact.law, friction, slipAt(point, bodies).data(), contact.push));
        pushAt(point, Eigen::Map<const Vec3>(contact.push.change), bodies);
      }
      solveJoints();
      if (largest < kSettled * fastest) break;
    }
    for (const auto& [point, contact] : struck) account(points_[point], Eigen::Map<const Vec3>(contact.push.impulse));
  }
  for (const auto& [id, touch] : touches) {
    Body& b = bodies[id];
    b.position += touch.after * (touch.velocity - b.velocity);
    b.orientation = (rotationFromVector(touch.after * (touch.spin - b.spin)) * b.orientation).normalized();
    b.axes = b.orientation.toRotationMatrix();
  }
  return bounced;
}

}  // namespace calm
