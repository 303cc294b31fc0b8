// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/island.h"

#include <algorithm>
#include <cmath>

#include "engine/solve/drift.h"
#include "engine/solve/geometric_stiffness.h"

namespace calm {

namespace {

// Newton corrections stop below these errors (m, rad), at round-off for parts of ordinary size ...
constexpr RowErrors kConverged{1e-10, 1e-9};
// ... and a substep counts as solved below these.
constexpr RowErrors kAcceptable{1e-7, 1e-6};
// Where something touches, both are wider: contacts take more energy than such errors could bring.
constexpr RowErrors kConvergedInTouch{1e-8, 1e-6};
constexpr RowErrors kAcceptableInTouch{1e-6, 1e-5};
constexpr int kCorrections = 10;
// More corrections than this that shrink the errors no more than so are a sign of motion too fast for the substep,
// whose energy then has to be watched.
constexpr int kEasyCorrections = 3;
constexpr double kEasyContraction = 0.2;
// A correction must shrink the errors at least this much to be worth another.
constexpr double kContraction = 0.6;
// Cones and stops bend more within a substep than the plain rows of joints: they converge more slowly, and to an answer
// that can be trusted.
constexpr int kCorrectionsWithAxes = 20;
constexpr double kContractionWithAxes = 0.95;

// A substep is halved up to this part of it.
constexpr double kLeastPiece = 1.0 / 32;

// In which what turns by `turn` (rad) in a substep turns by no more than `most` in each.
int piecesOf(double turn, double most) {
  constexpr double kMost = 64;
  return static_cast<int>(std::clamp(std::ceil(turn / most), 1.0, kMost));
}

bool within(const RowErrors& e, const RowErrors& limit) {
  return e.linear <= limit.linear && e.angular <= limit.angular;
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
  refined += other.refined;
  substeps = std::max(substeps, other.substeps);
  overBudget |= other.overBudget;
}

Residual Island::advance(const Scene& scene, bool fresh) {
  const int substeps = scene.settings.substeps;
  const double h = scene.settings.frame / substeps;
  const auto started = Stopwatch::Clock::now();
  residual_ = {};
  openAccounts(scene);
  for (ContactPair* pair : pairs) pair->frameImpulse = pair->frameMoment = Vec3::Zero();
  evaluate(scene);
  gatherShapes(scene);
  clock_ = scene.time;
  parted_ = false;
  struck_ = isStruck(scene, fresh);
  blow_ = struck_ && !touchesNow(scene, h);
  noteStart(scene);
  holdTops(scene, h);
  if (blow_) passOnBlow(scene);
  const double energyBefore = energy(scene);
  if (fresh) {
    forgiveMisfits(scene);
    prime(scene);
  }
  if (blow_) returnVelocities(scene);
  save(scene);
  const int pieces = std::max(piecesForFields(scene), piecesForTurns(scene));
  takeSubsteps(scene, pieces);
  Account account = takeStock(scene, energyBefore, pieces);
  if (canReturn_) refine(scene, energyBefore, pieces, account);
  if (account.isSound())
    settle(scene, account);
  else
    redoSafely(scene);
  finishReadings(scene);
  readPresentLoads(scene, h);
  WorkTime& spent = residual_.time;
  spent.rest = std::max(0.0, Stopwatch::since(started) - spent.total());
  return residual_;
}

// Steps that follow how attractions change along the way: near a centre they do so within less than a substep. What
// lies there among others goes nowhere.
int Island::piecesForFields(const Scene& scene) const {
  constexpr double kTurn = 0.02;  // omega h
  if (scene.fields.empty() || !pairs.empty()) return 1;
  double steepest = 0;
  for (const BodyId id : bodies)
    if (const Body& b = scene.bodies[id]; b.dynamic())
      steepest = std::max(steepest, steepestOn(scene.fields, id, b, scene.settings.frame));
  return piecesOf(std::sqrt(steepest) * scene.settings.frame / scene.settings.substeps, kTurn);
}

// An angle that has a row is known up to whole turns, of which it takes the nearest to where it was a step before.
int Island::piecesForTurns(const Scene& scene) const {
  constexpr double kTurn = 2;  // rad; half a turn, less what a rate may grow within a frame
  double fastest = 0;
  for (const Assembly* assembly : assemblies)
    for (int n = 0; hasAxes() && n < assembly->nodes(); ++n) {
      const JointDef& def = scene.joints[assembly->jointOf(n)].def;
      const AxisCount count = axesOf(def.type);
      const bool meshes = def.type == JointType::gear || def.type == JointType::rack;
      const auto isUsed = [](const AxisDef& axis) { return axis.isUsed(); };
      const auto* turns = def.axes.data() + count.along;
      if (!meshes && std::none_of(turns, def.axes.data() + count.all(), isUsed)) continue;
      const Vec3 &a = scene.bodies[def.a].spin, &b = scene.bodies[def.b].spin;
      fastest = std::max(fastest, meshes ? std::max(a.norm(), b.norm()) : (b - a).norm());
    }
  return piecesOf(fastest * scene.settings.frame / scene.settings.substeps, kTurn);
}

void Island::takeSubsteps(const Scene& scene, int pieces) {
  const int steps = pieces * scene.settings.substeps;
  const double h = scene.settings.frame / steps;
  strained_ = touched_ = safe_ = parted_ = bounced_ = false;
  onStep_ = true;
  contacts_.forgetWork();
  loose_.forgetWork();
  noteSteered(scene);
  if (blow_) {
    passOnBlow(scene);
    read(scene, false);
    readWork(scene, &Body::spin, false);
  }
  fromOutside_ = 0;
  for (Assembly* assembly : assemblies) assembly->openWork();
  for (int s = 0; s < steps; ++s) {
    clock_ = scene.time + (s + 1) * h;
    continues_ = s % pieces > 0;
    wind(h);
    if (!trySubstep(scene, h)) fallbackSubstep(scene, h);
    speedUp(h / 2);
  }
  if (!onStep_) close(scene, h);
  continues_ = false;
}

// Of what yields, those of joints that have not been there yet: else the loads would be lost that it carries.
void Island::forgiveMisfits(const Scene& scene) {
  const auto isNew = [&](JointId joint) { return scene.joints[joint].reading.separation == 0; };
  for (Assembly* assembly : assemblies) assembly->forgiveMisfit(isNew);
}

void Island::speedUp(double time) {
  for (Assembly* assembly : assemblies) assembly->speedUp(time);
}

void Island::wind(double h) {
  speedUp(h / 2);
  for (Assembly* assembly : assemblies) assembly->wind(h);
}

void Island::evaluate(const Scene& scene) {
  for (Assembly* assembly : assemblies) assembly->evaluate(scene.bodies);
}

RowErrors Island::evaluateWithStops(const Scene& scene, double h, double share) {
  evaluate(scene);
  RowErrors worst;
  for (Assembly* assembly : assemblies) {
    if (assembly->catchOvershoot(scene.bodies, h)) assembly->evaluate(scene.bodies);
    const RowErrors e = assembly->lack(h, share);
    if (!(e.linear <= worst.linear)) worst.linear = e.linear;
    if (!(e.angular <= worst.angular)) worst.angular = e.angular;
  }
  return worst;
}

void Island::factor(const Scene& scene, double h, double stiffnessShare, Kick kick) {
  updateResponses(scene.bodies, bodies, h, stiffnessShare);
  if (kick != Kick::none) kickSpan_ = spanOf(h, kick);
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    b.linearResponse = b.inverseMass;
    if (!b.dynamic() || kick == Kick::none) continue;
    const double time = kick == Kick::full ? h : h / 2;
    const Drag drag = dragOn(scene.fields, id, b, time);
    b.linearDecay = b.linearDamping + drag.rate;
    b.windPull = drag.pull;
    b.angularDecay = b.angularDamping;
    if (!scene.fields.empty() || !scene.pushes.empty()) {
      const Influence given = influenceOn(scene.fields, scene.pushes, id, b, kickSpan_);
      b.given = given.acceleration + drag.pull - drag.rate * b.velocity;
      b.givenSpin = b.turnedBy(given.torque);
    }
    if (b.linearDecay > 0) b.linearResponse *= kickGain(b.linearDecay * time);
    if (b.angularDecay > 0) b.response *= kickGain(b.angularDecay * time);
  }
  const Stopwatch watch(residual_.time.joints);
  for (Assembly* assembly : assemblies) {
    assembly->adopt();
    assembly->mayTouch(!pairs.empty());
    assembly->factor(scene.bodies, h, kick == Kick::opening ? 0.5 : 1);
  }
}

// The joint forces decide the geometric stiffness, which decides the forces: settle both before the first step.
void Island::prime(const Scene& scene) {
  const double h = scene.settings.frame / scene.settings.substeps;
  const double now = clock_;
  clock_ += h;  // as in the substep to come
  for (int pass = 0; pass < 3; ++pass) {
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
  clock_ = now;
}

Island::Velocities Island::kicked(const Scene& scene, BodyId id, const Body& start, double time) const {
  Influence given;
  if (!scene.fields.empty() || !scene.pushes.empty())
    given = influenceOn(scene.fields, scene.pushes, id, start, kickSpan_);
  given.acceleration += start.windPull + start.gravityScale * scene.settings.gravity + start.inverseMass * start.force;
  given.torque += start.torque;
  Velocities v{start.velocity, start.spin};
  const double linear = start.linearDecay * time, angular = start.angularDecay * time;
  if (linear > 0) v.linear *= std::exp(-linear);
  if (angular > 0) v.angular *= std::exp(-angular);
  v.linear += kickGain(linear) * time * given.acceleration;
  // As joints' torques meet the inertia that geometric stiffness has added to, and what damping leaves of them, so do
  // these, or the two would not balance.
  if (!given.torque.isZero(0)) v.angular += time * start.response * given.torque;
  return v;
}

TimeSpan Island::spanOf(double h, Kick kick) const {
  const double at = kick == Kick::closing ? clock_ : clock_ - h;
  const bool halfBefore = kick == Kick::closing || (kick == Kick::full && !onStep_);
  const double after = kick == Kick::closing ? 0 : kick == Kick::full && onStep_ ? h : h / 2;
  return {halfBefore ? at - h / 2 : at, at + after};
}

void Island::kick(const Scene& scene, double h, Kick kick) {
  const double time = kick == Kick::full ? h : h / 2;
  kickSpan_ = spanOf(h, kick);
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    b.setMark();
    if (!b.dynamic()) continue;
    const Velocities after = kicked(scene, id, b, time);
    b.velocityBefore = b.velocity;
    b.spinBefore = b.spin;
    b.spanBefore = time;
    b.velocity = after.linear;
    b.spin = after.angular;
  }
}

void Island::steer(const Scene& scene, double h) {
  for (BodyId id : bodies)
    if (Body& b = scene.bodies[id]; !b.dynamic()) b.steerTo(clock_, h), b.spanBefore = 0;
}

void Island::noteSteered(const Scene& scene) {
  for (BodyId id : bodies)
    if (Body& b = scene.bodies[id]; !b.dynamic()) b.lastVelocity = b.velocity, b.lastSpin = b.spin;
}

void Island::steerAtClock(const Scene& scene) {
  for (BodyId id : bodies)
    if (!scene.bodies[id].dynamic()) scene.bodies[id].steerAt(clock_);
}

void Island::drift(const Scene& scene, double h) {
  driftAll(scene.bodies, bodies, h);
}

void Island::refreshStiffness(const Scene& scene, double time) {
  for (BodyId id : bodies) {
    scene.bodies[id].stiffness.setZero();
    scene.bodies[id].stiffened = false;
  }
  for (Assembly* assembly : assemblies) assembly->addStiffness(scene.bodies, time);
  if (scene.pushes.empty()) return;
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    const Mat3 byPushes = stiffnessOf(scene.pushes, id, b, kickSpan_);
    if (byPushes.isZero(0)) continue;
    b.stiffness += byPushes;
    b.stiffened = true;
  }
}

