// SPDX-License-Identifier: GPL-3.0-or-later
// What an island tells of its joints.
#include <algorithm>

#include "engine/solve/geometric_stiffness.h"
#include "engine/solve/island.h"

namespace calm {

namespace {

// Accelerations are seen over this part of a substep, and not in less than so many seconds: in a whole one what spins
// has turned too far, and less would drown them in round-off.
constexpr double kInstant = 1.0 / 32, kLeastInstant = 6e-5;

}  // namespace

void Island::openAccounts(const Scene& scene) {
  for (Assembly* assembly : assemblies) {
    assembly->noteAxes();
    std::fill(assembly->accounts().begin(), assembly->accounts().end(), Assembly::Account{});
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointState& joint = scene.joints[assembly->jointOf(n)];
      joint.load = {};
      if (assembly->hasAxes()) joint.reading.effort.fill(0), joint.reading.activity.fill(0);
      if (scene.settings.traced) joint.errors.clear();
      assembly->watch(n, scene.settings.traced || (assembly->isBreakable(n) && joint.canPart()));
    }
  }
}

// A kick lies between the last step and the coming one, and the velocities of what is moved are already the coming
// one's.
void Island::noteRates(const Scene& scene, bool opening, double at) {
  whileSteered(scene, 0, [&] {
    for (Assembly* assembly : assemblies) assembly->noteRates(scene.bodies, opening);
    for (ContactSolver* solver : {&contacts_, &loose_}) {
      if (!assemblies.empty()) solver->noteSlips(scene.bodies);
      solver->noteSlides(scene.bodies, at);
    }
  });
}

void Island::readWork(const Scene& scene, Vec3 Body::*spin, bool kicked) {
  for (Assembly* assembly : assemblies) assembly->noteWork(scene.bodies, spin);
  addWork(scene);
  if (!kicked || assemblies.empty()) return;
  double byTouches = 0;
  for (ContactSolver* solver : {&contacts_, &loose_}) solver->noteWork(scene.bodies, spin);
  whileSteered(scene, 0.5, [&] {
    for (const ContactSolver* solver : {&contacts_, &loose_}) byTouches += solver->workOfMoved(scene.bodies);
  });
  assemblies.front()->addDriven(byTouches);
  fromOutside_ += workFromOutside(scene, spin);
}

double Island::workFromOutside(const Scene& scene, Vec3 Body::*spin) const {
  double sum = kicksWork_ ? workOfKick(scene, spin) : 0;
  if (!moved_) return sum;
  // As all work of a kick, at the mean of the velocities before and after.
  whileSteered(scene, 0.5, [&] {
    for (const Assembly* assembly : assemblies) sum += assembly->workOfMoved(scene.bodies);
  });
  return sum;
}

double Island::workOfKick(const Scene& scene, Vec3 Body::*spin) const {
  double sum = 0;
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    const double linear = b.linearDecay * b.spanBefore, angular = b.angularDecay * b.spanBefore;
    if (!b.dynamic()) continue;
    Body start = b;
    start.position = b.mark.position, start.orientation = b.mark.orientation, start.axes = b.mark.axes;
    start.velocity = b.velocityBefore, start.spin = b.spinBefore;
    const Velocities after = kicked(scene, id, start, b.spanBefore);
    const Influence lasting = lastingInfluenceOn(scene.fields, scene.pushes, id, start, scene.frame());
    const Vec3 weight =
        b.spanBefore * (b.gravityScale * scene.settings.gravity + b.inverseMass * b.force + lasting.acceleration);
    const Vec3 moment = b.spanBefore / kickGain(angular) * (b.response * lasting.torque);
    // What damping leaves of the solve's own push is a work of its own.
    const Vec3 given =
        after.linear - start.velocity - weight + (1 - 1 / kickGain(linear)) * (b.velocity - after.linear);
    const Vec3 turned = after.angular - start.spin - moment + (1 - 1 / kickGain(angular)) * (b.*spin - after.angular);
    sum += 0.5 * b.mass * given.dot(start.velocity + b.velocity);
    sum += 0.5 * (start.worldInertia() * turned).dot(start.spin + b.*spin);
  }
  return sum;
}

void Island::addWork(const Scene& scene) {
  for (const Assembly* assembly : assemblies)
    for (int n = 0; assembly->hasAxes() && n < assembly->nodes(); ++n)
      if (!assembly->released(n)) assembly->addWork(n, scene.joints[assembly->jointOf(n)].reading);
}

void Island::noteErrors(const Scene& scene) {
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      if (assembly->released(n)) continue;
      const RowErrors e = assembly->errorsOf(n), miss = assembly->isCompliant(n) ? assembly->missesOf(n) : e;
      assembly->accounts()[n].peak.include(e);
      residual_.linear = std::max(residual_.linear, miss.linear);
      residual_.angular = std::max(residual_.angular, miss.angular);
      if (scene.settings.traced && !cut_ && !continues_ && assembly->isFirst(n))
        scene.joints[assembly->jointOf(n)].errors.push_back(e.linear);
    }
}

