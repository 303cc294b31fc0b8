// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/island.h"

#include <algorithm>
#include <cmath>

#include "engine/solve/geometric_stiffness.h"

namespace calm {

namespace {

// Newton corrections stop below these errors (m, rad), at round-off for parts of ordinary size ...
constexpr RowErrors kConverged{1e-10, 1e-9};
// ... and a substep counts as solved below these.
constexpr RowErrors kAcceptable{1e-7, 1e-6};
// Where something touches, more is let pass: contacts take more energy than such errors could bring.
constexpr RowErrors kAcceptableInTouch{1e-6, 1e-5};
constexpr int kCorrections = 10;
// More corrections than this are a sign of motion too fast for the substep, whose energy then has to be watched.
constexpr int kEasyCorrections = 3;
// A correction must shrink the errors at least this much to be worth another.
constexpr double kContraction = 0.6;

// Contacts and joints alternate until a sweep changes no contact velocity by more than this, m/s, or than this fraction
// of what the first one changed.
constexpr double kContactTolerance = 1e-5;
constexpr double kContactReduction = 1e-5;
// Piles would take every round for their last digits, which the next substep goes on with anyhow: what is left is a
// seventieth of the speed that gravity adds in a substep.
constexpr int kManyContacts = 1500;
constexpr double kContactToleranceOfMany = 3e-4;
constexpr int kContactRounds = 60;
constexpr int kContactRoundsWithJoints = 40;
// With joints and no more points than this, contacts are solved with the joints' own answer known; sweeps are cheap
// then, and go on until the stops stay on their sides.
constexpr int kCoupledContacts = 80;
constexpr int kCoupledSweeps = 200, kCoupledRounds = 8;

// Changes of side of stops and drives within one solution.
constexpr int kRevisions = 20, kRevisionsInAll = 60;

bool within(const RowErrors& e, const RowErrors& limit) {
  return e.linear <= limit.linear && e.angular <= limit.angular;
}

// Whether two convex shapes whose bodies nothing holds pass each other within the step without touching, although the
// planes between them would be crossed: by conservative advancement along their present motion (Mirtich 1996).
bool fliesPast(const ContactPair& pair, const Body& a, const Body& b, const Collider& ca, const Collider& cb,
               double h) {
  if (pair.triangle >= 0 || ca.halfSpace || cb.halfSpace || pair.manifold.points.empty()) return false;
  double gap = 1e300;
  for (const ManifoldPoint& p : pair.manifold.points) gap = std::min(gap, p.gap);
  const Vec3 relative = b.velocity - a.velocity;
  // What is near compared to how far it moves may be pushed in by others; only true passers-by are let go.
  const double travel = relative.norm() * h;
  if (gap < 0.05 * travel + 1e-4 || a.spin.norm() * h > 0.1 || b.spin.norm() * h > 0.1) return false;
  const auto sizeOf = [](const Collider& c, const Vec3& center) {
    double size = 0;
    for (const Vec3& v : c.core.vertices) size = std::max(size, (v - center).norm());
    return size + c.core.radius;
  };
  const double turning = a.spin.norm() * sizeOf(ca, a.position) + b.spin.norm() * sizeOf(cb, b.position);
  const double fastest = relative.norm() + turning;
  ConvexCore moved = cb.core;
  double time = 0;
  for (int i = 0; i < 30; ++i) {
    const ClosestPoints closest = closestPoints(ca.core, moved);
    // Turning is not followed but counted as nearness.
    const double distance = closest.distance - ca.core.radius - cb.core.radius - turning * h;
    if (distance < 0.01 * gap) return false;
    const double dt = distance / fastest;
    time += dt;
    if (time >= h) return true;
    for (Vec3& v : moved.vertices) v += relative * dt;
    moved.center += relative * dt;
  }
  return false;
}

// Damping acts half on the velocity before a kick and half on the one after it, so that what is held at rest weighs
// what it should and what falls freely slows by exactly exp(-damping h): v1 = ((1 - x) v0 + h a) / (1 + x), the
// impulses of joints and contacts included, with x = tanh(damping h / 2). The opening half kick has the first half of
// it.
double braking(double damping, double h) {
  return damping > 0 ? std::tanh(damping * h / 2) : 0;
}

}  // namespace

void WorkTime::include(const WorkTime& other) {
  finding += other.finding;
  contacts += other.contacts;
  joints += other.joints;
  rest += other.rest;
}

void Residual::include(const Residual& other) {
  time.include(other.time);
  linear = std::max(linear, other.linear);
  angular = std::max(angular, other.angular);
  contactSpeed = std::max(contactSpeed, other.contactSpeed);
  corrections += other.corrections;
  fallbacks += other.fallbacks;
  redone += other.redone;
  substeps = std::max(substeps, other.substeps);
  overBudget |= other.overBudget;
}

Residual Island::advance(const Scene& scene, bool fresh) {
  const int substeps = scene.settings.substeps;
  const double h = scene.settings.frame / substeps;
  const auto started = Stopwatch::Clock::now();
  residual_ = {};
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointReading& r = scene.joints[assembly->jointOf(n)].reading;
      r.force = r.torque = Vec3::Zero();
      r.separationPeak = r.misalignmentPeak = 0;
      r.effort.fill(0);
      scene.joints[assembly->jointOf(n)].errors.clear();
    }
  for (ContactPair* pair : pairs) pair->frameImpulse = pair->frameMoment = Vec3::Zero();
  evaluate(scene);
  if (fresh) {
    for (Assembly* assembly : assemblies) assembly->forgiveMisfit();
    prime(scene);
  }
  strained_ = touched_ = safe_ = parted_ = false;
  noteStart(scene);
  for (Assembly* assembly : assemblies) assembly->takeDriveWork();
  const double energyBefore = energy(scene);
  for (int s = 0; s < substeps; ++s) {
    clock_ = scene.time + (s + 1) * h;
    for (Assembly* assembly : assemblies) assembly->wind(h);
    if (!trySubstep(scene, h)) fallbackSubstep(scene, h);
  }
  if (!onStep_) close(scene, h);
  if (!isSound(scene, energyBefore)) redoSafely(scene);
  finishReadings(scene);
  readPresentLoads(scene, h);
  WorkTime& spent = residual_.time;
  spent.rest = std::max(0.0, Stopwatch::since(started) - spent.total());
  return residual_;
}

