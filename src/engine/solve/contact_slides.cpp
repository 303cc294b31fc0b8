// SPDX-License-Identifier: GPL-3.0-or-later
// What slides: how its friction turns with the slip within a step.
#include <algorithm>
#include <limits>

#include "engine/solve/contact_solver.h"

namespace calm {

namespace {

constexpr double kNever = std::numeric_limits<double>::infinity();

// From 0 at `low` to 1 at `high`: round-off is to decide nothing.
double ramp(double x, double low, double high) {
  return std::clamp((x - low) / (high - low), 0.0, 1.0);
}

}  // namespace

// By the forces of the last step, before warmStart().
bool ContactSolver::slid(const ContactPatch& patch) const {
  constexpr double kRim = 0.98;
  double rubs = 0, limit = 0;
  for (int i = patch.first; i < patch.end; ++i) {
    rubs += touches_.points[i].impulse.tail<2>().norm();
    limit += patch.friction * touches_.points[i].impulse[0];
  }
  return limit > 0 && rubs >= kRim * limit;
}

Vec3 ContactSolver::slipOf(const ContactPatch& patch, const std::vector<Body>& bodies) {
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const Vec3 n = patch.normal();
  const Vec3 apart = b.velocityAt(patch.middle - b.position) - a.velocityAt(patch.middle - a.position);
  return apart - n.dot(apart) * n;
}

// The slip of after is that of arms which turn with their bodies; where the point slides over what turns it goes
// another way, and has come another way. Both slips together are to be twice the one in the middle.
Vec3 ContactSolver::slipBefore(int point, const std::vector<Body>& bodies, double at) const {
  const ContactPoint& p = touches_.points[point];
  const ContactPatch& patch = touches_.patches[p.patch];
  constexpr double kLeast = 1e-12;  // m^2
  const Body &a = bodies[patch.a], &b = bodies[patch.b];
  const Vec3 n = patch.normal(), slip = slipAt(point, bodies);
  const double turnA = n.dot(a.spin), turnB = n.dot(b.spin), middle = closing_ ? 0 : span_.step / 2;
  if (!patch.wandering.isZero(0))
    return slip - (span_.now - at) / middle * patch.directions.transpose() * patch.wandering;
  if (turnA == 0 && turnB == 0) return slip;
  const Vec3 armA = p.position - a.position, armB = p.position - b.position;
  // It goes with the one in whose middle it is: with the box, not with the table.
  const double outA = n.cross(patch.middle - a.position).squaredNorm() + kLeast,
               outB = n.cross(patch.middle - b.position).squaredNorm() + kLeast;
  const Vec3 goes = (outA * b.velocityAt(armB) + outB * a.velocityAt(armA)) / (outA + outB);
  const Vec3 byA = turnA * n.cross(goes - a.velocity), byB = turnB * n.cross(goes - b.velocity);
  Vec3 before = slip + (at - span_.now + middle) * patch.directions.transpose() * (byB - byA);
  before.tail<2>() -= p.carried;
  return before;
}

Vec3 ContactSolver::pressedOf(const ContactPatch& patch) const {
  Vec3 sum = Vec3::Zero();
  double load = 0;
  for (int i = patch.first; i < patch.end; ++i) {
    const ContactPoint& p = touches_.points[i];
    if (p.gap <= patch.together) load += p.impulse[0], sum += p.impulse[0] * p.position;
  }
  return load > 0 ? Vec3(sum / load) : patch.middle;
}

bool ContactSolver::followPressure(std::vector<Body>& bodies) {
  constexpr double kMatters = 1e-6;  // m/s
  bool moved = false;
  for (ContactPatch& patch : touches_.patches) {
    if (!patch.fresh || patch.twist == 0) continue;
    Vec3 rubs = Vec3::Zero();
    double furthest = 0;
    for (int i = patch.first; i < patch.end; ++i) {
      const ContactPoint& p = touches_.points[i];
      if (p.gap > patch.together) continue;
      rubs += patch.directions.rightCols<2>() * p.impulse.tail<2>();
      furthest = std::max(furthest, (p.position - patch.middle).norm());
    }
    const Vec3 n = patch.normal(), pressed = pressedOf(patch), by = patch.twist * (patch.pressed - pressed);
    const double twist = n.dot(by.cross(rubs));  // more than before
    Body &a = bodies[patch.a], &b = bodies[patch.b];
    const double turns = n.dot((a.response + b.response) * n);  // of what is not dynamic, none
    if (std::abs(turns * twist) * furthest <= kMatters) continue;
    const Vec3 lever(0, -by.dot(patch.directions.col(2)), by.dot(patch.directions.col(1)));
    const auto spinBefore = [&](const Body& body) { return n.dot(body.dynamic() ? body.spinBefore : body.spin); };
    const double turned = spinBefore(b) - spinBefore(a);
    for (int i = patch.first; i < patch.end && !slipsBefore_.empty(); ++i)
      if (touches_.points[i].gap <= patch.together) slipsBefore_[i] += turned * lever;
    patch.pressed = pressed;
    if (a.dynamic()) a.spin -= a.response * (twist * n);
    if (b.dynamic()) b.spin += b.response * (twist * n);
    moved = true;
  }
  return moved;
}

void ContactSolver::noteSlides(const std::vector<Body>& bodies, double at) {
  constexpr double kSticks = 0.9, kSlides = 0.99;  // of the limit of friction
  constexpr double kSlow = 1e-3, kBrisk = 2e-3;    // m/s; what is slower may as well be about to stick
  for (const ContactPatch& patch : touches_.patches) {
    bool any = false;
    for (int i = patch.first; i < patch.end; ++i) {
      ContactPoint& p = touches_.points[i];
      const double limit = patch.friction * p.impulse[0], sticks = kSticks * limit;
      p.came.setZero();
      if (limit <= 0 || p.impulse.tail<2>().squaredNorm() < sticks * sticks) continue;
      const Eigen::Vector2d slip = slipBefore(i, bodies, at).tail<2>();
      const double slides = ramp(p.impulse.tail<2>().norm() / limit, kSticks, kSlides);
      p.came = slides * ramp(slip.norm(), kSlow, kBrisk) * slip;
      any = true;
    }
    ContactPair::Rubbing& rubbing = patch.pair->rubbing;
    rubbing.known = any && slid(patch);
    if (rubbing.known) rubbing.slip = slipOf(patch, bodies), rubbing.at = at;
  }
}

// The slip goes on to change as it did since the last kick.
double ContactSolver::nextTurn(const std::vector<Body>& bodies, double h, double at) const {
  constexpr std::size_t kFew = 8;    // bodies
  constexpr double kMoves = 1e-6;    // m/s
  constexpr double kStraight = 0.5;  // of the slip, that may be left across
  double first = kNever;
  if (crowd_ || touches_.bodies.size() > kFew) return first;
  for (const ContactPatch& patch : touches_.patches) {
    const ContactPair::Rubbing& before = patch.pair->rubbing;
    if (!before.known || before.at >= at || !slid(patch)) continue;
    const Vec3 slip = slipOf(patch, bodies), rate = (slip - before.slip) / (at - before.at);
    const double slowing = -rate.dot(slip);
    if (slowing <= 0 || slip.norm() < kMoves) continue;
    const double after = slip.squaredNorm() / slowing, turn = at + after - span_.now;
    const bool straight = (slip + after * rate).norm() < kStraight * slip.norm();
    if (straight && turn > at - span_.now - h / 2) first = std::min(first, turn);
  }
  return first;
}

}  // namespace calm
