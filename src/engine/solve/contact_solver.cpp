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

double approach(const ContactSolver::Point& p, const Body& a, const Body& b) {
  return p.directions.col(0).dot(b.velocityAt(p.armB) - a.velocityAt(p.armA));
}

// The tangential impulse within the disc of radius `limit` that stops the slip or, failing that, opposes what is left
// of it. On the rim it solves p = projection(p - slip(p)/k), k the larger eigenvalue of the mobility; a plain scaling
// of the impulse that would stop the slip points elsewhere when the mobility is not the same in all directions.
Eigen::Vector2d frictionImpulse(const ContactSolver::Point& p, const Eigen::Vector2d& slip, double limit) {
  if (limit == 0) return Eigen::Vector2d::Zero();
  const Eigen::Matrix2d mobility = p.mobility.bottomRightCorner<2, 2>();
  const Eigen::Vector2d now = p.impulse.tail<2>();
  Eigen::Vector2d next = now - mobility.inverse() * slip;
  if (next.squaredNorm() <= limit * limit) return next;
  next = now;
  for (int i = 0; i < 6; ++i) {
    next -= (slip + mobility * (next - now)) / p.stiffestSlip;
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
  touched_.clear();
  placeOf_.resize(bodies.size(), -1);
  gradient_ = beta_ = 0;
  closing_ = closing;
  coupled_ = false;
  const auto place = [&](int id) {
    if (placeOf_[id] < 0) placeOf_[id] = static_cast<int>(touched_.size()), touched_.push_back(id);
    return placeOf_[id];
  };
  for (ContactPair* pair : pairs) {
    if (pair->manifold.points.empty()) continue;
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
      p.directions << n, t1, t2;
      p.armA = m.position - a.position;
      p.armB = m.position - b.position;
      p.inverseMassA = a.linearResponse;
      p.inverseMassB = b.linearResponse;
      p.friction = pair->friction;
      p.restitution = pair->restitution;
      p.impulse.setZero();
      p.direction.setZero();
      p.change.setZero();
      for (const ContactImpulse& last : pair->last)
        if (last.id == m.id) p.impulse = last.force;
      if (closing && p.impulse[0] <= 0) continue;
      const auto arms = [&](const Vec3& arm) {
        Mat3 m3;
        m3 << arm.cross(n), arm.cross(t1), arm.cross(t2);
        return m3;
      };
      const Mat3 ra = arms(p.armA), rb = arms(p.armB);
      p.angularA = a.dynamic() ? Mat3(a.response * ra) : Mat3::Zero();
      p.angularB = b.dynamic() ? Mat3(b.response * rb) : Mat3::Zero();
      Mat3 mobility = ra.transpose() * p.angularA + rb.transpose() * p.angularB;
      mobility.diagonal().array() += p.inverseMassA + p.inverseMassB;
      setMobility(p, mobility);
      p.alone = mobility.diagonal();
      p.index = size();
      p.placeA = place(p.a);
      p.placeB = place(p.b);
      p.gap = m.gap;
      if (m.gap >= 0 || closing)
        p.target = -std::max(m.gap, 0.0) / h;
      else
        p.target = std::min(-kPushRate * m.gap / h, kPushSpeed);
      p.pushedOut = std::max(p.target, 0.0);
      points_.push_back(p);
    }
  }
  for (const int id : touched_) placeOf_[id] = -1;
  motions_.resize(touched_.size());
}

void ContactSolver::load(const std::vector<Body>& bodies) {
  for (std::size_t i = 0; i < touched_.size(); ++i)
    motions_[i] = {bodies[touched_[i]].velocity, bodies[touched_[i]].spin};
}

void ContactSolver::unload(std::vector<Body>& bodies) const {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    Body& b = bodies[touched_[i]];
    if (b.dynamic()) b.velocity = motions_[i].velocity, b.spin = motions_[i].spin;
  }
}

Vec3 ContactSolver::slip(const Point& p) const {
  if (coupled_) return speeds_.segment<3>(3 * p.index);
  const Motion &a = motions_[p.placeA], &b = motions_[p.placeB];
  const Vec3 relative = b.velocity - a.velocity + b.spin.cross(p.armB) - a.spin.cross(p.armA);
  return p.directions.transpose() * relative;
}

void ContactSolver::push(const Point& p, const Vec3& impulse) {
  if (coupled_) {
    speeds_.noalias() += coupling_.middleCols<3>(3 * p.index) * impulse;
    return;
  }
  Motion &a = motions_[p.placeA], &b = motions_[p.placeB];
  const Vec3 along = p.directions * impulse;
  a.velocity -= p.inverseMassA * along;
  a.spin -= p.angularA * impulse;
  b.velocity += p.inverseMassB * along;
  b.spin += p.angularB * impulse;
}

