// SPDX-License-Identifier: GPL-3.0-or-later
// How an island's joints and contacts are solved together, by impulses on the velocities.
#include <algorithm>

#include "engine/solve/island.h"

namespace calm {

namespace {

// Contacts and joints alternate until a sweep changes no contact velocity by more than this, m/s, or than this fraction
// of what the first one changed.
constexpr double kContactTolerance = 1e-5;
constexpr double kContactReduction = 1e-5;
constexpr int kContactRounds = 60;
constexpr int kContactRoundsWithJoints = 40;
// Few contacts are solved with their own and the joints' answer known; sweeps are cheap then, and go on until the stops
// stay on their sides.
constexpr ContactSolver::Goal kCoupledGoal{200, kContactTolerance, kContactReduction};
// The same for few that no joints hold, which then rest without a tremble, and for faces that turn and slide at once,
// whose ways add up what sweeps leave.
constexpr ContactSolver::Goal kFineGoal{200, 1e-8, 1e-8};
constexpr int kCoupledRounds = 30, kPressureRounds = 2;
// Without joints it is done for so few that the lanes of sweeps would be empty, where masses are far from equal, and
// for such faces.
constexpr int kFewContacts = 24;

// Changes of side of stops and drives within one solution: so many of all that ask for one, then, where there are many,
// all that is bounded at once, and so many again; then one after the other.
constexpr int kRevisions = 60, kRevisionsTogether = 6, kRevisionsInAll = 180;

}  // namespace

// Stops and drives change sides until all are in their right state; the last sides are the first guess of the next
// substep, so that mostly one solution does. Where changes at a time run in circles, many that are bounded are settled
// together, and few by the first in a fixed order alone, which comes to an end (Murty's least index, guarding blocks of
// pivots: Judice and Pires, Computers and Operations Research 21, 1994).
bool Island::solveJoints(const Scene& scene, double h, double time) {
  if (assemblies.empty()) return false;
  const Stopwatch watch(residual_.time.joints);
  bool changed = false;
  for (Assembly* assembly : assemblies) {
    assembly->relax(scene.bodies);
    int together = kRevisionsTogether;
    for (int i = 0; i < kRevisions && revisionsLeft_ > 0; ++i, --revisionsLeft_) {
      if (i == kRevisionsTogether && assembly->settleBounds(scene.bodies, h, time)) {
        assembly->relax(scene.bodies);
        together += kRevisionsTogether;
      }
      using enum Assembly::Revision;
      if (!assembly->revise(scene.bodies, h, time, i < together ? all : first)) break;
      assembly->relax(scene.bodies);
      changed = true;
    }
  }
  return changed;
}

bool Island::reviseJoints(const Scene& scene, double h, double time) {
  relaxJoints(scene);
  const Stopwatch watch(residual_.time.joints);
  bool changed = false;
  for (Assembly* assembly : assemblies)
    if (assembly->revise(scene.bodies, h, time, Assembly::Revision::untired))
      assembly->relax(scene.bodies), changed = true;
  return changed;
}

void Island::relaxJoints(const Scene& scene) {
  const Stopwatch watch(residual_.time.joints);
  for (Assembly* assembly : assemblies) assembly->relax(scene.bodies);
}

bool Island::solveVelocities(const Scene& scene, double h, double time, bool unlessStruck) {
  const auto started = Stopwatch::Clock::now();
  const double jointsBefore = residual_.time.joints;
  revisionsLeft_ = kRevisionsInAll;
  for (Assembly* assembly : assemblies) assembly->pushAtCaps(scene.bodies, time);
  contacts_.warmStart(scene.bodies, time);
  loose_.warmStart(scene.bodies, time);
  solveJoints(scene, h, time);
  const double atJoints = assemblies.empty() ? solveLoose(scene, contacts_, time) : solveAtJoints(scene, h, time);
  const double change = std::max(atJoints, solveLoose(scene, loose_, time));
  const bool stands = !unlessStruck || assemblies.empty() || !contacts_.struckUnawares();
  if (stands) {
    residual_.contactSpeed = std::max(residual_.contactSpeed, change);
    for (ContactSolver* solver : {&contacts_, &loose_}) solver->forgetPast();
    for (ContactSolver* solver : {&contacts_, &loose_}) solver->store(scene.bodies, time);
  }
  residual_.time.contacts += Stopwatch::since(started) - (residual_.time.joints - jointsBefore);
  return stands;
}

double Island::solveAtJoints(const Scene& scene, double h, double time) {
  if (contacts_.empty()) return 0;
  double change = 0;
  if (contacts_.size() > ContactSolver::kCoupled) {
    const auto relax = [&] {
      return contacts_.relaxInTurn(scene.bodies, {kContactRoundsWithJoints, kContactTolerance, kContactReduction},
                                   [&] { solveJoints(scene, h, time); });
    };
    change = relax();
    return contacts_.followPressure(scene.bodies) ? relax() : change;
  }
  const double momentum = momentumOf(scene, true, time);
  bool changed = true;
  for (int round = 0; changed; ++round) {
    contacts_.couple(scene.bodies, assemblies);
    change = contacts_.relaxCoupled(scene.bodies, contacts_.hasCells() ? kFineGoal : kCoupledGoal, momentum);
    // One change a round: whether the next is called for depends on what the contacts answer.
    if (round + 1 < kCoupledRounds)
      changed = reviseJoints(scene, h, time);
    else
      relaxJoints(scene), changed = false;
    if (round < kPressureRounds && contacts_.followPressure(scene.bodies)) relaxJoints(scene), changed = true;
  }
  return change;
}

double Island::solveLoose(const Scene& scene, ContactSolver& contacts, double time) {
  if (contacts.empty()) return 0;
  const int size = contacts.size();
  const bool coupled = size <= kFewContacts ||
                       (size <= ContactSolver::kCoupled && (contacts.hasCells() || contacts.areUnequal(scene.bodies)));
  if (coupled) contacts.couple(scene.bodies, {});
  const double momentum = coupled ? momentumOf(scene, false, time) : 0;
  const auto relax = [&] {
    if (coupled) return contacts.relaxCoupled(scene.bodies, kFineGoal, momentum);
    return contacts.relaxApart(scene.bodies, {kContactRounds, kContactTolerance, kContactReduction});
  };
  double change = relax();
  const int rounds = coupled ? kPressureRounds : 1;
  for (int round = 0; round < rounds && contacts.followPressure(scene.bodies); ++round) {
    if (coupled) contacts.couple(scene.bodies, {});
    change = relax();
  }
  return change;
}

// All that these had before they were pushed and that weights bring, without signs.
double Island::momentumOf(const Scene& scene, bool atJoints, double time) const {
  const double falls = time * scene.settings.gravity.norm();
  double sum = 0;
  for (const BodyId id : bodies)
    if (const Body& b = scene.bodies[id]; b.dynamic() && b.atJoints == atJoints)
      sum += b.mass * (b.velocityBefore.norm() + falls);
  return sum;
}

}  // namespace calm
