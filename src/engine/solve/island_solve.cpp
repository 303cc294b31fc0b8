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
// The same for few that no joints hold, which then rest without a tremble.
constexpr double kFewTolerance = 1e-8, kFewReduction = 1e-8;
constexpr int kContactRounds = 60;
constexpr int kContactRoundsWithJoints = 40;
// With joints and no more points than this, contacts are solved with the joints' own answer known; sweeps are cheap
// then, and go on until the stops stay on their sides.
constexpr int kCoupledContacts = 80;
constexpr int kCoupledSweeps = 200, kCoupledRounds = 30, kPressureRounds = 2;
// Without joints it is done for so few that the lanes of sweeps would be empty, and where masses are far from equal.
constexpr int kFewContacts = 24;

// Changes of side of stops and drives within one solution: so many of all that ask for one, then, where there are many,
// all that is bounded at once, and so many again; then one after the other.
constexpr int kRevisions = 60, kRevisionsTogether = 6, kRevisionsInAll = 180;

// All that these had before they were pushed and that weights bring (at this speed), without signs, kg m/s.
double momentumOf(const std::vector<Body>& all, const std::vector<BodyId>& ids, double falls) {
  double sum = 0;
  for (const BodyId id : ids)
    if (const Body& b = all[id]; b.dynamic()) sum += b.mass * (b.velocityBefore.norm() + falls);
  return sum;
}

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
  const bool coupled = !contacts_.empty() && contacts_.size() <= kCoupledContacts &&
                       (!assemblies.empty() || contacts_.size() <= kFewContacts || contacts_.areUnequal(scene.bodies));
  for (Assembly* assembly : assemblies) assembly->pushAtCaps(scene.bodies, time);
  contacts_.warmStart(scene.bodies, time);
  solveJoints(scene, h, time);
  double change = 0;
  if (coupled) {
    const ContactSolver::Goal goal = assemblies.empty()
                                         ? ContactSolver::Goal{kCoupledSweeps, kFewTolerance, kFewReduction}
                                         : ContactSolver::Goal{kCoupledSweeps, kContactTolerance, kContactReduction};
    const double momentum = momentumOf(scene.bodies, bodies, time * scene.settings.gravity.norm());
    bool changed = true;
    for (int round = 0; changed; ++round) {
      contacts_.couple(scene.bodies, assemblies);
      change = contacts_.relaxCoupled(scene.bodies, goal, momentum);
      // One change a round: whether the next is called for depends on what the contacts answer.
      if (round + 1 < kCoupledRounds)
        changed = reviseJoints(scene, h, time);
      else
        relaxJoints(scene), changed = false;
      if (round < kPressureRounds && contacts_.followPressure(scene.bodies)) relaxJoints(scene), changed = true;
    }
  } else if (!contacts_.empty()) {
    const auto relax = [&] {
      if (assemblies.empty())
        return contacts_.relaxApart(scene.bodies, {kContactRounds, kContactTolerance, kContactReduction});
      return contacts_.relaxInTurn(scene.bodies, {kContactRoundsWithJoints, kContactTolerance, kContactReduction},
                                   [&] { solveJoints(scene, h, time); });
    };
    change = relax();
    if (contacts_.followPressure(scene.bodies)) change = relax();
  }
  const bool stands = !unlessStruck || assemblies.empty() || !contacts_.struckUnawares();
  if (stands) {
    residual_.contactSpeed = std::max(residual_.contactSpeed, change);
    contacts_.store(scene.bodies, time);
  }
  residual_.time.contacts += Stopwatch::since(started) - (residual_.time.joints - jointsBefore);
  return stands;
}

}  // namespace calm
