// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/island.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/solve/geometric_stiffness.h"

namespace calm {

namespace {

// Newton corrections stop below these errors (m, rad), at round-off for parts of ordinary size ...
constexpr RowErrors kConverged{1e-10, 1e-9};
// ... and a substep counts as solved below these.
constexpr RowErrors kAcceptable{1e-7, 1e-6};
constexpr int kCorrections = 10;
// More corrections than this are a sign of motion too fast for the substep, whose energy then has to be watched.
constexpr int kEasyCorrections = 3;
// A correction must shrink the errors at least this much to be worth another.
constexpr double kContraction = 0.6;

// A substep that cannot be solved (a whip's crack, a snap) is redone in so many steps at velocity level, each of which
// removes this fraction of the errors; and so are the next ones, since the trouble lasts. Smaller conservative steps
// would be more accurate for a moment and pump energy into what they cannot resolve.
constexpr int kFallbackSteps = 4;
constexpr double kFallbackRate = 0.2;
constexpr int kFallbackStay = 30;
// Kinetic energy that closing separations may cost beyond what was lost before, as a fraction of the whole.
constexpr double kOverdraft = 0.002;
// What separation is left then, and what a rig was put together with, is closed in this time (s, to 1/e).
constexpr double kOffsetFade = 0.1;

// Contacts and joints alternate until a sweep changes no contact velocity by more than this, m/s.
constexpr double kContactTolerance = 1e-5;
constexpr int kContactRounds = 60;
constexpr int kContactRoundsWithJoints = 40;

// Changes of side of stops and drives within one solution.
constexpr int kRevisions = 20, kRevisionsInAll = 60;

// A frame with stops, drives or springs that was hard to solve may gain this share of its energy before it is done
// again; others (springs too fast for their energy to be seen exactly; plain joints, whose gains are a debt) that one.
// And what touches may be pushed out of others at this speed, m/s.
constexpr double kUnbelievable = 0.002;
constexpr double kRunaway = 0.5;
constexpr double kPushAllowance = 1;
constexpr double kPlay = 1e-6;  // m, by which weights may seem to rise

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

}  // namespace

void Residual::include(const Residual& other) {
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
  residual_ = {};
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointReading& r = scene.joints[assembly->jointOf(n)].reading;
      r.force = r.torque = Vec3::Zero();
      r.separationPeak = r.misalignmentPeak = 0;
      r.effort.fill(0);
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
  return residual_;
}

void Island::noteStart(const Scene& scene) {
  start_.clear();
  for (BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    start_.push_back({b.position, b.velocity, b.spin, b.orientation});
  }
  startWork_.clear();
  for (const Assembly* assembly : assemblies)
    for (int n = 0; assembly->hasAxes() && n < assembly->nodes(); ++n)
      startWork_.push_back(scene.joints[assembly->jointOf(n)].reading.work);
}

// Whether a frame ended with finite numbers and with no more energy than it began with and was given. A little too much
// after hard work is a debt, to be paid back in substeps at velocity level; much too much is not believed.
bool Island::isSound(const Scene& scene, double energyBefore) {
  evaluate(scene);
  const double after = energy(scene);
  if (!std::isfinite(after)) return false;
  if (isDriven(scene) || assemblies.empty()) return true;
  double given = 0, scale = 0, pushed = 0, slack = 0;
  for (Assembly* assembly : assemblies) given += assembly->takeDriveWork();
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    const Body& b = scene.bodies[bodies[i]];
    const Vec3 weight = b.mass * b.gravityScale * scene.settings.gravity + b.force;
    scale += b.kineticEnergy() + std::abs(weight.dot(b.position - start_[i].position));
    slack += weight.norm() * kPlay;
    // A joint that parts between two half kicks leaves one of them without its counterpart.
    if (parted_) slack += b.inverseMass * (weight * scene.settings.frame / scene.settings.substeps).squaredNorm();
    pushed += 0.5 * b.mass * kPushAllowance * kPushAllowance;
  }
  const double gain = after - energyBefore - given - (touched_ ? pushed : 0);
  if (strained_ && !touched_ && !hasAxes()) chargeBudget(scene, gain);
  for (const Assembly* assembly : assemblies) scale += assembly->storedEnergy();
  const bool hard = hasAxes() && (strained_ || residual_.fallbacks > 0);
  return gain <= (hard ? kUnbelievable : kRunaway) * (scale + given) + slack + 1e-9 * std::abs(energyBefore);
}

