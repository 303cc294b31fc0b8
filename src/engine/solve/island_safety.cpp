// SPDX-License-Identifier: GPL-3.0-or-later
// What an island does when a substep cannot be solved or a frame runs away, and the account of its energy.
#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/solve/geometric_stiffness.h"
#include "engine/solve/island.h"

namespace calm {

namespace {

// A substep that cannot be solved (a whip's crack, a snap) is redone in so many steps at velocity level, each of which
// removes this fraction of the errors; and so are the next ones, since the trouble lasts. Smaller conservative steps
// would be more accurate for a moment and pump energy into what they cannot resolve.
constexpr int kFallbackSteps = 6;
constexpr double kFallbackRate = 0.2;
// Kinetic energy that closing separations may cost beyond what was lost before, as a fraction of the whole.
constexpr double kOverdraft = 0.002;
// What plain joints may gain in all, as a fraction of the largest kinetic energy that they have had.
constexpr double kSurplus = 0.01;

// A frame with stops, drives or springs that was hard to solve may gain this share of its energy before it is done
// again, beyond the work by which overlaps were pushed out (no more than to that speed, m/s); plain joints where
// something touches the second; others (springs too fast for their energy to be seen exactly; plain joints, whose gains
// are a debt) kRunaway.
constexpr double kUnbelievable = 0.002, kUnbelievableInTouch = 0.01, kPushAllowance = 1;
// After impacts more: they turn what the energy of a step is off at their instant, now up and now down, into energy.
constexpr double kUnbelievableAfterImpacts = 0.01;
// What turns further than this in a substep was hard to solve, too, rad.
constexpr double kWhirl = 0.5;
constexpr double kRunaway = 0.5;
// A frame of plain joints is exact within this share of its energy, and not worth more substeps; with no more gained,
// or lost, than those it may stand, and what is off is made good. Top-heavy ones count on coming back.
constexpr double kExact = 1e-4, kGood = 0.02, kLost = 0.1, kGoodTopHeavy = 0.01;
// Of what contacts, stops and dampers took in a frame, by which it may be off, too; where something lands, the joints'
// share in that is seen half a step off.
constexpr double kRubbed = 0.01, kRubbedInTouch = 0.03;
constexpr double kPlay = 1e-6;   // m, by which weights may seem to rise
constexpr double kApart = 1e-5;  // m, by which joints of what touches may come apart

}  // namespace

void Island::noteStart(const Scene& scene) {
  start_.clear();
  moved_ = false;
  kicksWork_ = workByKicks(scene.fields, scene.pushes, scene.frame());
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    b.held = 0;
    start_.push_back({b.position, b.velocity, b.spin, b.orientation});
    moved_ |= b.isMoved();
    kicksWork_ |= !b.torque.isZero(0) || b.linearDamping > 0 || b.angularDamping > 0;
  }
  startWork_.clear();
  for (const Assembly* assembly : assemblies)
    for (int n = 0; assembly->hasAxes() && n < assembly->nodes(); ++n)
      startWork_.push_back(scene.joints[assembly->jointOf(n)].reading.work);
}