void ContactSolver::pushBodies(const Point& p, const Vec3& impulse, std::vector<Body>& bodies) const {
  const Vec3 along = p.directions * impulse;
  if (Body& a = bodies[p.a]; a.dynamic()) a.velocity -= p.inverseMassA * along, a.spin -= p.angularA * impulse;
  if (Body& b = bodies[p.b]; b.dynamic()) b.velocity += p.inverseMassB * along, b.spin += p.angularB * impulse;
}

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  return std::any_of(points_.begin(), points_.end(), [&](const Point& p) {
    const double v = approach(p, bodies[p.a], bodies[p.b]);
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
      const double v = approach(p, a, b);
      if (p.restitution == 0 || v > -kBounceSpeed || p.gap + h * v >= 0) continue;
      fastest = std::max(fastest, -v);
      struck.push_back(p);
      Point& s = struck.back();
      s.impulse.setZero();
      s.softness = 0;
      s.target = -p.restitution * v;
      if (a.jointed || b.jointed) continue;
      const double after = std::max(p.gap, 0.0) / -v;
      const double gained = after * p.directions.col(0).dot(acceleration(b) - acceleration(a));
      s.target = -p.restitution * (v + gained) - gained;
      for (int id : {p.a, p.b})
        if (bodies[id].dynamic()) touches.try_emplace(id, Touch{after, bodies[id].velocity, bodies[id].spin});
    }
    if (struck.empty()) break;
    bounced = true;
    for (int sweep = 0; sweep < kSweeps; ++sweep) {
      load(bodies);
      const double largest = sweepPoints(struck);
      unload(bodies);
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
  gradient_ = beta_ = 0;
  return bounced;
}

void ContactSolver::warmStart(std::vector<Body>& bodies, double time) {
  for (Point& p : points_) {
    p.impulse *= time;  // were forces
    // Velocities are closed without the compliance's own yield.
    if (closing_) p.target += p.softness * p.impulse[0];
    pushBodies(p, p.impulse, bodies);
  }
}

double ContactSolver::sweepPoint(Point& p) {
  Vec3 v = slip(p);
  const double lack = p.target - v[0] - p.softness * p.impulse[0];
  const double normal = std::max(0.0, p.impulse[0] + lack / (p.mobility(0, 0) + p.softness));
  Vec3 change(normal - p.impulse[0], 0, 0);
  v += p.mobility.col(0) * change[0];
  change.tail<2>() = frictionImpulse(p, v.tail<2>(), p.friction * normal) - p.impulse.tail<2>();
  p.impulse += change;
  push(p, change);
  return change.cwiseProduct(p.mobility.diagonal()).cwiseAbs().maxCoeff();
}

double ContactSolver::sweepPoints(std::vector<Point>& points) {
  double largest = 0, gradient = 0;
  for (Point& p : points) {
    const Vec3 before = p.impulse;
    largest = std::max(largest, sweepPoint(p));
    p.change = p.impulse - before;
    gradient += p.change.squaredNorm() * p.mobility(0, 0);
  }
  beta_ = gradient_ > 0 ? gradient / gradient_ : 0;
  gradient_ = gradient;
  return largest;
}

double ContactSolver::sweep(std::vector<Body>& bodies) {
  load(bodies);
  extrapolate();
  const double largest = sweepPoints(points_);
  unload(bodies);
  return largest;
}

void ContactSolver::setMobility(Point& p, const Mat3& mobility) {
  p.mobility = mobility;
  p.softness = kSoftness * mobility(0, 0);
  const Eigen::Matrix2d tangents = mobility.bottomRightCorner<2, 2>();
  const double mean = tangents.trace() / 2;
  p.stiffestSlip = mean + std::sqrt(std::max(0.0, mean * mean - tangents.determinant()));
}

void ContactSolver::extrapolate() {
  if (gradient_ == 0) return;  // nothing to follow yet
  for (Point& p : points_) {
    if (beta_ > 1) {
      p.direction.setZero();
      continue;
    }
    push(p, beta_ * p.direction);
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
  const Vec3 impulse = p.directions * p.impulse;
  p.pair->frameImpulse += impulse;
  p.pair->frameMoment += p.position.cross(impulse);
}

void ContactSolver::pushAtLastForce(std::vector<Body>& bodies) const {
  for (const Point& p : points_) {
    const Vec3 force = p.directions * p.impulse / storedTime_;
    Body &a = bodies[p.a], &b = bodies[p.b];
    if (a.dynamic()) a.velocity -= a.linearResponse * force, a.spin -= a.response * p.armA.cross(force);
    if (b.dynamic()) b.velocity += b.linearResponse * force, b.spin += b.response * p.armB.cross(force);
  }
}

}  // namespace calm