RowErrors Island::evaluate(const Scene& scene) {
  RowErrors worst;
  for (Assembly* assembly : assemblies) {
    const RowErrors e = assembly->evaluate(scene.bodies);
    if (!(e.linear <= worst.linear)) worst.linear = e.linear;
    if (!(e.angular <= worst.angular)) worst.angular = e.angular;
  }
  return worst;
}

RowErrors Island::evaluateWithStops(const Scene& scene, double h) {
  const RowErrors errors = evaluate(scene);
  bool caught = false;
  for (Assembly* assembly : assemblies) caught |= assembly->catchOvershoot(h);
  return caught ? evaluate(scene) : errors;
}

void Island::factor(const Scene& scene, double h, double stiffnessShare, Kick kick) {
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    b.linearResponse = b.inverseMass;
    if (!b.dynamic()) continue;
    updateResponse(b, h, stiffnessShare);
    b.linearBraking = braking(b.linearDamping, h);
    b.angularBraking = braking(b.angularDamping, h);
    if (kick == Kick::opening) continue;
    b.linearResponse /= 1 + b.linearBraking;
    b.response /= 1 + b.angularBraking;
  }
  const Stopwatch watch(residual_.time.joints);
  for (Assembly* assembly : assemblies) {
    assembly->adopt();
    assembly->factor(scene.bodies, h);
  }
}

// The joint forces decide the geometric stiffness, which decides the forces: settle both before the first step.
void Island::prime(const Scene& scene) {
  const double h = scene.settings.frame / scene.settings.substeps;
  for (int pass = 0; pass < 3; ++pass) {
    for (BodyId id : bodies) scene.bodies[id].setMark();
    factor(scene, h, kStiffnessShare, Kick::full);
    kick(scene, h, Kick::full);
    for (Assembly* assembly : assemblies) {
      assembly->forgetCurvature();
      assembly->aimAtVelocity(h, 0);
      assembly->relax(scene.bodies);
    }
    refreshStiffness(scene, h);
    for (BodyId id : bodies) scene.bodies[id].returnToMark();
    evaluate(scene);
  }
}

void Island::kick(const Scene& scene, double h, Kick kick) {
  const double time = kick == Kick::full ? h : h / 2;
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    if (!b.dynamic()) continue;
    const double linear = b.linearBraking, angular = b.angularBraking;
    if (kick != Kick::closing) b.velocity *= 1 - linear, b.spin *= 1 - angular;
    b.velocity += time * (b.gravityScale * scene.settings.gravity + b.inverseMass * b.force);
    b.spin += time * (b.axes * b.inertia.inverse().cwiseProduct(b.axes.transpose() * b.torque));
    if (!scene.fields.empty() || !scene.pushes.empty()) kickBy(scene.fields, scene.pushes, id, b, clock_ - 1e-9, time);
    if (kick != Kick::opening) b.velocity /= 1 + linear, b.spin /= 1 + angular;
  }
}