// "Starts a substep": a closing half kick opens the account of a substep that the next opening half completes.
void Island::read(const Scene& scene, bool startsSubstep) {
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      if (assembly->released(n)) continue;
      Vec3 linear, angular;
      assembly->impulseOf(n, linear, angular);
      assembly->accounts()[n].impulse += linear;
      assembly->accounts()[n].moment += angular;
      JointState& joint = scene.joints[assembly->jointOf(n)];
      assembly->readAxes(n, joint.reading);
      const bool starts = startsSubstep && assembly->isFirst(n);
      if (starts) joint.load.endSubstep();
      joint.load.add(linear, angular);
      if (!assembly->watched(n)) continue;
      auto& window = joint.window;
      if (starts || window.empty())
        window.emplace_back(linear, angular);
      else
        window.back().first += linear, window.back().second += angular;
      const std::size_t frame = static_cast<std::size_t>(scene.settings.substeps);
      if (window.size() > frame + scene.settings.traced) window.pop_front();
      if (!joint.canPart()) continue;
      double impulses = 0, moments = 0;
      for (std::size_t i = window.size() > frame ? window.size() - frame : 0; i < window.size(); ++i)
        impulses += window[i].first.norm(), moments += window[i].second.norm();
      if (impulses > joint.def.breakForce * scene.settings.frame ||
          moments > joint.def.breakTorque * scene.settings.frame)
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
  for (Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      JointState& joint = scene.joints[assembly->jointOf(n)];
      JointReading& r = joint.reading;
      assembly->storeAxes(n, joint.windings, joint.def.axes);
      if (assembly->isFirst(n)) {
        r.force = r.torque = Vec3::Zero();
        joint.load.endSubstep();
        r.forceSize = joint.load.impulses / scene.settings.frame;
        r.torqueSize = joint.load.moments / scene.settings.frame;
        for (double& e : r.effort) e /= scene.settings.frame;
        r.separation = r.misalignment = r.separationPeak = r.misalignmentPeak = 0;
      }
      const Assembly::Account& account = assembly->accounts()[n];
      r.force += account.impulse / scene.settings.frame;
      r.torque += account.moment / scene.settings.frame;
      r.separationPeak = std::max(r.separationPeak, account.peak.linear);
      r.misalignmentPeak = std::max(r.misalignmentPeak, account.peak.angular);
      const RowErrors e = assembly->released(n) ? RowErrors{} : assembly->errorsOf(n);
      r.separation = std::max(r.separation, e.linear);
      r.misalignment = std::max(r.misalignment, e.angular);
    }
}

// How the rows would bend if nothing held them: where that is not known, by the second difference of their errors along
// free motion.
void Island::findBend(const Scene& scene, double h, std::vector<std::vector<double>>& bend) {
  bool known = true;
  for (std::size_t i = 0; i < assemblies.size(); ++i) known &= assemblies[i]->bendOfLocks(scene.bodies, bend[i]);
  if (known) return;
  std::vector<double> errors;
  const auto addErrors = [&](double weight) {
    evaluate(scene);
    for (std::size_t i = 0; i < assemblies.size(); ++i) {
      assemblies[i]->copyErrors(errors);
      for (std::size_t r = 0; r < errors.size(); ++r) bend[i][r] += weight * errors[r] / (h * h);
    }
  };
  for (std::vector<double>& all : bend) std::fill(all.begin(), all.end(), 0.0);
  for (const double time : {h, -h}) {
    drift(scene, time);
    addErrors(1);
    for (BodyId id : bodies) scene.bodies[id].returnToMark();
  }
  addErrors(-2);
}

void Island::readPresentLoads(const Scene& scene, double h) {
  if (assemblies.empty()) return;
  std::vector<Body>& b = scene.bodies;
  std::vector<std::vector<double>> bend(assemblies.size());
  for (BodyId id : bodies) b[id].setMark();
  const double instant = std::min(h, std::max(kInstant * h, kLeastInstant));
  findBend(scene, instant, bend);
  // The factor of the closing half kick still stands, but for damping and drag, whose forces are known here.
  // Accelerations take the place of velocities.
  const auto slowed = [&](BodyId id) { return b[id].linearDecay > 0 || b[id].angularDecay > 0; };
  if (std::any_of(bodies.begin(), bodies.end(), slowed)) factor(scene, h, kStiffnessShare, Kick::none);
  // What begins now did not act yet.
  const double before = clock_ - 2e-9;
  for (BodyId id : bodies) {
    if (b[id].dynamic()) {
      const Influence given = influenceWithWindsOn(scene.fields, scene.pushes, id, b[id], {before, before});
      b[id].velocity = given.acceleration + b[id].gravityScale * scene.settings.gravity +
                       b[id].inverseMass * b[id].force - b[id].linearDamping * b[id].velocity;
      b[id].spin = b[id].turnedBy(given.torque + b[id].torque) - b[id].angularDamping * b[id].spin;
      continue;
    }
    b[id].velocity = b[id].spin = Vec3::Zero();
    if (!b[id].motion) continue;
    Body later = b[id], sooner = b[id];
    later.steerAt(clock_ + instant);
    sooner.steerAt(clock_ - instant);
    b[id].velocity = (later.velocity - sooner.velocity) / (2 * instant);
    b[id].spin = (later.spin - sooner.spin) / (2 * instant);
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