void Island::redoSafely(const Scene& scene) {
  const int substeps = scene.settings.substeps;
  const double h = scene.settings.frame / substeps;
  ++residual_.redone;
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    Body& b = scene.bodies[bodies[i]];
    b.position = start_[i].position, b.velocity = start_[i].velocity, b.spin = start_[i].spin;
    b.orientation = start_[i].orientation;
    b.axes = b.orientation.toRotationMatrix();
    b.momentumSpin.setConstant(std::numeric_limits<double>::quiet_NaN());  // to be taken anew
  }
  std::size_t k = 0;
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointState& joint = scene.joints[assembly->jointOf(n)];
      assembly->reset(joint.windings, joint.def.axes, n);
      joint.reading.force = joint.reading.torque = Vec3::Zero();
      joint.reading.effort.fill(0);
      joint.reading.separationPeak = joint.reading.misalignmentPeak = 0;
      if (assembly->hasAxes()) joint.reading.work = startWork_[k++];
    }
  for (Assembly* assembly : assemblies) assembly->forget();
  for (ContactPair* pair : pairs) pair->last.clear(), pair->frameImpulse = pair->frameMoment = Vec3::Zero();
  residual_.linear = residual_.angular = residual_.contactSpeed = 0;
  evaluate(scene);
  for (Assembly* assembly : assemblies) assembly->forgiveMisfit();
  refreshStiffness(scene, h);
  safeEnergy_ = energy(scene);
  onStep_ = safe_ = true;
  for (int s = 0; s < substeps; ++s) {
    clock_ = scene.time + (s + 1) * h;
    for (Assembly* assembly : assemblies) assembly->wind(h);
    fallbackSubstep(scene, h);
  }
  for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
  // What even projections cannot compute stays where it was, at rest.
  if (std::isfinite(energy(scene))) return;
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    Body& b = scene.bodies[bodies[i]];
    b.position = start_[i].position, b.orientation = start_[i].orientation;
    b.axes = b.orientation.toRotationMatrix();
    b.velocity = b.spin = Vec3::Zero();
  }
  for (Assembly* assembly : assemblies) assembly->forget();
  for (ContactPair* pair : pairs) pair->last.clear(), pair->frameImpulse = pair->frameMoment = Vec3::Zero();
  evaluate(scene);
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

void Island::factor(const Scene& scene, double h, double stiffnessShare) {
  for (BodyId id : bodies)
    if (scene.bodies[id].dynamic()) updateResponse(scene.bodies[id], h, stiffnessShare);
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
    factor(scene, h, kStiffnessShare);
    kick(scene, h);
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

void Island::kick(const Scene& scene, double time) {
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    if (!b.dynamic()) continue;
    b.velocity += time * (b.gravityScale * scene.settings.gravity + b.inverseMass * b.force);
    b.spin += time * (b.axes * b.inertia.inverse().cwiseProduct(b.axes.transpose() * b.torque));
    if (!scene.fields.empty() || !scene.pushes.empty()) kickBy(scene.fields, scene.pushes, id, b, clock_ - 1e-9, time);
    if (b.linearDamping > 0) b.velocity *= std::exp(-b.linearDamping * time);
    if (b.angularDamping > 0) b.spin *= std::exp(-b.angularDamping * time);
  }
}