void Island::findContacts(const Scene& scene, double h, bool closing) {
  const Stopwatch watch(residual_.time.finding);
  std::vector<int> used;
  for (const ContactPair* pair : pairs) {
    used.push_back(pair->shapeA);
    if (pair->triangle < 0) used.push_back(pair->shapeB);
  }
  std::sort(used.begin(), used.end());
  used.erase(std::unique(used.begin(), used.end()), used.end());
  for (int s : used) {
    const BodyShape& shape = scene.shapes[s];
    // Fixed shapes are shared between islands and were made ready by the world.
    if (scene.bodies[shape.body].moves())
      buildCollider(shape.shape, scene.bodies[shape.body].pose() * shape.pose, scene.colliders[s]);
  }
  for (ContactPair* pair : pairs) {
    const Body &a = scene.bodies[pair->bodyA], &b = scene.bodies[pair->bodyB];
    const double gravityReach = scene.settings.gravity.norm() * h * h;
    const Collider &ca = scene.colliders[pair->shapeA], &cb = scene.colliders[pair->shapeB];
    const auto reach = [&](const Body& body, const Collider& c) {
      if (!body.moves() || c.core.vertices.empty()) return body.velocity.norm();
      double extent = 0;
      for (const Vec3& v : c.core.vertices) extent = std::max(extent, (v - body.position).norm());
      return body.velocity.norm() + body.spin.norm() * (extent + c.core.radius);
    };
    const double margin = 2 * h * (reach(a, ca) + reach(b, cb)) + 4 * gravityReach + 1e-5;
    if (pair->triangle < 0) {
      collide(ca, cb, margin, pair->manifold);
    } else {
      const BodyShape& mesh = scene.shapes[pair->shapeB];
      collideWithTriangle(ca.core,
                          {std::get<TriangleMesh>(mesh.shape).data.get(), pair->triangle, b.pose() * mesh.pose}, margin,
                          pair->manifold);
    }
    if (!closing && !a.jointed && !b.jointed && fliesPast(*pair, a, b, ca, cb, h)) pair->manifold.points.clear();
  }
  contacts_.build(pairs, scene.bodies, h, closing);
  touched_ |= !contacts_.empty();
}

void Island::steer(const Scene& scene, double h) {
  for (BodyId id : bodies)
    if (!scene.bodies[id].dynamic()) scene.bodies[id].steerTo(clock_, h);
}

void Island::steerAtClock(const Scene& scene) {
  for (BodyId id : bodies)
    if (!scene.bodies[id].dynamic()) scene.bodies[id].steerAt(clock_);
}

bool Island::wouldBounce(const Scene& scene, double h) const {
  const auto wouldStrikeStops = [&](const Assembly* a) { return a->wouldStrikeStops(scene.bodies, h); };
  return contacts_.wouldBounce(scene.bodies, h) || std::any_of(assemblies.begin(), assemblies.end(), wouldStrikeStops);
}

void Island::bounce(const Scene& scene, double h) {
  if (!wouldBounce(scene, h)) return;
  for (Assembly* assembly : assemblies) {
    for (BodyId id : bodies) scene.bodies[id].setMark();
    const double before = kineticEnergy(scene);
    if (!assembly->reflectAtStops(scene.bodies, h)) continue;
    // An impact in the stiffened inertia may gain a little in the true one; what gains does not bounce.
    if (kineticEnergy(scene) <= before * (1 + 1e-9))
      read(scene, false);
    else
      for (BodyId id : bodies) scene.bodies[id].returnToMark();
  }
  for (Assembly* assembly : assemblies) assembly->aimAtVelocity(h, 0);
  const bool bounced = contacts_.bounce(scene.bodies, h, scene.settings.gravity, [&] {
    for (Assembly* assembly : assemblies) assembly->relax(scene.bodies);
  });
  if (bounced) read(scene, false);
}

void Island::drift(const Scene& scene, double h) {
  for (BodyId id : bodies) scene.bodies[id].drift(h);
}

// Stops and drives change sides until all are in their right state; the last sides are the first guess of the next
// substep, so that mostly one solution does.
bool Island::solveJoints(const Scene& scene, double h, double time) {
  const Stopwatch watch(residual_.time.joints);
  bool changed = false;
  for (Assembly* assembly : assemblies) {
    assembly->relax(scene.bodies);
    for (int i = 0; i < kRevisions && revisionsLeft_ > 0 && assembly->revise(scene.bodies, h, time); ++i) {
      assembly->relax(scene.bodies);
      changed = true;
      --revisionsLeft_;
    }
  }
  return changed;
}

