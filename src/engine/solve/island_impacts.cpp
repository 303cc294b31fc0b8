// SPDX-License-Identifier: GPL-3.0-or-later
// Where an island's parts strike one another, their stops, or are struck from outside.
#include <algorithm>

#include "engine/solve/drift.h"
#include "engine/solve/geometric_stiffness.h"
#include "engine/solve/island.h"

namespace calm {

namespace {

// A substep is not cut so near its ends, s.
double leastPiece(const Scene& scene) {
  constexpr double kWorthwhile = 0.02;  // of a substep
  return kWorthwhile * scene.settings.frame / scene.settings.substeps;
}

}  // namespace

bool Island::wouldBounce(const Scene& scene, double h) const {
  if (contacts_.wouldBounce(scene.bodies, h) || loose_.wouldBounce(scene.bodies, h)) return true;
  return wouldStrikeStops(scene, h);
}

bool Island::wouldStrikeStops(const Scene& scene, double h) const {
  const auto wouldStrike = [&](const Assembly* a) { return a->wouldStrikeStops(scene.bodies, h); };
  bool would = false;
  whileSteered(scene, 0, [&] { would = std::any_of(assemblies.begin(), assemblies.end(), wouldStrike); });
  return would;
}

bool Island::bounce(const Scene& scene, double h, bool firstOnly) {
  if (!wouldBounce(scene, h)) return false;
  // What is struck by something faster, or goes further than its own size, may meet others yet in this substep.
  const auto goesFar = [&](int s) {
    const Collider& c = scene.colliders[s];
    const Body& body = scene.bodies[scene.shapes[s].body];
    return c.struck > 0 || (!body.jointed && h * (body.velocity.norm() + body.spin.norm() * c.extent) > c.extent);
  };
  asOne_ = std::any_of(shapes_.begin(), shapes_.end(), goesFar);
  if (asOne_ && !loose_.empty()) findContacts(scene, h, h, false);
  // What is moved brings or takes what the others then have.
  const bool moved = !assemblies.empty() && moved_;
  const double energyBefore = moved ? kineticEnergy(scene) : 0;
  const bool loose = loose_.bounce(scene.bodies, h, firstOnly && !loose_.crowd(), {}) >= 0;
  const bool atJoints = bounceAtJoints(scene, h, firstOnly && !contacts_.crowd());
  if (moved) assemblies.front()->addDriven(kineticEnergy(scene) - energyBefore);
  bounced_ |= loose || atJoints;
  return !std::exchange(asOne_, false) && ((loose && !loose_.crowd()) || (atJoints && !contacts_.crowd()));
}

bool Island::bounceAtJoints(const Scene& scene, double h, bool firstOnly) {
  if (!contacts_.wouldBounce(scene.bodies, h) && !wouldStrikeStops(scene, h)) return false;
  // Impacts take no time: they meet the bodies' own inertia, without what loaded joints add to it over a step.
  const auto takeInertia = [&](double stiffnessShare, Kick kick) {
    if (assemblies.empty()) return;
    evaluate(scene);
    factor(scene, h, stiffnessShare, kick);
  };
  takeInertia(0, Kick::none);
  const double step = scene.settings.frame / scene.settings.substeps;
  bool reflected = false;
  whileSteered(scene, 0, [&] {
    for (Assembly* assembly : assemblies) reflected |= assembly->reflectAtStops(scene.bodies, h, step, firstOnly);
  });
  if (reflected) {
    read(scene, false);
    addWork(scene);
    for (BodyId id : bodies)
      if (scene.bodies[id].atJoints) scene.bodies[id].spanBefore = 0;
    // At the poses to which it put the bodies.
    takeInertia(0, Kick::none);
    for (Assembly* assembly : assemblies) assembly->renew();
  }
  openImpact(scene);
  const bool bounced = asOne_ ? bounceInTurn(scene, h) : contacts_.bounce(scene.bodies, h, firstOnly, assemblies) >= 0;
  for (Assembly* assembly : assemblies) assembly->closeImpact();
  if (bounced) {
    read(scene, false);
    readWork(scene, &Body::spin, false);
    // What was struck does not go on as it did, nor does what joints hold to it.
    for (const Assembly* assembly : assemblies)
      for (const BodyId id : assembly->dynamicBodies()) scene.bodies[id].spanBefore = 0;
  }
  takeInertia(kStiffnessShare, Kick::opening);
  return bounced || reflected;
}

void Island::openImpact(const Scene& scene) {
  const double step = scene.settings.frame / scene.settings.substeps;
  for (Assembly* assembly : assemblies)
    assembly->notePresentRates(scene.bodies), assembly->openImpact(scene.bodies, step);
}

// Whether velocities were set from outside: by an impulse, a change of role, or as the run began; or joints made.
bool Island::isStruck(const Scene& scene, bool fresh) const {
  const auto struck = [&](BodyId id) { return scene.bodies[id].dynamic() && scene.bodies[id].spanBefore == 0; };
  return !assemblies.empty() && (fresh || std::any_of(bodies.begin(), bodies.end(), struck));
}

bool Island::touchesNow(const Scene& scene, double h) {
  if (pairs.empty()) return false;
  clock_ += h;  // as in the substep to come
  findContacts(scene, h, h, false);
  clock_ -= h;
  return contacts_.touchesNow();
}

// By an impact on the joints alone.
void Island::passOnBlow(const Scene& scene) {
  evaluate(scene);
  factor(scene, scene.settings.frame / scene.settings.substeps, 0, Kick::none);
  openImpact(scene);
  for (Assembly* assembly : assemblies) assembly->relaxImpact(scene.bodies), assembly->closeImpact(), assembly->renew();
}

void Island::returnVelocities(const Scene& scene) {
  for (std::size_t i = 0; i < bodies.size(); ++i)
    scene.bodies[bodies[i]].velocity = start_[i].velocity, scene.bodies[bodies[i]].spin = start_[i].spin;
}

// One touch after another: what was struck may strike others yet in the same substep. After so many, fewer where more
// pairs have to be looked at, what is left comes all at once.
bool Island::bounceInTurn(const Scene& scene, double h) {
  constexpr int kTouches = 2000, kLooks = 16000;
  constexpr double kStraight = 0.3;  // rad, up to which what turns is taken to go straight on
  const int shapes = static_cast<int>(shapes_.size());
  const int most = std::clamp(kLooks / (shapes * shapes), 2, kTouches);
  const std::vector<Body>& all = scene.bodies;
  std::vector<Start> before;
  for (const BodyId id : bodies)
    before.push_back({all[id].position, all[id].velocity, all[id].spin, all[id].orientation});
  const auto moveOn = [](Body& b, double time) { moveBy(b, time * b.velocity, time * b.spin); };
  double clock = 0;  // s, that all have been moved on by
  bool bounced = false;
  for (int i = 0; i < most; ++i) {
    const bool last = i == most - 1;
    double span = h - clock;
    for (const BodyId id : bodies)
      if (!last && !all[id].jointed) span = std::min(span, kStraight / all[id].spin.norm());
    // What turns is struck as it lies at the touch.
    double on = last ? 0 : contacts_.nextStrike(scene.bodies, span);
    if (on < leastPiece(scene)) {
      const double first = contacts_.bounce(scene.bodies, span, !last, assemblies);
      if (first < 0 && span == h - clock) break;
      bounced |= first >= 0;
      on = first < 0 ? span : first;
    }
    // What comes no end to is a jam.
    if (last && most == kTouches) contacts_.setCrowd(true);
    if (last || contacts_.crowd()) break;
    for (const BodyId id : bodies) moveOn(scene.bodies[id], on);
    clock += on;
    findContacts(scene, h, h - clock, false);
  }
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    Body& b = scene.bodies[bodies[i]];
    const Start& start = before[i];
    if (!b.jointed && (b.velocity != start.velocity || b.spin != start.spin)) {
      moveOn(b, -clock);
      continue;
    }
    b.position = start.position;
    b.orientation = start.orientation;
    b.axes = b.orientation.toRotationMatrix();
  }
  return bounced;
}

