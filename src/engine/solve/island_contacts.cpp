// SPDX-License-Identifier: GPL-3.0-or-later
// Where an island's parts touch, substep by substep.
#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

#include "engine/solve/island.h"
#include "engine/solve/rotor.h"
#include "engine/solve/touch_ahead.h"

namespace calm {

namespace {

// Faces that lie on each other keep their manifold while they move against each other by less than this, m or share of
// their size: their points go with them, exactly but for the edges that they slide along.
constexpr double kKeptSlide = 1e-3, kKeptShare = 0.01;

// More shapes than this that may touch each other are a crowd, whose impacts are too many to be taken one by one: the
// second where joints hold them and something bounces, whose energy would suffer.
constexpr std::size_t kCrowd = 6, kJointedCrowd = 24;

// How far a collider reaches from its body's centre of mass.
double extentOf(const Collider& c, const Body& body) {
  double furthest = 0;
  for (const Vec3& v : c.core.vertices) furthest = std::max(furthest, (v - body.position).norm());
  return furthest + c.core.radius;
}

// Up to which distance two shapes touch, m. What stands still has no extent, and counts as large.
double nearTouchOf(const Collider& a, const Collider& b) {
  constexpr double kNear = 1e-5, kShare = 1e-3;  // m, and of the smaller one
  double near = kNear;
  for (const double extent : {a.extent, b.extent})
    if (extent > 0) near = std::min(near, kShare * extent);
  return near;
}

// Adds how far no point of it can have gone since it was last seen: sums of steps, for it may have turned back.
void goOn(Collider& c, const Body& body) {
  c.way += (body.position - c.seen.position).norm() + chordBetween(body.orientation, c.seen.rotation) * c.extent;
  c.seen = body.pose();
}

Meeting meetingOf(const Scene& scene, const ContactPair& pair, double margin) {
  const Collider &a = scene.colliders[pair.shapeA], &b = scene.colliders[pair.shapeB];
  const double rim = std::max(a.core.discRadius, b.core.discRadius);
  // Of what meets a plane all corners are seen, but of a rim only its lowest point.
  const auto hasEdges = [&](const Collider& c) { return c.halfSpace ? rim > 0 : c.core.vertices.size() > 1; };
  return {scene.bodies[pair.bodyA],
          scene.bodies[pair.bodyB],
          scene.shapes[pair.shapeA].shape,
          scene.shapes[pair.shapeA].pose,
          scene.shapes[pair.shapeB].shape,
          scene.shapes[pair.shapeB].pose,
          pair.triangle,
          margin,
          rim,
          hasEdges(a) && (pair.triangle >= 0 || hasEdges(b))};
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
  for (const BodyId id : bodies) scene.bodies[id].atJoints = scene.bodies[id].jointed;
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
    pair->near = nearTouchOf(a, b);
  }
  contacts_.takeOver(pairs);
  loose_.takeOver({});
  const bool bounces =
      std::any_of(pairs.begin(), pairs.end(), [](const ContactPair* pair) { return pair->restitution > 0; }) ||
      std::any_of(assemblies.begin(), assemblies.end(), [](const Assembly* a) { return a->sendsBack(); });
  const auto isLoose = [&](int s) { return !scene.bodies[scene.shapes[s].body].jointed; };
  const auto loose = static_cast<std::size_t>(std::count_if(shapes_.begin(), shapes_.end(), isLoose));
  contacts_.setCrowd(shapes_.size() > (bounces && !assemblies.empty() ? kJointedCrowd : kCrowd));
  loose_.setCrowd(loose > kCrowd);
}

// Where the shapes have come, and how far they may go in the step h.
void Island::followShapes(const Scene& scene, double h) {
  for (std::size_t i = 0; i < shapes_.size(); ++i) {
    Collider& c = scene.colliders[shapes_[i]];
    const Body& body = scene.bodies[scene.shapes[shapes_[i]].body];
    c.ready = false;
    goOn(c, body);
    ways_[i].past = c.way - ways_[i].start;
    ways_[i].ahead =
        h * std::max(2 * (body.velocity.norm() + body.spin.norm() * c.extent), c.struck) + c.hastening.wayIn(h);
  }
}

const Collider& Island::readied(const Scene& scene, int shape) const {
  Collider& c = scene.colliders[shape];
  const Body& body = scene.bodies[scene.shapes[shape].body];
  if (!body.moves() || c.ready) return c;
  buildCollider(scene.shapes[shape].shape, body.pose() * scene.shapes[shape].pose, c);
  c.ready = true;
  return c;
}

CALM_INLINE bool Island::meet(const Scene& scene, Look& look, const Meeting& meeting, double margin, double past) {
  ContactPair& pair = *look.pair;
  const auto noteRoom = [&](double distance) {
    look.room = distance + past;
    pair.apartFor = look.before + look.room;
  };
  noteRoom(-past);
  const Body &a = scene.bodies[pair.bodyA], &b = scene.bodies[pair.bodyB];
  if (pair.triangle >= 0) {
    collideWithTriangle(readied(scene, pair.shapeA).core, triangleOf(meeting, b.pose()), meeting.margin, pair.manifold);
    pair.keepNames(a);
    return false;
  }
  bool nearby = false;
  if (pair.follow(a, b, margin)) {
    if (pair.kept.points.empty()) noteRoom(pair.kept.reach - pair.kept.movedSince(a, b));
  } else {
    const Collider &ca = readied(scene, pair.shapeA), &cb = readied(scene, pair.shapeB);
    const double slide = std::min(kKeptSlide, kKeptShare * std::max(ca.extent, cb.extent));
    collide(ca, cb, margin + slide, pair.manifold);
    pair.keepNames(a);
    // Empty: as far apart as the test has seen; else as far as the points may slide.
    const bool apart = pair.manifold.points.empty();
    const double room = apart ? pair.manifold.clearance : margin + slide;
    // Of a plane what counts is near the other shape.
    const double extent = cb.halfSpace ? (a.position - b.position).norm() + 2 * ca.extent : extentOf(cb, b);
    pair.keep(a, b, room, slide, extent);
    if (apart) noteRoom(room);
    nearby = pair.manifold.clearance < margin;
    pair.manifold.dropBeyond(margin);
  }
  if (pair.fromTheStart || pair.interlaced)
    pair.passInterlaced(a, b, std::min(scene.colliders[pair.shapeA].extent, scene.colliders[pair.shapeB].extent));
  return nearby;
}

CALM_INLINE bool Island::takesPart(const Scene& scene, ContactPair& pair, const Meeting& meeting, Sight sight,
                                   double left, bool closing) {
  const bool onMesh = pair.triangle >= 0;
  const auto lookAround = [&] {
    if (sight.fast && !pair.interlaced && meeting.hasEdges) lookForOthers(pair, meeting, left);
  };
  // What is near may come round an edge of which there is no point yet.
  if (pair.manifold.points.empty() && sight.nearby) lookAround();
  if (pair.manifold.points.empty()) return false;
  const bool waits = !closing && pair.manifold.leastGap() >= pair.near;
  // Joints bend the way to a touch: there its instant is only trusted for impacts that bounce, which act before
  // the joints do.
  const Body &a = scene.bodies[pair.bodyA], &b = scene.bodies[pair.bodyB];
  const bool jointed = a.jointed || b.jointed;
  const bool crowd = (assemblies.empty() || a.atJoints || b.atJoints ? contacts_ : loose_).crowd();
  if (waits && !jointed && !onMesh &&
      fliesPast(pair, a, b, readied(scene, pair.shapeA), readied(scene, pair.shapeB), left, crowd)) {
    pair.manifold.points.clear();
    return false;
  }
  const bool struck = scene.colliders[pair.shapeA].struck > 0 || scene.colliders[pair.shapeB].struck > 0;
  if (!closing && !struck && !pair.pushed() && rollsOver(pair.manifold, meeting, left)) return false;
  const bool seen = pair.manifold.points.size() == 1 || (!crowd && !jointed);
  if (!closing && seen && (!jointed || pair.restitution > 0)) lookAtTouch(pair, meeting, left);
  if (pair.manifold.touchTime == 0) lookAround();
  if (!closing && !crowd) foreseeWandering(pair, meeting, clock_ - left, left);
  return true;
}

void Island::findContacts(const Scene& scene, double h, double left, bool closing) {
  const Stopwatch watch(residual_.time.finding);
  followShapes(scene, h);
  const double leastMargin = 4 * scene.settings.gravity.norm() * h * h + 1e-5;
  const double whole = scene.settings.frame / scene.settings.substeps;
  added_.clear();
  const ContactSolver::Span span{whole, h, left, closing ? clock_ : clock_ - left};
  for (ContactSolver* solver : {&contacts_, &loose_}) solver->begin(scene.settings.gravity, span, closing);
  for (std::size_t i = 0; i < looks_.size(); ++i) {
    if (i + 6 < looks_.size()) looks_[i + 6].pair->prefetchSelf();
    if (i + 2 < looks_.size()) looks_[i + 2].pair->prefetchPoints();
    Look& look = looks_[i];
    const Way &wayA = ways_[look.a], &wayB = ways_[look.b];
    const double margin = wayA.ahead + wayB.ahead + leastMargin, past = wayA.past + wayB.past;
    // Most of what is near is nowhere near touching, and need not be looked at.
    if (past + margin < look.room) continue;
    ContactPair& pair = *look.pair;
    const double toMesh = pair.triangle >= 0 ? 2 * h * scene.bodies[pair.bodyB].velocity.norm() : 0;
    const Meeting meeting = meetingOf(scene, pair, margin + toMesh);
    const bool nearby = meet(scene, look, meeting, margin, past);
    const bool fast = !closing && margin - leastMargin > 4 * kUnseen;
    if (!takesPart(scene, pair, meeting, {nearby, fast}, left, closing)) continue;
    added_.push_back({&pair, margin});
  }
  shareOut(scene);
  if (!closing) findEnds(scene, left);
  for (ContactSolver* solver : {&contacts_, &loose_}) solver->arrange(scene.bodies);
  touched_ |= !contacts_.empty() || !loose_.empty();
}

void Island::shareOut(const Scene& scene) {
  const auto draw = [&](BodyId id) {
    Body& b = scene.bodies[id];
    return b.dynamic() && !std::exchange(b.atJoints, true);
  };
  const auto isLoose = [&](const Added& one) {
    return !scene.bodies[one.pair->bodyA].atJoints && !scene.bodies[one.pair->bodyB].atJoints;
  };
  for (bool more = !assemblies.empty(); more;) {
    more = false;
    for (const Added& one : added_)
      if (asOne_ || !isLoose(one)) more |= draw(one.pair->bodyA), more |= draw(one.pair->bodyB);
  }
  for (Added& one : added_) one.solver = assemblies.empty() || !isLoose(one) ? &contacts_ : &loose_;
  divideFaces(scene);
  int held = 0, loose = 0;
  for (Added& one : added_) {
    one.patch = one.solver == &loose_ ? loose++ : held++;
    one.solver->add(*one.pair, scene.bodies, one.face, one.cells);
  }
}

// As by the last substep's forces. What slides is held along the normal alone.
void Island::holdTops(const Scene& scene, double h) {
  constexpr double kSticks = 0.99;  // of what friction can do
  for (const ContactPair* pair : pairs) {
    if (pair->last.size() != 1 || !(pair->last[0].force[0] > 0)) continue;
    const ContactImpulse& last = pair->last[0];
    for (const BodyId id : {pair->bodyA, pair->bodyB}) {
      Body& b = scene.bodies[id];
      if (!b.dynamic() || b.jointed || !isFastRotor(b, h)) continue;
      const Vec3 arm = scene.bodies[pair->bodyA].pose().apply(last.onA) - b.position;
      const bool sticks = last.force.tail<2>().norm() < kSticks * pair->friction * last.force[0];
      Eigen::Matrix3Xd directions = Mat3::Identity();
      if (!sticks) directions = pair->manifold.normal;
      b.held = heldAxisOf(b.inertia, mobilityOnPoint(b, arm, directions));
    }
  }
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
  const auto meetsAlike = [](const Added& one, const Added& other) {
    return one.pair->shapeA == other.pair->shapeA && one.pair->shapeB == other.pair->shapeB;
  };
  const auto isClose = [](const Added& one) {
    return one.pair->manifold.points.size() <= 2 && one.pair->manifold.leastGap() <= one.pair->near;
  };
  for (std::size_t k = 0; k < added_.size(); ++k) {
    const Added& first = added_[k];
    const ContactPair* pair = first.pair;
    const auto isSame = [&](const Added& other) { return meetsAlike(other, first); };
    const auto held = [&](const Added& other) { return isSame(other) && !other.pair->last.empty(); };
    if (first.solver->crowd() || std::any_of(added_.begin(), added_.begin() + k, isSame) ||
        std::none_of(added_.begin(), added_.end(), held))
      continue;
    if (!rolls(pair->shapeA) && !rolls(pair->shapeB)) continue;
    if (scene.colliders[pair->shapeA].halfSpace || scene.colliders[pair->shapeB].halfSpace) continue;
    const Body &a = scene.bodies[pair->bodyA], &b = scene.bodies[pair->bodyB];
    const auto isOf = [&](const Body& body, int id, const Added& other) {
      return body.dynamic() && (id == other.pair->bodyA || id == other.pair->bodyB);
    };
    // The triangles at an edge of a mesh are touched together.
    const auto touchesElse = [&](const Added& other) {
      return (!isSame(other) || !isClose(other)) && (isOf(a, pair->bodyA, other) || isOf(b, pair->bodyB, other));
    };
    if (a.jointed || b.jointed || std::any_of(added_.begin(), added_.end(), touchesElse)) continue;
    // What runs into it faster than that strikes it, and would be through.
    constexpr double kStrikes = 0.05;  // of the size of what moves
    const double extent = extentOf(scene.colliders[a.dynamic() ? pair->shapeA : pair->shapeB], a.dynamic() ? a : b);
    const Manifold& m = pair->manifold;
    if (left * partingSpeed(m, m.points[0].position, a, b) < -kStrikes * extent) continue;
    const double falling = m.normal.dot(fall(a) - fall(b));
    const auto lasts = [&](const Added& one) {
      return lastsFor(one.pair->manifold, meetingOf(scene, *one.pair, one.margin), left, falling);
    };
    const auto stays = [&](const Added& other) { return isSame(other) && lasts(other) >= left; };
    if (std::any_of(added_.begin(), added_.end(), stays)) continue;
    for (const Added& one : added_)
      if (isSame(one)) one.solver->endTouch(one.patch, lasts(one), falling);
  }
}

}  // namespace calm