bool Island::trySubstep(const Scene& scene, double h) {
  std::vector<Body>& b = scene.bodies;
  if (std::any_of(assemblies.begin(), assemblies.end(), [](const Assembly* a) { return a->fallback() > 0; }))
    return false;
  steer(scene, h);
  factor(scene, h, kStiffnessShare, onStep_ ? Kick::opening : Kick::full);
  findContacts(scene, h, h, false);
  const bool strikes = wouldBounce(scene, h);
  const Turn turn = strikes ? Turn{} : nextTurn(scene, h);
  if ((strikes || turn.comes) && !onStep_) {
    // Impacts belong to velocities of the instant, and steps that are cut to them.
    closeBefore(scene, h);
    steer(scene, h);
    factor(scene, h, kStiffnessShare, Kick::opening);
    findContacts(scene, h, h, false);
  }
  if (turn.after > 0) {
    cutSubstep(scene, h, turn.after);
    return true;
  }
  if (strikes) {
    for (BodyId id : bodies) b[id].noteGathering(clock_, h);
    // One instant after another where it can be cut.
    constexpr int kInstants = 20;
    for (int i = 0; i < kInstants; ++i) {
      if (const double first = nextStrike(scene, h); first > 0) {
        cutSubstep(scene, h, first);
        return true;
      }
      const bool last = i + 1 == kInstants;
      if (!bounce(scene, h, !last)) break;
      // What is free goes on from there: what stays in touch, wherever that wanders, and what comes next.
      if (assemblies.empty() || !loose_.empty()) findContacts(scene, h, h, false);
      if (last) break;
    }
  }
  for (Assembly* assembly : assemblies) assembly->fadeOffset(h);
  const double share = onStep_ ? 0.5 : 1;
  noteRates(scene, onStep_, velocitiesAt(h));
  kick(scene, h, onStep_ ? Kick::opening : Kick::full);
  for (Assembly* assembly : assemblies) assembly->aimAtPosition(h, share);
  const bool mayHalve = !contacts_.crowd() && h > kLeastPiece * scene.settings.frame / scene.settings.substeps;
  if (!solveVelocities(scene, h, h * share, mayHalve)) {
    halveSubstep(scene, h);
    return true;
  }
  bool solved = driftClosed(scene, h, share);
  // A stop that a correction ran past on its way may have come to pull, and a drive to need more than it has.
  const auto tooHard = [&](const Assembly* a) { return a->holdsTooHard(b, h * share); };
  if (solved && std::any_of(assemblies.begin(), assemblies.end(), tooHard)) {
    for (BodyId id : bodies) b[id].undrift();
    for (Assembly* assembly : assemblies) assembly->letGoWhereTooHard(b, h, h * share);
    solved = driftClosed(scene, h, share);
  }
  if (!solved) {
    for (BodyId id : bodies) b[id].returnToMark();
    evaluate(scene);
    for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
    return false;
  }
  const Stopwatch watch(residual_.time.joints);
  for (Assembly* assembly : assemblies) assembly->accept(b, h, h * share);
  refreshStiffness(scene, h * share);
  noteErrors(scene);
  readWork(scene, &Body::kickedSpin);
  read(scene, !onStep_ && !continues_);
  noteSteered(scene);
  onStep_ = false;
  return true;
}