// An impact changes what holds a body as well as how it moves: up to it and from it on are steps of their own.
void Island::cutSubstep(const Scene& scene, double h, double first) {
  const double end = clock_;
  for (const bool before : {true, false}) {
    const double step = before ? first : h - first;
    clock_ = before ? end - h + first : end;
    cut_ = before;
    evaluate(scene);
    if (!trySubstep(scene, step)) fallbackSubstep(scene, step);
    if (!onStep_) close(scene, step);
  }
}

void Island::halveSubstep(const Scene& scene, double h) {
  for (BodyId id : bodies) scene.bodies[id].returnToMark(), scene.bodies[id].spanBefore = 0;
  if (onStep_)
    for (Assembly* assembly : assemblies) assembly->takeBackRates();
  else
    closeBefore(scene, h);
  cutSubstep(scene, h, h / 2);
}

void Island::closeBefore(const Scene& scene, double h) {
  evaluate(scene);
  clock_ -= h;
  close(scene, h);
  clock_ += h;
}

double Island::nextStrike(const Scene& scene, double h) const {
  if (!onStep_) return -1;
  double first = -1;
  const auto include = [&](double after) {
    if (after >= 0 && after < h) first = first < 0 ? after : std::min(first, after);
  };
  for (const ContactSolver* solver : {&contacts_, &loose_}) include(solver->nextStrike(scene.bodies, h));
  whileSteered(scene, 0, [&] {
    for (const Assembly* assembly : assemblies)
      if (!contacts_.crowd()) include(assembly->nextStop(scene.bodies));
  });
  const double least = leastPiece(scene), cut = std::min(first, h - least);
  return cut > least ? cut : -1;
}

Island::Turn Island::nextTurn(const Scene& scene, double h) const {
  const double least = leastPiece(scene);
  double first = 0;
  whileSteered(scene, 0, [&] {
    const double at = velocitiesAt(h);
    first = std::min(contacts_.nextTurn(scene.bodies, h, at), loose_.nextTurn(scene.bodies, h, at));
  });
  if (first < least) return {true, 0};
  return first < h - least ? Turn{true, first} : Turn{};
}

}  // namespace calm
