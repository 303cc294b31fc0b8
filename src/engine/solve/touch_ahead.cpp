// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/touch_ahead.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/solve/contact_patch.h"

namespace calm {

namespace {

Pose poseAfter(const Body& body, double time) {
  return {body.position + time * body.velocity, (rotationFromVector(time * body.spin) * body.orientation).normalized()};
}

// The two as they will be if their bodies go on as they move now.
class Ahead {
 public:
  explicit Ahead(const Meeting& meeting) : meeting_(meeting) {}
  void lookAt(double time, Manifold& out) {
    const Meeting& m = meeting_;
    const Pose poseB = poseAfter(m.b, time);
    buildCollider(m.shapeA, poseAfter(m.a, time) * m.placeA, colliderA_);
    if (m.triangle >= 0) return collideWithTriangle(colliderA_.core, triangleOf(m, poseB), m.margin, out);
    buildCollider(m.shapeB, poseB * m.placeB, colliderB_);
    collide(colliderA_, colliderB_, m.margin, out);
  }

 private:
  const Meeting& meeting_;
  Collider colliderA_, colliderB_;
};

// How long from now until the first of the points touches if all go on as they do, s; infinite if none comes nearer.
double soonestTouch(const Manifold& m, const Meeting& meeting) {
  double soonest = std::numeric_limits<double>::infinity();
  for (const ManifoldPoint& p : m.points)
    if (const double speed = partingSpeed(m, p.position, meeting.a, meeting.b); speed < 0)
      soonest = std::min(soonest, p.gap / -speed);
  return soonest;
}

// The least gap after some time at the points' present speeds, m; no more than 0.
double leastGapAfter(const Manifold& m, const Meeting& meeting, double time) {
  double least = 0;
  for (const ManifoldPoint& p : m.points)
    least = std::min(least, p.gap + time * partingSpeed(m, p.position, meeting.a, meeting.b));
  return least;
}

// m. There are no points where a mesh is touched, but on another triangle.
double distanceAt(const Manifold& m) {
  return m.points.empty() ? m.clearance : m.leastGap();
}

// The manifold after some time, with what its points have left to go until then as gaps. It cannot follow the bodies
// from how they stand now.
void takeForeseen(const Manifold& then, double time, const Meeting& meeting, ContactPair& pair) {
  pair.manifold = then;
  for (ManifoldPoint& p : pair.manifold.points) p.gap -= time * partingSpeed(then, p.position, meeting.a, meeting.b);
  pair.kept.known = false;
}

}  // namespace

TriangleTouch triangleOf(const Meeting& meeting, const Pose& body) {
  return {std::get<TriangleMesh>(meeting.shapeB).data.get(), meeting.triangle, body * meeting.placeB};
}

double partingSpeed(const Manifold& m, const Vec3& at, const Body& a, const Body& b) {
  const Vec3 onA = at - a.position - m.touchTime * a.velocity, onB = at - b.position - m.touchTime * b.velocity;
  return m.normal.dot(b.velocityAt(onB) - a.velocityAt(onA));
}

bool fliesPast(const ContactPair& pair, const Body& a, const Body& b, const Collider& ca, const Collider& cb, double h,
               bool crowd) {
  if (ca.halfSpace || cb.halfSpace) return false;
  const Manifold& m = pair.manifold;
  // A plane that is not crossed does no harm, and is there if one of the two is sent back within the step.
  const auto isCrossed = [&](const ManifoldPoint& p) { return p.gap + h * partingSpeed(m, p.position, a, b) < 0; };
  if (!crowd && std::none_of(m.points.begin(), m.points.end(), isCrossed)) return false;
  const double gap = m.leastGap();
  const Vec3 relative = b.velocity - a.velocity;
  // What is near compared to how far it moves may be pushed in by others; only true passers-by are let go.
  const double travel = relative.norm() * h;
  if (travel < gap && (ca.struck > 0 || cb.struck > 0)) return false;
  if (gap < 0.01 * travel + 1e-4 || a.spin.norm() * h > 0.1 || b.spin.norm() * h > 0.1) return false;
  const double turning = a.spin.norm() * ca.extent + b.spin.norm() * cb.extent;
  const double fastest = relative.norm() + turning;
  const double hastened = turning * h + ca.hastening.wayIn(h) + cb.hastening.wayIn(h);
  const double thickness = ca.core.radius + ca.core.sagitta() + cb.core.radius + cb.core.sagitta();
  ConvexCore moved = cb.core;
  double time = 0;
  for (int i = 0; i < 60; ++i) {
    const ClosestPoints closest = closestPoints(ca.core, moved);
    // Turning and hastening are not followed but counted as nearness.
    const double distance = closest.distance - thickness - hastened;
    if (distance < 1e-3 * gap) return false;
    const double dt = distance / fastest;
    time += dt;
    if (time >= h) return true;
    for (Vec3& v : moved.vertices) v += relative * dt;
    moved.center += relative * dt;
  }
  return false;
}

void lookAtTouch(ContactPair& pair, const Meeting& meeting, double h) {
  Manifold& m = pair.manifold;
  const bool alone = m.points.size() == 1;
  if (m.leastGap() <= (alone ? 0 : pair.near)) return;
  // What is all but there may rest or roll: it has to strike.
  const double meets = h * partingSpeed(m, m.points[0].position, meeting.a, meeting.b);
  if (alone && m.points[0].gap < pair.near && meets > -10 * pair.near) return;
  constexpr int kRounds = 4;
  Ahead ahead(meeting);
  Manifold next = m;
  double time = 0;
  // The lowest point of a rim that wobbles may be another before the first one is down.
  if (meeting.rim > 0 && soonestTouch(m, meeting) > h) {
    ahead.lookAt(h, next);
    if (next.points.empty() || next.leastGap() >= 0) return;
    time = next.touchTime = h;
  }
  for (int i = 0; i < kRounds; ++i) {
    const double after = soonestTouch(next, meeting);
    // They pass each other, or have not yet met: where they are nearest says so best.
    if (time + after > h) break;
    constexpr double kThere = 1e-9;  // m
    if (std::abs(next.leastGap()) < kThere) break;
    time = std::max(0.0, time + after);
    ahead.lookAt(time, next);
    if (next.points.empty()) return;
    next.touchTime = time;
  }
  if (alone) next.points[0].id = m.points[0].id;
  takeForeseen(next, time, meeting, pair);
  if (m.points.size() > 1) pair.keepNames(meeting.a);
}

void lookForOthers(ContactPair& pair, const Meeting& meeting, double h) {
  constexpr double kBegins = 0.05;  // of how deep they would be
  constexpr int kHalvings = 8;
  Ahead ahead(meeting);
  Manifold then;
  const auto beyondKnown = [&](double time) {
    ahead.lookAt(time, then);
    return then.points.empty() ? 0 : leastGapAfter(pair.manifold, meeting, time) - then.leastGap();
  };
  const double most = beyondKnown(h);
  if (most < kUnseen) return;
  double before = 0, time = h;
  for (int i = 0; i < kHalvings; ++i) {
    const double middle = (before + time) / 2;
    (beyondKnown(middle) > kBegins * most ? time : before) = middle;
  }
  beyondKnown(time);
  then.touchTime = time;
  takeForeseen(then, time, meeting, pair);
  pair.keepNames(meeting.a);
}

void foreseeWandering(ContactPair& pair, const Meeting& meeting, double now, double h) {
  constexpr double kShortly = 0.05, kRuns = 0.1, kFurthest = 0.5;  // of the step; of the rim's radius
  if (pair.manifold.leastGap() > pair.near) return;
  const bool rim = meeting.rim > 0 && pair.manifold.roundA == 0 && pair.manifold.roundB == 0;
  const bool runs = rim && pair.roll.rate.norm() * h > kRuns * meeting.rim;
  if (!runs && !pair.wandersUnknown()) return;
  const double time = h * (rim ? 0.5 : kShortly);
  Manifold then;
  Ahead(meeting).lookAt(time, then);
  pair.foresee(then, meeting.a, poseAfter(meeting.a, time), now, time, rim ? kFurthest * meeting.rim : 0);
}

bool rollsOver(const Manifold& m, const Meeting& meeting, double h) {
  if (m.normalOn != Manifold::Owner::neither) return false;
  const double least = leastGapAfter(m, meeting, h);
  constexpr double kWorthwhile = 2e-6, kSunk = 1e-5;  // m
  if (least > -kWorthwhile) return false;
  // The looks below must not step over what is thin.
  if (-least > 2 * std::max(m.roundA, m.roundB)) return false;
  const Vec3 relative = meeting.b.velocity - meeting.a.velocity;
  const double across = (relative - m.normal.dot(relative) * m.normal).norm();
  if (h * across < -least) return false;
  Ahead ahead(meeting);
  Manifold then;
  for (const double share : {1.0, 0.5, 0.25, 0.75}) {
    ahead.lookAt(share * h, then);
    if (distanceAt(then) < std::max(-kSunk, least / 2)) return false;
  }
  return true;
}

double lastsFor(const Manifold& m, const Meeting& meeting, double h, double falling) {
  constexpr double kOff = 1e-9;  // m
  constexpr int kHalvings = 12;
  Ahead ahead(meeting);
  Manifold then;
  const double parting = partingSpeed(m, m.points[0].position, meeting.a, meeting.b), now = m.leastGap();
  const auto isOffBy = [&](double time) {
    ahead.lookAt(time, then);
    return std::min(distanceAt(then), meeting.margin) - now - time * std::max(0.0, parting);
  };
  const double offBy = isOffBy(h);
  if (offBy <= kOff) return h;
  double on = 0, off = h;
  for (int i = 0; i < kHalvings; ++i) {
    const double middle = (on + off) / 2;
    (isOffBy(middle) > kOff ? off : on) = middle;
  }
  return offBy > falling * (h - off) * (h - off) / 2 ? off : h;
}

}  // namespace calm
