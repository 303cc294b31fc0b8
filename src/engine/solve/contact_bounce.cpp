// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts that send back what meets.
#include <algorithm>
#include <map>

#include "engine/solve/contact_solver.h"

namespace calm {

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  for (int i = 0; i < size(); ++i) {
    const Point& p = points_[i];
    if (!p.bounces) continue;
    const double v = partingSpeed(i, bodies);
    if (v < -slowest_ && p.gap + h * v < 0) return true;
  }
  return false;
}

double ContactSolver::partingSpeed(int point, const std::vector<Body>& bodies) const {
  const Patch& patch = patches_[points_[point].patch];
  const Contact& c = contacts_[point];
  return patch.directions[0].vec().dot(bodies[patch.b].velocityAt(c.armB.vec()) -
                                       bodies[patch.a].velocityAt(c.armA.vec()));
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
    std::vector<Contact> struck;
    std::vector<Patch> patches;  // of one point each
    std::vector<int> points;
    double fastest = 0;
    for (int i = 0; i < size(); ++i) {
      const Point& p = points_[i];
      if (!p.bounces) continue;
      const double v = partingSpeed(i, bodies);
      if (v > -slowest_ || p.gap + h * v >= 0) continue;
      fastest = std::max(fastest, -v);
      patches.push_back(patches_[p.patch]);
      patches.back().first = static_cast<int>(struck.size());
      patches.back().end = patches.back().first + 1;
      patches.back().withNext = false;
      points.push_back(i);
      struck.push_back(contacts_[i]);
      Contact& s = struck.back();
      s.impulse = s.direction = {};
      s.softness = 0;
      s.perSpeed = 1 / s.mobility.at[0];
      s.target = -p.restitution * v;
      const Body &a = bodies[patches.back().a], &b = bodies[patches.back().b];
      if (a.jointed || b.jointed) continue;
      const double after = std::max(p.gap, 0.0) / -v;
      const double gained = after * patches.back().directions[0].vec().dot(acceleration(b) - acceleration(a));
      s.target = -p.restitution * (v + gained) - gained;
      for (int id : {patches.back().a, patches.back().b})
        if (bodies[id].dynamic()) touches.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    if (struck.empty()) break;
    bounced = true;
    for (int sweep = 0; sweep < kSweeps; ++sweep) {
      load(bodies);
      const double largest = sweepPatches(patches.data(), static_cast<int>(patches.size()), struck.data(), {}).largest;
      unload(bodies);
      solveJoints();
      if (largest < kSettled * fastest) break;
    }
    for (std::size_t i = 0; i < struck.size(); ++i) account(points[i], struck[i].impulse.vec());
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