// Whether a frame ended with finite numbers and with no more energy than it began with and was given. Much too much is
// not believed, nor what soft stops did that are too fast for the step.
Island::Account Island::takeStock(const Scene& scene, double energyBefore, int pieces) {
  const bool refined = pieces > 1;
  const double after = energy(scene);
  if (!std::isfinite(after)) return {1, 0, false, false};
  if (assemblies.empty()) return {0, 0, true, residual_.fallbacks == 0};
  const double whole = scene.settings.frame / scene.settings.substeps, step = whole / pieces;
  double struckHard = 0, stored = 0;
  for (const Assembly* assembly : assemblies)
    struckHard += assembly->workAtHardStops(step), stored += assembly->storedEnergy();
  const auto follows = [&](double scale) { return struckHard <= kExact * scale; };
  double given = std::max(0.0, fromOutside_), drained = touched_ ? std::max(0.0, -fromOutside_) : 0,
         byAxes = fromOutside_, scale = stored + std::abs(fromOutside_);
  double pushed = 0, slack = 0;
  for (const Assembly* assembly : assemblies) {
    const Assembly::AxisWork work = assembly->axisWork();
    given += std::max(0.0, work.driven);
    drained += std::max(0.0, -work.driven) - work.taken;
    scale += std::abs(work.driven);
    byAxes += work.driven + work.taken;
  }
  // What joints were apart when the frame began they may close, and lift weights by as much.
  double apart = kPlay;
  for (const Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n)
      apart = std::max(apart, scene.joints[assembly->jointOf(n)].reading.separation);
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    const Body& b = scene.bodies[bodies[i]];
    const Vec3 lasting = lastingInfluenceOn(scene.fields, scene.pushes, bodies[i], b, scene.frame()).acceleration;
    const Vec3 weight = b.mass * (b.gravityScale * scene.settings.gravity + lasting) + b.force;
    scale += b.kineticEnergy() + std::abs(weight.dot(b.position - start_[i].position));
    slack += weight.norm() * apart;
    // A joint that parts between two half kicks leaves one of them without its counterpart.
    if (parted_) slack += b.inverseMass * (weight * scene.settings.frame / scene.settings.substeps).squaredNorm();
    pushed += 0.5 * b.mass * kPushAllowance * kPushAllowance;
  }
  // Contacts take energy, and bring some only where they push overlaps out.
  const double byContacts =
      std::min({contacts_.work() + loose_.work(), contacts_.pushedOut() + loose_.pushedOut(), pushed});
  const double gain = after - energyBefore - byAxes - byContacts;
  const bool whirls = std::any_of(bodies.begin(), bodies.end(), [&](BodyId id) {
    return scene.bodies[id].dynamic() && scene.bodies[id].spin.norm() * whole > kWhirl;
  });
  const bool hard = hasAxes() && (strained_ || (whirls && given == 0) || residual_.fallbacks > 0);
  const double easyShare = touched_ && !hasAxes() ? kUnbelievableInTouch : kRunaway;
  const double hardShare = bounced_ ? kUnbelievableAfterImpacts : kUnbelievable;
  const double share = hard ? hardShare : easyShare;
  // Nothing came from nowhere that contacts and axes took together with it.
  const double taken = std::max(0.0, -byContacts) + std::max(0.0, given - byAxes);
  const double allowed = share * (scale + given) + taken + slack + 1e-9 * std::abs(energyBefore);
  // That of springs is not seen exactly.
  const bool sprung = std::any_of(assemblies.begin(), assemblies.end(),
                                  [&](const Assembly* a) { return a->hasSprings() || a->isOnSlowStop(step); });
  // A blow that joints and touches take together has lost energy that nobody has seen.
  const bool keeps = (blow_ || !struck_) && (!sprung || hard || refined);
  const double play = slack + (touched_ ? kRubbedInTouch : kRubbed) * (std::abs(byContacts) + drained);
  const auto isWithin = [&](double gained, double lost) {
    return keeps ? gain <= gained * scale + play && gain >= -lost * scale - play : gain <= allowed;
  };
  const bool good = isWithin(topHeavy_ ? kGoodTopHeavy : kGood, kLost);
  const double most = refined && !touched_ ? kExact * (scale + given) + slack : allowed;
  // What jams may be beyond solving; what only came apart in a crash is not.
  const bool together = residual_.fallbacks == 0 || (touched_ && residual_.linear <= kApart);
  const bool exact = follows(scale) && (keeps ? isWithin(kExact, kExact) : gain <= most) && together;
  const bool plain = !touched_ && !hasAxes(), conserves = !touched_ && !sprung && keeps && drained == 0;
  return {gain, allowed, good, exact, plain, keeps, conserves};
}

void Island::settle(const Scene& scene, const Account& account) {
  if (assemblies.empty()) return;
  Assembly& first = *assemblies.front();
  if (account.plain || account.conserves)
    first.surplus() += account.gain;
  else if (hasAxes())
    first.surplus() = 0;
  if (!account.plain) return;
  first.liveliest() = std::max(first.liveliest(), kineticEnergy(scene));
  if (canReturn_ && !topHeavy_) return;
  // Energy that came from nowhere is a debt, to be paid back in substeps at velocity level; and so is what many easy
  // frames gain together.
  if (strained_) first.budget() -= account.gain;
  if (first.budget() < -kOverdraft * kineticEnergy(scene) || first.surplus() > kSurplus * first.liveliest())
    for (Assembly* assembly : assemblies) assembly->setFallback(kFallbackStay);
}

void Island::restart(const Scene& scene) {
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    Body& b = scene.bodies[bodies[i]];
    b.position = start_[i].position, b.velocity = start_[i].velocity, b.spin = start_[i].spin;
    b.orientation = start_[i].orientation;
    b.axes = b.orientation.toRotationMatrix();
    b.momentumSpin.setConstant(std::numeric_limits<double>::quiet_NaN());  // to be taken anew
  }
  openAccounts(scene);
  recallWork(scene);
  forgetForces(scene);
  for (Assembly* assembly : assemblies) assembly->setFallback(0);
  forgetContacts();
  forgetResidual(scene);
  evaluate(scene);
  forgiveMisfits(scene);
}

