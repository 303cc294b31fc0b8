// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_solver.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace calm {

namespace {

// Overlap is pushed out at this fraction a substep, and at most at this speed, so that nothing is flung.
constexpr double kPushRate = 0.2;
constexpr double kPushSpeed = 1;  // m/s
// Normal compliance over h^2, as a fraction of the contact's mobility: micrometres under any load that gravity makes,
// and it gives redundant contacts one answer.
constexpr double kSoftness = 0.003;
// Slower impacts do not bounce; below it, gravity's own change of speed over a substep decides.
constexpr double kBounceSpeed = 0.05;  // m/s

double relativeVelocity(const ContactSolver::Point& p, const Body& a, const Body& b, int direction) {
  return p.directions[direction].dot(b.velocityAt(p.armB) - a.velocityAt(p.armA));
}

void push(const ContactSolver::Point& p, Body& a, Body& b, int direction, double impulse) {
  // What does not move is shared between islands and must not be written.
  if (p.inverseMassA > 0) {
    a.velocity -= p.directions[direction] * (impulse * p.inverseMassA);
    a.spin -= p.angularA[direction] * impulse;
  }
  if (p.inverseMassB > 0) {
    b.velocity += p.directions[direction] * (impulse * p.inverseMassB);
    b.spin += p.angularB[direction] * impulse;
  }
}

// The tangential impulse within the disc of radius `limit` that stops the slip or, failing that, opposes what is left
// of it. On the rim it solves p = projection(p - slip(p)/k), k the larger eigenvalue of the mobility; a plain scaling
// of the impulse that would stop the slip points elsewhere when the mobility is not the same in all directions.
Eigen::Vector2d frictionImpulse(const ContactSolver::Point& p, const Eigen::Vector2d& slip, double limit) {
  Eigen::Matrix2d mobility;
  mobility << p.mobility[1], p.mobilityMixed, p.mobilityMixed, p.mobility[2];
  const Eigen::Vector2d now = p.impulse.tail<2>();
  Eigen::Vector2d next = now - mobility.inverse() * slip;
  if (next.norm() <= limit) return next;
  const double mean = mobility.trace() / 2;
  const double stiffest = mean + std::sqrt(std::max(0.0, mean * mean - mobility.determinant()));
  next = now;
  for (int i = 0; i < 6; ++i) {
    next -= (slip + mobility * (next - now)) / stiffest;
    const double length = next.norm();
    if (length > limit) next *= limit / length;
  }
  return next;
}

}  // namespace

void ContactPair::keepNames(const Body& a) {
  constexpr double kSamePlace = 0.02;  // m
  if (manifold.points.size() == 1 && last.size() == 1) {
    manifold.points[0].id = last[0].id;
    return;
  }
  std::vector<char> taken(last.size(), 0);
  std::vector<ManifoldPoint*> strangers;
  for (ManifoldPoint& p : manifold.points) {
    const Vec3 place = a.axes.transpose() * (p.position - a.position);
    double nearest = kSamePlace;
    std::size_t match = last.size();
    for (std::size_t i = 0; i < last.size(); ++i)
      if (const double d = (last[i].onA - place).norm(); !taken[i] && d < nearest) nearest = d, match = i;
    if (match < last.size())
      p.id = last[match].id, taken[match] = 1;
    else
      strangers.push_back(&p);
  }
  // A stranger may not bear a name that is in use.
  for (ManifoldPoint* p : strangers)
    for (bool clash = true; clash;) {
      clash = std::any_of(manifold.points.begin(), manifold.points.end(),
                          [&](const ManifoldPoint& q) { return &q != p && q.id == p->id; });
      if (clash) ++p->id;
    }
}