void Island::findContacts(const Scene& scene, double h, bool closing) {
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

void Island::bounce(const Scene& scene, double h) {
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
void Island::solveJoints(const Scene& scene, double h, double time) {
  for (Assembly* assembly : assemblies) {
    assembly->relax(scene.bodies);
    for (int i = 0; i < kRevisions && revisionsLeft_ > 0 && assembly->revise(scene.bodies, h, time); ++i) {
      assembly->relax(scene.bodies);
      --revisionsLeft_;
    }
  }
}

void Island::solveVelocities(const Scene& scene, double h, double time) {
  revisionsLeft_ = kRevisionsInAll;
  for (Assembly* assembly : assemblies) assembly->pushAtCaps(scene.bodies, time);
  contacts_.warmStart(scene.bodies, time);
  solveJoints(scene, h, time);
  if (!contacts_.empty()) {
    const int rounds = assemblies.empty() ? kContactRounds : kContactRoundsWithJoints;
    double change = 0;
    for (int round = 0; round < rounds; ++round) {
      change = contacts_.sweep(scene.bodies);
      solveJoints(scene, h, time);
      if (change < kContactTolerance) break;
    }
    residual_.contactSpeed = std::max(residual_.contactSpeed, change);
  }
  contacts_.store(pairs, scene.bodies, time);
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
  for (Assembly* assembly : assemblies) assembly->fadeOffset(std::exp(-h / kOffsetFade));
  steer(scene, h);
  factor(scene, h, kStiffnessShare);
  findContacts(scene, h, false);
  const auto wouldStrikeStops = [&](const Assembly* a) { return a->wouldStrikeStops(b, h); };
  if (!onStep_ &&
      (contacts_.wouldBounce(b, h) || std::any_of(assemblies.begin(), assemblies.end(), wouldStrikeStops))) {
    // Impacts belong to velocities of the instant.
    evaluate(scene);
    clock_ -= h;
    close(scene, h);
    clock_ += h;
    steer(scene, h);
    factor(scene, h, kStiffnessShare);
    findContacts(scene, h, false);
  }
  const double share = onStep_ ? 0.5 : 1;
  bounce(scene, h);
  for (BodyId id : bodies) b[id].setMark();
  for (Assembly* assembly : assemblies) assembly->noteRates(b, onStep_);
  kick(scene, h * share);
  for (Assembly* assembly : assemblies) assembly->aimAtPosition(h, share);
  solveVelocities(scene, h, h * share);
  drift(scene, h);
  RowErrors errors = evaluate(scene);
  for (int i = 0; i < kCorrections && !within(errors, kConverged); ++i) {
    for (BodyId id : bodies) b[id].undrift();
    for (Assembly* assembly : assemblies) assembly->correct(b, h, share);
    drift(scene, h);
    const RowErrors before = errors;
    errors = evaluate(scene);
    ++residual_.corrections;
    strained_ |= i >= kEasyCorrections;
    const bool better = errors.linear < kContraction * before.linear || errors.angular < kContraction * before.angular;
    if (!better) break;
  }
  if (!within(errors, kAcceptable)) {
    for (BodyId id : bodies) b[id].returnToMark();
    evaluate(scene);
    for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
    return false;
  }
  for (Assembly* assembly : assemblies) assembly->accept(b, h, h * share);
  refreshStiffness(scene, h * share);
  noteErrors(scene);
  readWork(scene);
  read(scene, !onStep_);
  onStep_ = false;
  return true;
}

void Island::fallbackSubstep(const Scene& scene, double h) {
  // The steps start from velocities that belong to the poses.
  clock_ -= h;
  if (!onStep_) close(scene, h);
  const double step = h / kFallbackSteps;
  for (int i = 0; i < kFallbackSteps; ++i) {
    clock_ += step;
    steer(scene, step);
    factor(scene, step, safe_ ? 0 : kStiffnessShareInFallback);
    findContacts(scene, step, false);
    if (!safe_) bounce(scene, step);
    for (Assembly* assembly : assemblies) assembly->noteRates(scene.bodies, false);
    kick(scene, step);
    for (BodyId id : bodies) scene.bodies[id].setMark();
    solveWithinBudget(scene, step);
    drift(scene, step);
    evaluate(scene);
    if (safe_) keepEnergy(scene, step);
    for (Assembly* assembly : assemblies) assembly->acceptLoose(step);
    noteErrors(scene);
    refreshStiffness(scene, step);
    readWork(scene);
    read(scene, i == 0);
  }
  for (Assembly* assembly : assemblies) assembly->setFallback(std::max(0, assembly->fallback() - 1));
  ++residual_.fallbacks;
}

// Shortens a step of the last resort until it gains nothing: at rest it certainly does not.
void Island::keepEnergy(const Scene& scene, double step) {
  constexpr int kHalvings = 12;
  for (int i = 0; !(energy(scene) <= safeEnergy_); ++i) {
    for (BodyId id : bodies) {
      Body& b = scene.bodies[id];
      b.undrift();
      if (!b.dynamic()) continue;
      const double factor = i < kHalvings ? 0.5 : 0;
      b.velocity = factor * b.velocity, b.spin = factor * b.spin;
      if (factor == 0) b.velocity.setZero(), b.spin.setZero();
    }
    drift(scene, step);
    evaluate(scene);
    if (i > kHalvings) break;
  }
  safeEnergy_ = energy(scene);
}

bool Island::isDriven(const Scene& scene) const {
  return !scene.fields.empty() || !scene.pushes.empty() || std::any_of(bodies.begin(), bodies.end(), [&](BodyId id) {
    return !scene.bodies[id].dynamic() || !scene.bodies[id].torque.isZero(0);
  });
}

bool Island::hasAxes() const {
  return std::any_of(assemblies.begin(), assemblies.end(), [](const Assembly* a) { return a->hasAxes(); });
}

double Island::kineticEnergy(const Scene& scene) const {
  double sum = 0;
  for (BodyId id : bodies)
    if (scene.bodies[id].dynamic()) sum += scene.bodies[id].kineticEnergy();
  return sum;
}

double Island::energy(const Scene& scene) const {
  double sum = 0;
  for (BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (!b.dynamic()) continue;
    sum += b.kineticEnergy() - (b.mass * b.gravityScale * scene.settings.gravity + b.force).dot(b.position);
  }
  for (const Assembly* assembly : assemblies) sum += assembly->storedEnergy();
  return sum;
}

// Energy that came from nowhere is a debt, to be paid back in substeps at velocity level.
void Island::chargeBudget(const Scene& scene, double gain) {
  double& budget = assemblies.front()->budget();
  budget -= gain;
  if (budget < -kOverdraft * kineticEnergy(scene))
    for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
}

// Closing separations costs energy, which may come only from what the solves have lost before.
void Island::solveWithinBudget(const Scene& scene, double step) {
  if (assemblies.empty()) return solveVelocities(scene, step, step);
  const double started = kineticEnergy(scene);
  double before = started;
  double& budget = assemblies.front()->budget();
  for (const double rate : {kFallbackRate, 0.0}) {
    if (safe_ && rate > 0) continue;
    for (BodyId id : bodies) scene.bodies[id].returnToMark();
    for (Assembly* assembly : assemblies) assembly->noteRatesForWork(scene.bodies), assembly->aimAtVelocity(step, rate);
    solveVelocities(scene, step, step);
    const double after = kineticEnergy(scene);
    double given = 0;
    for (const Assembly* assembly : assemblies) given += assembly->workOfSolve(scene.bodies);
    before = started + given;
    if (isDriven(scene) || budget + before - after >= -kOverdraft * started) {
      budget += before - after;
      return;
    }
  }
  // Even the plain projection gained: it is orthogonal in the stiffened inertia, not in the true one.
  const double factor =
      std::sqrt(std::max(0.0, before + budget + kOverdraft * started) / std::max(kineticEnergy(scene), 1e-300));
  budget = -kOverdraft * started;
  for (BodyId id : bodies)
    if (scene.bodies[id].dynamic()) scene.bodies[id].velocity *= factor, scene.bodies[id].spin *= factor;
}

void Island::close(const Scene& scene, double h) {
  steerAtClock(scene);
  factor(scene, h, kStiffnessShare);
  findContacts(scene, h, true);
  for (Assembly* assembly : assemblies) assembly->noteRates(scene.bodies, false);
  kick(scene, h / 2);
  for (Assembly* assembly : assemblies) assembly->aimAtRest(h);
  solveVelocities(scene, h, h / 2);
  for (Assembly* assembly : assemblies) assembly->noteRatesAtRest(scene.bodies);
  evaluate(scene);
  read(scene, true);
  onStep_ = true;
}

void Island::readWork(const Scene& scene) {
  for (const Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n)
      if (!assembly->released(n)) assembly->addWork(n, scene.joints[assembly->jointOf(n)].reading);
}

void Island::noteErrors(const Scene& scene) {
  for (const Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      if (assembly->released(n)) continue;
      JointReading& r = scene.joints[assembly->jointOf(n)].reading;
      const RowErrors e = assembly->errorsOf(n);
      r.separationPeak = std::max(r.separationPeak, e.linear);
      r.misalignmentPeak = std::max(r.misalignmentPeak, e.angular);
      residual_.linear = std::max(residual_.linear, e.linear);
      residual_.angular = std::max(residual_.angular, e.angular);
    }
}

// "Starts a substep": a closing half kick opens the account of a substep that the next opening half completes.
void Island::read(const Scene& scene, bool startsSubstep) {
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      if (assembly->released(n)) continue;
      JointState& joint = scene.joints[assembly->jointOf(n)];
      Vec3 linear, angular;
      assembly->impulseOf(n, linear, angular);
      joint.reading.force += linear;  // impulses until the frame closes
      joint.reading.torque += angular;
      if (assembly->isFirst(n)) joint.reading.activity.fill(0);
      assembly->readAxes(n, joint.reading);
      if (!joint.def.armed || (joint.def.breakForce == kUnbreakable && joint.def.breakTorque == kUnbreakable)) continue;
      auto& window = joint.window;
      if ((startsSubstep && assembly->isFirst(n)) || window.empty())
        window.emplace_back(linear, angular);
      else
        window.back().first += linear, window.back().second += angular;
      if (static_cast<int>(window.size()) > scene.settings.substeps) window.pop_front();
      Vec3 force = Vec3::Zero(), torque = Vec3::Zero();
      for (const auto& [l, t] : window) force += l, torque += t;
      if (force.norm() > joint.def.breakForce * scene.settings.frame ||
          torque.norm() > joint.def.breakTorque * scene.settings.frame)
        part(scene, *assembly, n);
    }
}

void Island::part(const Scene& scene, Assembly& assembly, int node) {
  for (int n = 0; n < assembly.nodes(); ++n)
    if (assembly.jointOf(n) == assembly.jointOf(node)) assembly.release(n);
  JointReading& r = scene.joints[assembly.jointOf(node)].reading;
  r.parted = true;
  parted_ = true;
  r.partedAt = clock_;
}

void Island::finishReadings(const Scene& scene) {
  for (const Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointState& joint = scene.joints[assembly->jointOf(n)];
      JointReading& r = joint.reading;
      assembly->storeAxes(n, joint.windings, joint.def.axes);
      if (assembly->isFirst(n)) {
        r.force /= scene.settings.frame;
        r.torque /= scene.settings.frame;
        for (double& e : r.effort) e /= scene.settings.frame;
        r.separation = r.misalignment = 0;
      }
      const RowErrors e = assembly->released(n) ? RowErrors{} : assembly->errorsOf(n);
      r.separation = std::max(r.separation, e.linear);
      r.misalignment = std::max(r.misalignment, e.angular);
    }
}

void Island::readPresentLoads(const Scene& scene, double h) {
  if (assemblies.empty()) return;
  std::vector<Body>& b = scene.bodies;
  // How the rows would bend if nothing held them: the second difference of their errors along free motion.
  std::vector<std::vector<double>> bend(assemblies.size()), errors(assemblies.size());
  const auto addErrors = [&](double weight) {
    evaluate(scene);
    for (std::size_t i = 0; i < assemblies.size(); ++i) {
      assemblies[i]->copyErrors(errors[i]);
      bend[i].resize(errors[i].size(), 0);
      for (std::size_t r = 0; r < errors[i].size(); ++r) bend[i][r] += weight * errors[i][r] / (h * h);
    }
  };
  for (BodyId id : bodies) b[id].setMark();
  for (const double time : {h, -h}) {
    drift(scene, time);
    addErrors(1);
    for (BodyId id : bodies) b[id].returnToMark();
  }
  addErrors(-2);
  // The factor of the closing half kick still stands. Accelerations take the place of velocities.
  for (BodyId id : bodies) {
    if (b[id].dynamic()) {
      const Accelerations given = accelerationsBy(scene.fields, scene.pushes, id, b[id], clock_ - 1e-9);
      const Vec3 byTorque = b[id].axes * b[id].inertia.inverse().cwiseProduct(b[id].axes.transpose() * b[id].torque);
      b[id].velocity = given.linear + b[id].gravityScale * scene.settings.gravity + b[id].inverseMass * b[id].force -
                       b[id].linearDamping * b[id].velocity;
      b[id].spin = given.angular + byTorque - b[id].angularDamping * b[id].spin;
      continue;
    }
    b[id].velocity = b[id].spin = Vec3::Zero();
    if (!b[id].motion) continue;
    Body later = b[id], sooner = b[id];
    later.steerAt(clock_ + h);
    sooner.steerAt(clock_ - h);
    b[id].velocity = (later.velocity - sooner.velocity) / (2 * h);
    b[id].spin = (later.spin - sooner.spin) / (2 * h);
  }
  contacts_.pushAtLastForce(b);
  for (std::size_t i = 0; i < assemblies.size(); ++i) {
    assemblies[i]->solveAccelerations(b, bend[i], h);
    for (int n = 0; n < assemblies[i]->nodes(); ++n) {
      JointReading& r = scene.joints[assemblies[i]->jointOf(n)].reading;
      Vec3 force, torque;
      assemblies[i]->impulseOf(n, force, torque);
      r.forceNow = (assemblies[i]->isFirst(n) ? Vec3(Vec3::Zero()) : r.forceNow) + force;
      r.torqueNow = (assemblies[i]->isFirst(n) ? Vec3(Vec3::Zero()) : r.torqueNow) + torque;
    }
  }
  for (BodyId id : bodies) b[id].returnToMark();
}

}  // namespace calm