void Island::forgetResidual(const Scene& scene) {
  residual_.linear = residual_.angular = residual_.contactSpeed = 0;
  residual_.fallbacks = 0;
  clock_ = scene.time;
}

void Island::recallWork(const Scene& scene) {
  auto work = startWork_.begin();
  for (const Assembly* assembly : assemblies)
    for (int n = 0; assembly->hasAxes() && n < assembly->nodes(); ++n)
      scene.joints[assembly->jointOf(n)].reading.work = *work++;
}

void Island::forgetContacts() {
  for (ContactPair* pair : pairs) {
    pair->last.clear();
    pair->frameImpulse = pair->frameMoment = Vec3::Zero();
    pair->roll.points = 0;
    pair->rubbing.known = false;
  }
}

void Island::redoSafely(const Scene& scene) {
  const int substeps = scene.settings.substeps;
  const double h = scene.settings.frame / substeps;
  ++residual_.redone;
  restart(scene);
  refreshStiffness(scene, h);
  safeEnergy_ = energy(scene);
  onStep_ = safe_ = true;
  for (int s = 0; s < substeps; ++s) {
    clock_ = scene.time + (s + 1) * h;
    wind(h);
    fallbackSubstep(scene, h);
    speedUp(h / 2);
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
  forgetForces(scene);
  forgetContacts();
  evaluate(scene);
}

// Axes count their turns as before the frame.
void Island::forgetForces(const Scene& scene) {
  for (Assembly* assembly : assemblies) {
    for (int n = 0; n < assembly->nodes(); ++n) {
      const JointState& joint = scene.joints[assembly->jointOf(n)];
      assembly->reset(joint.windings, joint.def.axes, n);
    }
    assembly->forget();
  }
}

void Island::fallbackSubstep(const Scene& scene, double h) {
  // The steps start from velocities that belong to the poses.
  clock_ -= h;
  if (!onStep_) close(scene, h);
  const double step = h / kFallbackSteps;
  for (int i = 0; i < kFallbackSteps; ++i) {
    clock_ += step;
    steer(scene, step);
    factor(scene, step, safe_ ? 0 : kStiffnessShareInFallback, Kick::full);
    findContacts(scene, step, step, false);
    if (!safe_ && wouldBounce(scene, step)) {
      bounce(scene, step, false);
      evaluate(scene);
      factor(scene, step, kStiffnessShareInFallback, Kick::full);
    }
    noteRates(scene, false, clock_ - step);
    kick(scene, step, Kick::full);
    for (BodyId id : bodies) scene.bodies[id].setMark();
    solveWithinBudget(scene, step);
    drift(scene, step);
    evaluate(scene);
    if (safe_) keepEnergy(scene, step);
    for (Assembly* assembly : assemblies) assembly->acceptLoose(step);
    noteErrors(scene);
    refreshStiffness(scene, step);
    readWork(scene, &Body::kickedSpin);
    read(scene, i == 0);
    noteSteered(scene);
  }
  for (Assembly* assembly : assemblies) assembly->setFallback(std::max(0, assembly->fallback() - 1));
  ++residual_.fallbacks;
}

// Shortens a step of the last resort until it gains nothing that it was not given: at rest it certainly does not.
void Island::keepEnergy(const Scene& scene, double step) {
  constexpr int kHalvings = 12;
  const double most = safeEnergy_ + std::max(0.0, workFromOutside(scene, &Body::kickedSpin));
  for (int i = 0; !(energy(scene) <= most); ++i) {
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
    sum += potentialOf(scene.fields, scene.pushes, id, b, scene.frame());
  }
  for (const Assembly* assembly : assemblies) sum += assembly->storedEnergy();
  return sum;
}

// Closing separations costs energy, which may come only from what the solves have lost before.
void Island::solveWithinBudget(const Scene& scene, double step) {
  if (assemblies.empty()) {
    solveVelocities(scene, step, step);
    return;
  }
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
    for (const Assembly* assembly : assemblies)
      given += assembly->workOfSolve(scene.bodies) + (moved_ ? assembly->workOfMoved(scene.bodies) : 0);
    before = started + given;
    if ((touched_ && moved_) || budget + before - after >= -kOverdraft * started) {
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

}  // namespace calm