void ContactSolver::build(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, double h,
                          bool closing) {
  points_.clear();
  gradient_ = beta_ = 0;
  closing_ = closing;
  for (ContactPair* pair : pairs) {
    const Body &a = bodies[pair->bodyA], &b = bodies[pair->bodyB];
    pair->keepNames(a);
    const Vec3 n = pair->manifold.normal;
    const Vec3 t1 = anyPerpendicular(n), t2 = n.cross(t1);
    for (const ManifoldPoint& m : pair->manifold.points) {
      Point p;
      p.pair = pair;
      p.a = pair->bodyA;
      p.b = pair->bodyB;
      p.id = m.id;
      p.position = m.position;
      p.directions[0] = n, p.directions[1] = t1, p.directions[2] = t2;
      p.armA = m.position - a.position;
      p.armB = m.position - b.position;
      p.inverseMassA = a.inverseMass;
      p.inverseMassB = b.inverseMass;
      p.friction = pair->friction;
      p.restitution = pair->restitution;
      p.impulse.setZero();
      p.direction.setZero();
      p.change.setZero();
      for (const ContactImpulse& last : pair->last)
        if (last.id == m.id) p.impulse = last.force;
      if (closing && p.impulse[0] <= 0) continue;
      for (int i = 0; i < 3; ++i) {
        const Vec3 ra = p.armA.cross(p.directions[i]), rb = p.armB.cross(p.directions[i]);
        p.angularA[i] = a.dynamic() ? Vec3(a.response * ra) : Vec3::Zero();
        p.angularB[i] = b.dynamic() ? Vec3(b.response * rb) : Vec3::Zero();
        p.mobility[i] = p.inverseMassA + p.inverseMassB + ra.dot(p.angularA[i]) + rb.dot(p.angularB[i]);
      }
      p.softness = kSoftness * p.mobility[0];
      p.mobilityMixed = p.armA.cross(t1).dot(p.angularA[2]) + p.armB.cross(t1).dot(p.angularB[2]);
      p.gap = m.gap;
      if (m.gap >= 0 || closing)
        p.target = -std::max(m.gap, 0.0) / h;
      else
        p.target = std::min(-kPushRate * m.gap / h, kPushSpeed);
      points_.push_back(p);
    }
  }
}

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  return std::any_of(points_.begin(), points_.end(), [&](const Point& p) {
    const double v = relativeVelocity(p, bodies[p.a], bodies[p.b], 0);
    return p.restitution > 0 && v < -kBounceSpeed && p.gap + h * v < 0;
  });
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
    std::vector<Point> struck;
    double fastest = 0;
    for (const Point& p : points_) {
      const Body &a = bodies[p.a], &b = bodies[p.b];
      const double v = relativeVelocity(p, a, b, 0);
      if (p.restitution == 0 || v > -kBounceSpeed || p.gap + h * v >= 0) continue;
      fastest = std::max(fastest, -v);
      struck.push_back(p);
      Point& s = struck.back();
      s.impulse.setZero();
      s.softness = 0;
      s.target = -p.restitution * v;
      if (a.jointed || b.jointed) continue;
      const double after = std::max(p.gap, 0.0) / -v;
      const double gained = after * p.directions[0].dot(acceleration(b) - acceleration(a));
      s.target = -p.restitution * (v + gained) - gained;
      for (int id : {p.a, p.b})
        if (bodies[id].dynamic()) touches.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    if (struck.empty()) break;
    bounced = true;
    for (int sweep = 0; sweep < kSweeps; ++sweep) {
      double largest = 0;
      for (Point& p : struck) sweepPoint(p, bodies, largest);
      solveJoints();
      if (largest < kSettled * fastest) break;
    }
    for (const Point& p : struck) account(p);
  }
  for (const auto& [id, touch] : touches) {
    Body& b = bodies[id];
    b.position += touch.after * (touch.velocity - b.velocity);
    b.orientation = (rotationFromVector(touch.after * (touch.spin - b.spin)) * b.orientation).normalized();
    b.axes = b.orientation.toRotationMatrix();
  }
  return bounced;
}

void ContactSolver::warmStart(std::vector<Body>& bodies, double time) {
  for (Point& p : points_) {
    p.impulse *= time;  // were forces
    // Velocities are closed without the compliance's own yield.
    if (closing_) p.target += p.softness * p.impulse[0];
    for (int i = 0; i < 3; ++i) push(p, bodies[p.a], bodies[p.b], i, p.impulse[i]);
  }
}

void ContactSolver::sweepPoint(Point& p, std::vector<Body>& bodies, double& largest) {
  Body &a = bodies[p.a], &b = bodies[p.b];
  const double lack = p.target - relativeVelocity(p, a, b, 0) - p.softness * p.impulse[0];
  const double normal = std::max(0.0, p.impulse[0] + lack / (p.mobility[0] + p.softness));
  largest = std::max(largest, std::abs(normal - p.impulse[0]) * p.mobility[0]);
  push(p, a, b, 0, normal - p.impulse[0]);
  p.impulse[0] = normal;

  const Eigen::Vector2d slip(relativeVelocity(p, a, b, 1), relativeVelocity(p, a, b, 2));
  const Eigen::Vector2d tangential = frictionImpulse(p, slip, p.friction * normal);
  for (int i = 0; i < 2; ++i) {
    const double change = tangential[i] - p.impulse[1 + i];
    largest = std::max(largest, std::abs(change) * p.mobility[1 + i]);
    push(p, a, b, 1 + i, change);
    p.impulse[1 + i] = tangential[i];
  }
}

double ContactSolver::sweep(std::vector<Body>& bodies) {
  extrapolate(bodies);
  double largest = 0, gradient = 0;
  for (Point& p : points_) {
    const Vec3 before = p.impulse;
    sweepPoint(p, bodies, largest);
    p.change = p.impulse - before;
    gradient += p.change.squaredNorm() * p.mobility[0];
  }
  beta_ = gradient_ > 0 ? gradient / gradient_ : 0;
  gradient_ = gradient;
  return largest;
}

void ContactSolver::extrapolate(std::vector<Body>& bodies) {
  if (gradient_ == 0) return;  // nothing to follow yet
  for (Point& p : points_) {
    if (beta_ > 1) {
      p.direction.setZero();
      continue;
    }
    for (int k = 0; k < 3; ++k) push(p, bodies[p.a], bodies[p.b], k, beta_ * p.direction[k]);
    p.impulse += beta_ * p.direction;
    p.direction = beta_ * p.direction + p.change;
  }
}

void ContactSolver::store(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, double time) {
  storedTime_ = time;
  for (ContactPair* pair : pairs) pair->last.clear();
  for (Point& p : points_) {
    p.pair->last.push_back({p.id, bodies[p.a].axes.transpose() * p.armA, p.impulse / time});
    account(p);
  }
}

void ContactSolver::account(const Point& p) {
  Vec3 impulse = Vec3::Zero();
  for (int i = 0; i < 3; ++i) impulse += p.impulse[i] * p.directions[i];
  p.pair->frameImpulse += impulse;
  p.pair->frameMoment += p.position.cross(impulse);
}

void ContactSolver::pushAtLastForce(std::vector<Body>& bodies) const {
  for (const Point& p : points_)
    for (int i = 0; i < 3; ++i) push(p, bodies[p.a], bodies[p.b], i, p.impulse[i] / storedTime_);
}

}  // namespace calm