void Island::solveVelocities(const Scene& scene, double h, double time) {
  const auto started = Stopwatch::Clock::now();
  const double jointsBefore = residual_.time.joints;
  revisionsLeft_ = kRevisionsInAll;
  const bool coupled = !assemblies.empty() && !contacts_.empty() && contacts_.size() <= kCoupledContacts;
  if (coupled) contacts_.couple(scene.bodies, assemblies);
  for (Assembly* assembly : assemblies) assembly->pushAtCaps(scene.bodies, time);
  contacts_.warmStart(scene.bodies, time);
  bool changed = solveJoints(scene, h, time);
  double change = 0;
  if (coupled) {
    for (int round = 0; round < kCoupledRounds; ++round) {
      if (changed) contacts_.couple(scene.bodies, assemblies);
      change = contacts_.relaxCoupled(scene.bodies, kCoupledSweeps, kContactTolerance, kContactReduction);
      changed = solveJoints(scene, h, time);
      if (!changed) break;
    }
  } else if (!contacts_.empty()) {
    const int rounds = assemblies.empty() ? kContactRounds : kContactRoundsWithJoints;
    double enough = contacts_.size() > kManyContacts ? kContactToleranceOfMany : kContactTolerance;
    for (int round = 0; round < rounds; ++round) {
      change = contacts_.sweep(scene.bodies);
      solveJoints(scene, h, time);
      if (change < enough) break;
      if (round == 0) enough = std::max(enough, kContactReduction * change);
    }
  }
  residual_.contactSpeed = std::max(residual_.contactSpeed, change);
  contacts_.store(pairs, scene.bodies, time);
  residual_.time.contacts += Stopwatch::since(started) - (residual_.time.joints - jointsBefore);
}

void Island::refreshStiffness(const Scene& scene, double time) {
  for (BodyId id : bodies) {
    scene.bodies[id].stiffness.setZero();
    scene.bodies[id].stiffened = false;
  }
  for (Assembly* assembly : assemblies) assembly->addStiffness(scene.bodies, time);
}

bool Island::trySubstep(const Scene& scene, double h) {
  std::vector<Body>& b = scene.bodies;
  if (std::any_of(assemblies.begin(), assemblies.end(), [](const Assembly* a) { return a->fallback() > 0; }))
    return false;
  for (Assembly* assembly : assemblies) assembly->fadeOffset(h);
  steer(scene, h);
  factor(scene, h, kStiffnessShare, onStep_ ? Kick::opening : Kick::full);
  findContacts(scene, h, false);
  if (!onStep_ && wouldBounce(scene, h)) {
    // Impacts belong to velocities of the instant.
    evaluate(scene);
    clock_ -= h;
    close(scene, h);
    clock_ += h;
    steer(scene, h);
    factor(scene, h, kStiffnessShare, Kick::opening);
    findContacts(scene, h, false);
  }
  const double share = onStep_ ? 0.5 : 1;
  bounce(scene, h);
  for (BodyId id : bodies) b[id].setMark();
  for (Assembly* assembly : assemblies) assembly->noteRates(b, onStep_);
  kick(scene, h, onStep_ ? Kick::opening : Kick::full);
  for (Assembly* assembly : assemblies) assembly->aimAtPosition(h, share);
  solveVelocities(scene, h, h * share);
  drift(scene, h);
  RowErrors errors;
  {
    const Stopwatch watch(residual_.time.joints);
    errors = evaluateWithStops(scene, h);
  }
  for (int i = 0; i < kCorrections && !within(errors, kConverged); ++i) {
    const Stopwatch watch(residual_.time.joints);
    for (BodyId id : bodies) b[id].undrift();
    for (Assembly* assembly : assemblies) assembly->correct(b, h, share);
    drift(scene, h);
    const RowErrors before = errors;
    errors = evaluateWithStops(scene, h);
    ++residual_.corrections;
    strained_ |= i >= kEasyCorrections;
    const bool better = errors.linear < kContraction * before.linear || errors.angular < kContraction * before.angular;
    if (!better) break;
  }
  if (!within(errors, contacts_.empty() ? kAcceptable : kAcceptableInTouch)) {
    for (BodyId id : bodies) b[id].returnToMark();
    evaluate(scene);
    for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
    return false;
  }
  const Stopwatch watch(residual_.time.joints);
  for (Assembly* assembly : assemblies) assembly->accept(b, h, h * share);
  refreshStiffness(scene, h * share);
  noteErrors(scene);
  readWork(scene, Assembly::WorkOf::substep);
  read(scene, !onStep_);
  onStep_ = false;
  return true;
}

void Island::close(const Scene& scene, double h) {
  steerAtClock(scene);
  factor(scene, h, kStiffnessShare, Kick::closing);
  findContacts(scene, h, true);
  for (Assembly* assembly : assemblies) assembly->noteRates(scene.bodies, false);
  kick(scene, h, Kick::closing);
  for (Assembly* assembly : assemblies) assembly->aimAtRest(h);
  solveVelocities(scene, h, h / 2);
  readWork(scene, Assembly::WorkOf::closing);
  for (Assembly* assembly : assemblies) assembly->noteRatesAtRest(scene.bodies);
  evaluate(scene);
  read(scene, true);
  onStep_ = true;
}

}  // namespace calm
