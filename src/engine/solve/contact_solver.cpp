// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_solver.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "engine/math/groups.h"

namespace calm {

namespace {

// Overlap is pushed out at this fraction a substep, and at most at this speed, so that nothing is flung.
constexpr double kPushRate = 0.2;
constexpr double kPushSpeed = 1;  // m/s
// Normal compliance over h^2, as a fraction of the contact's mobility: micrometres under any load that gravity makes,
// and it gives redundant contacts one answer.
constexpr double kSoftness = 0.003;
// Impacts do not bounce that are slower than so many times gravity's own change of speed over a substep, or than the
// least speed: they are what rests.
constexpr double kBounceShare = 2.5, kLeastBounce = 1e-6;  // m/s

double approach(const ContactSolver::Point& p, const Body& a, const Body& b) {
  return p.directions.col(0).dot(b.velocityAt(p.armB) - a.velocityAt(p.armA));
}

// The tangential impulse within the disc of radius `limit` that stops the slip or, failing that, opposes what is left
// of it. On the rim it solves p = projection(p - slip(p)/k), k the larger eigenvalue of the mobility; a plain scaling
// of the impulse that would stop the slip points elsewhere when the mobility is not the same in all directions.
Eigen::Vector2d frictionImpulse(const ContactSolver::Point& p, const Eigen::Vector2d& slip, double limit) {
  if (limit == 0) return Eigen::Vector2d::Zero();
  const Eigen::Vector2d now = p.impulse.tail<2>();
  Eigen::Vector2d next = now - p.stopSlip * slip;
  if (next.squaredNorm() <= limit * limit) return next;
  next = now;
  for (int i = 0; i < 6; ++i) {
    next -= (slip + p.tangents * (next - now)) / p.stiffestSlip;
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

// The pairs that touch, those of one set of bodies after those of another; notes the sets' ranges, but for their ends.
std::vector<ContactPair*> ContactSolver::inOrder(const std::vector<ContactPair*>& pairs,
                                                 const std::vector<Body>& bodies) {
  std::vector<ContactPair*> touching;
  for (ContactPair* pair : pairs)
    if (!pair->manifold.points.empty()) touching.push_back(pair);
  touched_.clear();
  const auto place = [&](int id) {
    if (placeOf_[id] < 0) placeOf_[id] = static_cast<int>(touched_.size()), touched_.push_back(id);
    return placeOf_[id];
  };
  Groups groups(2 * touching.size());
  for (const ContactPair* pair : touching) {
    const int a = place(pair->bodyA), b = place(pair->bodyB);
    if (bodies[pair->bodyA].dynamic() && bodies[pair->bodyB].dynamic()) groups.join(a, b);
  }
  const auto groupOf = [&](const ContactPair* pair) {
    return groups.root(placeOf_[bodies[pair->bodyA].dynamic() ? pair->bodyA : pair->bodyB]);
  };
  std::stable_sort(touching.begin(), touching.end(),
                   [&](const ContactPair* x, const ContactPair* y) { return groupOf(x) < groupOf(y); });
  for (std::size_t i = 0; i < touching.size(); ++i)
    touching[i]->startsSet = i == 0 || groupOf(touching[i]) != groupOf(touching[i - 1]);
  for (const int id : touched_) placeOf_[id] = -1;
  touched_.clear();
  return touching;
}

void ContactSolver::build(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, const Vec3& gravity,
                          double h, bool closing) {
  points_.clear();
  ranges_.clear();
  placeOf_.resize(bodies.size(), -1);
  gradient_ = beta_ = 0;
  closing_ = closing;
  slowest_ = std::max(kBounceShare * gravity.norm() * h, kLeastBounce);
  coupled_ = false;
  const auto place = [&](int id) {
    if (placeOf_[id] < 0) placeOf_[id] = static_cast<int>(touched_.size()), touched_.push_back(id);
    return placeOf_[id];
  };
  const auto closeRange = [&] {
    if (ranges_.empty()) return;
    ranges_.back().endPoint = size();
    ranges_.back().endMotion = static_cast<int>(touched_.size());
  };
  for (ContactPair* pair : inOrder(pairs, bodies)) {
    if (pair->startsSet) {
      closeRange();
      ranges_.push_back({size(), size(), static_cast<int>(touched_.size()), 0});
    }
    const Body &a = bodies[pair->bodyA], &b = bodies[pair->bodyB];
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
      p.armA = m.position - a.position - pair->manifold.touchTime * a.velocity;
      p.armB = m.position - b.position - pair->manifold.touchTime * b.velocity;
      if (!closing) {
        // As it will be in the middle of the step: what stands on a turntable is carried along its arc.
        p.armA += h / 2 * n.dot(a.spin) * n.cross(p.armA);
        p.armB += h / 2 * n.dot(b.spin) * n.cross(p.armB);
      }
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
      Mat3 mobility = Mat3::Zero();
      if (a.dynamic()) mobility += ra.transpose() * (a.response * ra);
      if (b.dynamic()) mobility += rb.transpose() * (b.response * rb);
      mobility.diagonal().array() += a.linearResponse + b.linearResponse;
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
      p.bounces = p.restitution > 0 || (pair->manifold.touchTime > 0 && !a.jointed && !b.jointed);
      points_.push_back(p);
    }
  }
  closeRange();
  motions_.clear();
  for (const int id : touched_) {
    placeOf_[id] = -1;
    const Body& b = bodies[id];
    motions_.push_back({b.velocity, b.spin, b.dynamic() ? b.response : Mat3::Zero(), b.linearResponse});
  }
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
    if (b.dynamic()) b.velocity = motions_[i].velocity, b.spin = motions_[i].spin;
  }
}

void ContactSolver::pushBodies(const Point& p, const Vec3& impulse, std::vector<Body>& bodies) const {
  const Vec3 along = p.directions * impulse;
  if (Body& a = bodies[p.a]; a.dynamic())
    a.velocity -= a.linearResponse * along, a.spin -= a.response * p.armA.cross(along);
  if (Body& b = bodies[p.b]; b.dynamic())
    b.velocity += b.linearResponse * along, b.spin += b.response * p.armB.cross(along);
}

bool ContactSolver::wouldBounce(const std::vector<Body>& bodies, double h) const {
  return std::any_of(points_.begin(), points_.end(), [&](const Point& p) {
    const double v = approach(p, bodies[p.a], bodies[p.b]);
    return p.bounces && v < -slowest_ && p.gap + h * v < 0;
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
      if (!p.bounces || v > -slowest_ || p.gap + h * v >= 0) continue;
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
      const double largest = sweepPoints(struck, 0, static_cast<int>(struck.size()));
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

inline double ContactSolver::sweepPoint(Point& p) {
  Vec3 v = slip(p);
  const double lack = p.target - v[0] - p.softness * p.impulse[0];
  const double normal = std::max(0.0, p.impulse[0] + lack / (p.mobility[0] + p.softness));
  if (normal == 0 && p.impulse.isZero(0)) {
    p.change.setZero();
    return 0;
  }
  Vec3 change(normal - p.impulse[0], 0, 0);
  v += p.mobility * change[0];
  change.tail<2>() = frictionImpulse(p, v.tail<2>(), p.friction * normal) - p.impulse.tail<2>();
  p.impulse += change;
  p.change = change;
  push(p, change);
  return std::max({p.mobility[0] * std::abs(change[0]), p.tangents(0, 0) * std::abs(change[1]),
                   p.tangents(1, 1) * std::abs(change[2])});
}

double ContactSolver::sweepPoints(std::vector<Point>& points, int from, int to) {
  double largest = 0, gradient = 0;
  for (int i = from; i < to; ++i) {
    Point& p = points[i];
    largest = std::max(largest, sweepPoint(p));
    gradient += p.change.squaredNorm() * p.mobility[0];
  }
  beta_ = gradient_ > 0 ? gradient / gradient_ : 0;
  gradient_ = gradient;
  return largest;
}

double ContactSolver::sweep(std::vector<Body>& bodies) {
  load(bodies);
  const double largest = sweepOn(all());
  unload(bodies);
  return largest;
}

double ContactSolver::relaxApart(std::vector<Body>& bodies, int sweeps, double enough, double reduction) {
  load(bodies);
  double worst = 0;
  for (const Range& range : ranges_) {
    gradient_ = beta_ = 0;
    double limit = enough, change = 0;
    for (int i = 0; i < sweeps; ++i) {
      change = sweepOn(range);
      if (change < limit) break;
      if (i == 0) limit = std::max(limit, reduction * change);
    }
    worst = std::max(worst, change);
  }
  unload(bodies);
  return worst;
}

void ContactSolver::setMobility(Point& p, const Mat3& mobility) {
  p.mobility = mobility.col(0);
  p.tangents = mobility.bottomRightCorner<2, 2>();
  p.stopSlip = p.tangents.inverse();
  p.softness = kSoftness * mobility(0, 0);
  const double mean = p.tangents.trace() / 2;
  p.stiffestSlip = mean + std::sqrt(std::max(0.0, mean * mean - p.tangents.determinant()));
}

// On along the direction of the last sweeps, in impulses and in the velocities that these give.
void ContactSolver::extrapolate(const Range& range) {
  if (gradient_ == 0) return;  // nothing to follow yet
  const double share = beta_ > 1 ? 0 : beta_;
  const auto advance = [&](auto& value, auto& heading, const auto& swept) {
    if (share == 0) return void(heading.setZero());
    value += share * heading;
    heading = (share * heading + swept).eval();
  };
  for (int i = range.firstPoint; i < range.endPoint; ++i)
    advance(points_[i].impulse, points_[i].direction, points_[i].change);
  if (coupled_) return advance(speeds_, headingSpeeds_, sweptSpeeds_);
  for (int i = range.firstMotion; i < range.endMotion; ++i) {
    Motion& m = motions_[i];
    advance(m.velocity, m.headingVelocity, m.sweptVelocity);
    advance(m.spin, m.headingSpin, m.sweptSpin);
  }
}

double ContactSolver::sweepOn(const Range& range) {
  extrapolate(range);
  if (coupled_) sweptSpeeds_ = speeds_;
  for (int i = range.firstMotion; i < range.endMotion; ++i) {
    Motion& m = motions_[i];
    m.sweptVelocity = m.velocity, m.sweptSpin = m.spin;
  }
  const double largest = sweepPoints(points_, range.firstPoint, range.endPoint);
  if (coupled_) sweptSpeeds_ = speeds_ - sweptSpeeds_;
  for (int i = range.firstMotion; i < range.endMotion; ++i) {
    Motion& m = motions_[i];
    m.sweptVelocity = m.velocity - m.sweptVelocity;
    m.sweptSpin = m.spin - m.sweptSpin;
  }
  return largest;
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