// Drifts, and corrects the velocities that it began with until the rows are closed where it ends: by Newton's method,
// with the factor at hand. False if they are not.
bool Island::driftClosed(const Scene& scene, double h, double share) {
  const Stopwatch watch(residual_.time.joints);
  const RowErrors enough = contacts_.empty() ? kConverged : kConvergedInTouch;
  const bool bends = hasAxes();
  const int most = bends ? kCorrectionsWithAxes : kCorrections;
  const double contraction = bends ? kContractionWithAxes : kContraction;
  drift(scene, h);
  RowErrors errors = evaluateWithStops(scene, h, share);
  for (int i = 0; i < most && !within(errors, enough); ++i) {
    for (BodyId id : bodies) scene.bodies[id].undrift();
    for (Assembly* assembly : assemblies) assembly->correct(scene.bodies);
    drift(scene, h);
    const RowErrors before = errors;
    errors = evaluateWithStops(scene, h, share);
    ++residual_.corrections;
    const bool easy = errors.linear <= kEasyContraction * before.linear || errors.linear <= enough.linear;
    strained_ |= i >= kEasyCorrections && (bends || !easy);
    const bool better = errors.linear < contraction * before.linear || errors.angular < contraction * before.angular;
    if (!better) break;
  }
  return within(errors, contacts_.empty() ? kAcceptable : kAcceptableInTouch);
}

void Island::close(const Scene& scene, double h) {
  steerAtClock(scene);
  factor(scene, h, kStiffnessShare, Kick::closing);
  findContacts(scene, h, h, true);
  for (Assembly* assembly : assemblies) assembly->letStrike(scene.bodies, h);
  noteRates(scene, false, clock_ - h / 2);
  kick(scene, h, Kick::closing);
  for (Assembly* assembly : assemblies) assembly->aimAtRest(h);
  solveVelocities(scene, h, h / 2);
  readWork(scene, &Body::spin);
  for (Assembly* assembly : assemblies) assembly->noteRatesAtRest(scene.bodies, h / 2), assembly->renew();
  read(scene, !cut_ && !continues_);
  noteSteered(scene);
  onStep_ = true;
}

}  // namespace calm
