// SPDX-License-Identifier: GPL-3.0-or-later
// Where an island's parts touch, substep by substep.
#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

#include "engine/solve/island.h"

namespace calm {

namespace {

// Faces that lie on each other keep their manifold while they move against each other by less than this, m or share of
// their size: their points go with them, exactly but for the edges that they slide along.
constexpr double kKeptSlide = 1e-3, kKeptShare = 0.01;

// More shapes than this that may touch each other are a crowd, whose impacts are too many to be taken one by one: the
// second where joints hold them and something bounces, whose energy would suffer.
constexpr std::size_t kCrowd = 6, kJointedCrowd = 24;

// How fast the two bodies part at a point of the manifold, along its normal, m/s.
double partingSpeed(const Manifold& m, const Vec3& at, const Body& a, const Body& b) {
  const Vec3 onA = at - a.position - m.touchTime * a.velocity, onB = at - b.position - m.touchTime * b.velocity;
  return m.normal.dot(b.velocityAt(onB) - a.velocityAt(onA));
}

// Whether two convex shapes whose bodies nothing holds pass each other within the step without touching, although the
// planes between them would be crossed: by conservative advancement along their present motion (Mirtich 1996).
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

// How far a collider reaches from its body's centre of mass.
double extentOf(const Collider& c, const Body& body) {
  double furthest = 0;
  for (const Vec3& v : c.core.vertices) furthest = std::max(furthest, (v - body.position).norm());
  return furthest + c.core.radius;
}

// Adds how far no point of it can have gone since it was last seen: sums of steps, for it may have turned back.
void goOn(Collider& c, const Body& body) {
  c.way += (body.position - c.seen.position).norm() + chordBetween(body.orientation, c.seen.rotation) * c.extent;
  c.seen = body.pose();
}

Pose poseAfter(const Body& body, double time) {
  return {body.position + time * body.velocity, (rotationFromVector(time * body.spin) * body.orientation).normalized()};
}

// What may touch, and up to which distance that matters.
struct Meeting {
  const Body &a, &b;
  const BodyShape &shapeA, &shapeB;
  int triangle;  // of shape B, where that is a mesh; else -1
  double margin;
  double rim;  // m, radius of a cylinder that is one of them
};

TriangleTouch triangleOf(const BodyShape& mesh, int triangle, const Pose& body) {
  return {std::get<TriangleMesh>(mesh.shape).data.get(), triangle, body * mesh.pose};
}

Meeting meetingOf(const Scene& scene, const ContactPair& pair, double margin) {
  const auto rim = [&](int shape) { return scene.colliders[shape].core.discRadius; };
  return {scene.bodies[pair.bodyA],
          scene.bodies[pair.bodyB],
          scene.shapes[pair.shapeA],
          scene.shapes[pair.shapeB],
          pair.triangle,
          margin,
          std::max(rim(pair.shapeA), rim(pair.shapeB))};
}

// The two as they will be if their bodies go on as they move now.
class Ahead {
 public:
  explicit Ahead(const Meeting& meeting) : meeting_(meeting) {}
  void lookAt(double time, Manifold& out) {
    const auto& [a, b, shapeA, shapeB, triangle, margin, rim] = meeting_;
    const Pose poseB = poseAfter(b, time);
    buildCollider(shapeA.shape, poseAfter(a, time) * shapeA.pose, colliderA_);
    if (triangle >= 0) return collideWithTriangle(colliderA_.core, triangleOf(shapeB, triangle, poseB), margin, out);
    buildCollider(shapeB.shape, poseB * shapeB.pose, colliderB_);
    collide(colliderA_, colliderB_, margin, out);
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

// Where things that will meet within the step touch depends on how they lie then: follows their present motion to that
// instant and takes normal and points of it. A gap becomes what the points have left to go at their present speeds
// along the new normal.
void lookAtTouch(ContactPair& pair, const Meeting& meeting, double h) {
  Manifold& m = pair.manifold;
  const bool alone = m.points.size() == 1;
  if (m.leastGap() <= (alone ? 0 : kNearTouch)) return;
  // What is all but there may rest or roll: it has to strike.
  const double meets = h * partingSpeed(m, m.points[0].position, meeting.a, meeting.b);
  if (alone && m.points[0].gap < kNearTouch && meets > -10 * kNearTouch) return;
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
  for (ManifoldPoint& p : next.points) p.gap -= time * partingSpeed(next, p.position, meeting.a, meeting.b);
  if (alone) next.points[0].id = m.points[0].id;
  m = next;
  if (m.points.size() > 1) pair.keepNames(meeting.a);
}

// Of what has just come to touch it cannot yet be seen how the touch wanders, but where it is going to be. So can that
// on a rim that wobbles, which runs round further in a step than that where it went would tell where it goes.
void foreseeWandering(ContactPair& pair, const Meeting& meeting, double h) {
  constexpr double kShortly = 0.05, kRuns = 0.1, kFurthest = 0.5;  // of the step; of the rim's radius
  if (pair.manifold.leastGap() > kNearTouch) return;
  const bool rim = meeting.rim > 0 && pair.manifold.roundA == 0 && pair.manifold.roundB == 0;
  const bool runs = rim && pair.roll.rate.norm() * h > kRuns * meeting.rim;
  if (!runs && !pair.wandersUnknown()) return;
  const double time = h * (rim ? 0.5 : kShortly);
  Manifold then;
  Ahead(meeting).lookAt(time, then);
  pair.foresee(then, meeting.a, poseAfter(meeting.a, time), time, rim ? kFurthest * meeting.rim : 0);
}

// Whether something round that seems to run against an edge goes over it instead, as from one block onto the next of
// the same height: nowhere on its way is it in the other.
bool rollsOver(const Manifold& m, const Meeting& meeting, double h) {
  if (m.normalOn != Manifold::Owner::neither) return false;
  double least = 0;
  for (const ManifoldPoint& p : m.points)
    least = std::min(least, p.gap + h * partingSpeed(m, p.position, meeting.a, meeting.b));
  constexpr double kWorthwhile = 2e-6;  // m
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
    if (then.leastGap() < std::max(-kNearTouch, least / 2)) return false;
  }
  return true;
}

// How long something round that moves on still touches what ends under it, s; `h` if it does to the step's end. To be
// off it has to be further away than it falls, at `falling` m/s^2, in what is left.
double lastsFor(const Manifold& m, const Meeting& meeting, double h, double falling) {
  constexpr double kOff = 1e-9;  // m
  constexpr int kHalvings = 12;
  Ahead ahead(meeting);
  Manifold then;
  const double parting = partingSpeed(m, m.points[0].position, meeting.a, meeting.b), now = m.leastGap();
  const auto isOffBy = [&](double time) {
    ahead.lookAt(time, then);
    return std::min(then.leastGap(), meeting.margin) - now - time * std::max(0.0, parting);
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

}  // namespace

void Island::gatherShapes(const Scene& scene) {
  // Fixed shapes are shared between islands and were made ready by the world.
  const auto moves = [&](int s) { return scene.bodies[scene.shapes[s].body].moves(); };
  const auto forEachMoving = [&](const auto& visit) {
    for (const ContactPair* pair : pairs) {
      if (moves(pair->shapeA)) visit(pair->shapeA);
      if (pair->triangle < 0 && moves(pair->shapeB)) visit(pair->shapeB);
    }
  };
  shapes_.clear();
  forEachMoving([&](int s) { scene.colliders[s].number = -1; });
  forEachMoving([&](int s) {
    Collider& c = scene.colliders[s];
    if (c.number >= 0) return;
    c.number = static_cast<int>(shapes_.size());
    shapes_.push_back(s);
    const Body& body = scene.bodies[scene.shapes[s].body];
    buildCollider(scene.shapes[s].shape, body.pose() * scene.shapes[s].pose, c);
    c.extent = extentOf(c, body);
    goOn(c, body);
  });
  // What is fixed has the last place; on meshes there is no need for one, since their triangles are always looked at.
  const int still = static_cast<int>(shapes_.size());
  ways_.assign(shapes_.size() + 1, {});
  for (std::size_t i = 0; i < shapes_.size(); ++i) ways_[i].start = scene.colliders[shapes_[i]].way;
  looks_.clear();
  for (ContactPair* pair : pairs) {
    const bool onMesh = pair->triangle >= 0;
    const Collider &a = scene.colliders[pair->shapeA], &b = scene.colliders[pair->shapeB];
    const int placeA = moves(pair->shapeA) ? a.number : still,
              placeB = !onMesh && moves(pair->shapeB) ? b.number : still;
    const double before = a.way + b.way;
    looks_.push_back({pair, placeA, placeB, before, pair->apartFor - before});
  }
  contacts_.takeOver(pairs);
  const bool bounces =
      std::any_of(pairs.begin(), pairs.end(), [](const ContactPair* pair) { return pair->restitution > 0; }) ||
      std::any_of(assemblies.begin(), assemblies.end(), [](const Assembly* a) { return a->sendsBack(); });
  crowd_ = shapes_.size() > (bounces && !assemblies.empty() ? kJointedCrowd : kCrowd);
}

void Island::findContacts(const Scene& scene, double h, double left, bool closing) {
  const Stopwatch watch(residual_.time.finding);
  for (std::size_t i = 0; i < shapes_.size(); ++i) {
    Collider& c = scene.colliders[shapes_[i]];
    const Body& body = scene.bodies[scene.shapes[shapes_[i]].body];
    c.ready = false;
    goOn(c, body);
    ways_[i].past = c.way - ways_[i].start;
    ways_[i].ahead =
        h * std::max(2 * (body.velocity.norm() + body.spin.norm() * c.extent), c.struck) + c.hastening.wayIn(h);
  }
  const auto ready = [&](int s) -> const Collider& {
    Collider& c = scene.colliders[s];
    const Body& body = scene.bodies[scene.shapes[s].body];
    if (!body.moves() || c.ready) return c;
    buildCollider(scene.shapes[s].shape, body.pose() * scene.shapes[s].pose, c);
    c.ready = true;
    return c;
  };
  const double leastMargin = 4 * scene.settings.gravity.norm() * h * h + 1e-5;
  const double whole = scene.settings.frame / scene.settings.substeps;
  added_.clear();
  contacts_.begin(scene.settings.gravity, whole, h, left, closing, crowd_);
  for (std::size_t i = 0; i < looks_.size(); ++i) {
    if (i + 6 < looks_.size()) looks_[i + 6].pair->prefetchSelf();
    if (i + 2 < looks_.size()) looks_[i + 2].pair->prefetchPoints();
    Look& look = looks_[i];
    const Way &wayA = ways_[look.a], &wayB = ways_[look.b];
    const double margin = wayA.ahead + wayB.ahead + leastMargin, past = wayA.past + wayB.past;
    // Most of what is near is nowhere near touching, and need not be looked at.
    if (past + margin < look.room) continue;
    ContactPair* pair = look.pair;
    const auto noteRoom = [&](double distance) {
      look.room = distance + past;
      pair->apartFor = look.before + look.room;
    };
    noteRoom(-past);
    const Body &a = scene.bodies[pair->bodyA], &b = scene.bodies[pair->bodyB];
    const bool onMesh = pair->triangle >= 0;
    const double reach = onMesh ? margin + 2 * h * b.velocity.norm() : margin;
    if (onMesh) {
      collideWithTriangle(ready(pair->shapeA).core, triangleOf(scene.shapes[pair->shapeB], pair->triangle, b.pose()),
                          reach, pair->manifold);
      pair->keepNames(a);
    } else if (pair->follow(a, b, margin)) {
      if (pair->kept.points.empty()) noteRoom(pair->kept.reach - pair->kept.movedSince(a, b));
    } else {
      const Collider &ca = ready(pair->shapeA), &cb = ready(pair->shapeB);
      const double slide = std::min(kKeptSlide, kKeptShare * std::max(ca.extent, cb.extent));
      collide(ca, cb, margin + slide, pair->manifold);
      pair->keepNames(a);
      // Empty: as far apart as the test has seen; else as far as the points may slide.
      const bool apart = pair->manifold.points.empty();
      const double room = apart ? pair->manifold.clearance : margin + slide;
      // Of a plane what counts is near the other shape.
      const double extent = cb.halfSpace ? (a.position - b.position).norm() + 2 * ca.extent : extentOf(cb, b);
      pair->keep(a, b, room, slide, extent);
      if (apart) noteRoom(room);
      pair->manifold.dropBeyond(margin);
    }
    if (!onMesh && (pair->fromTheStart || pair->interlaced))
      pair->passInterlaced(a, b, std::min(scene.colliders[pair->shapeA].extent, scene.colliders[pair->shapeB].extent));
    if (pair->manifold.points.empty()) continue;
    const bool waits = !closing && pair->manifold.leastGap() >= kNearTouch;
    // Joints bend the way to a touch: there it is only trusted for impacts that bounce, which act before the joints do.
    const bool jointed = a.jointed || b.jointed;
    if (waits && !jointed && !onMesh &&
        fliesPast(*pair, a, b, ready(pair->shapeA), ready(pair->shapeB), left, contacts_.crowd())) {
      pair->manifold.points.clear();
      continue;
    }
    const Meeting meeting = meetingOf(scene, *pair, reach);
    const bool struck = scene.colliders[pair->shapeA].struck > 0 || scene.colliders[pair->shapeB].struck > 0;
    // What a mesh's seams are it knows by itself.
    if (!closing && !struck && !onMesh && rollsOver(pair->manifold, meeting, left)) continue;
    const bool seen = pair->manifold.points.size() == 1 || (!contacts_.crowd() && !jointed);
    if (!closing && seen && (!jointed || pair->restitution > 0)) lookAtTouch(*pair, meeting, left);
    if (!closing && !contacts_.crowd()) foreseeWandering(*pair, meeting, left);
    contacts_.add(*pair, scene.bodies);
    added_.push_back({pair, margin});
  }
  if (!closing && !contacts_.crowd()) findEnds(scene, left);
  contacts_.arrange(scene.bodies);
  touched_ |= !contacts_.empty();
}

// What is round and rolls or slides off the end of what carries it, and meets nothing else there, is carried up to that
// instant.
void Island::findEnds(const Scene& scene, double left) {
  const auto rolls = [&](int shape) {
    const ConvexCore& core = scene.colliders[shape].core;
    return core.radius > 0 || core.discRadius > 0;
  };
  const auto fall = [&](const Body& b) {
    return b.dynamic() ? Vec3(b.gravityScale * scene.settings.gravity + b.inverseMass * b.force) : Vec3(Vec3::Zero());
  };
  for (std::size_t k = 0; k < added_.size(); ++k) {
    const auto& [pair, margin] = added_[k];
    const Manifold& m = pair->manifold;
    if (pair->triangle >= 0 || pair->last.empty() || m.points.size() > 2 || m.leastGap() > kNearTouch) continue;
    if (!rolls(pair->shapeA) && !rolls(pair->shapeB)) continue;
    if (scene.colliders[pair->shapeA].halfSpace || scene.colliders[pair->shapeB].halfSpace) continue;
    const Body &a = scene.bodies[pair->bodyA], &b = scene.bodies[pair->bodyB];
    const auto isOf = [&](const Body& body, int id, const Added& other) {
      return body.dynamic() && (id == other.pair->bodyA || id == other.pair->bodyB);
    };
    const auto touchesElse = [&](const Added& other) {
      return other.pair != pair && (isOf(a, pair->bodyA, other) || isOf(b, pair->bodyB, other));
    };
    if (a.jointed || b.jointed || std::any_of(added_.begin(), added_.end(), touchesElse)) continue;
    // What runs into it faster than that strikes it, and would be through.
    constexpr double kStrikes = 0.05;  // of the size of what moves
    const double extent = extentOf(scene.colliders[a.dynamic() ? pair->shapeA : pair->shapeB], a.dynamic() ? a : b);
    if (left * partingSpeed(m, m.points[0].position, a, b) < -kStrikes * extent) continue;
    const double falling = m.normal.dot(fall(a) - fall(b));
    const Meeting meeting = meetingOf(scene, *pair, margin);
    const double lasts = lastsFor(m, meeting, left, falling);
    if (lasts < left) contacts_.endTouch(static_cast<int>(k), lasts, falling);
  }
}

}  // namespace calm
