// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts that sweeps do not settle: solved by what each point does, open, sticking or sliding.
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/solve/contact_solver.h"

namespace calm {

bool ContactSolver::areUnequal(const std::vector<Body>& bodies) const {
  constexpr double kRatio = 30;
  double lightest = 0, heaviest = 1e300;
  for (const int id : touches_.bodies)
    if (const Body& b = bodies[id]; b.dynamic())
      lightest = std::max(lightest, b.linearResponse), heaviest = std::min(heaviest, b.linearResponse);
  return lightest > kRatio * heaviest;
}

// What each point does decides a linear system: what is open has no impulse, what sticks keeps its place, what slides
// has friction by its normal impulse against the way it goes. Its solution tells what each does next, until none
// changes (the primal-dual active set method, which is Newton's on the contact law; Alart and Curnier, Computer Methods
// in Applied Mechanics and Engineering 92, 1991). Where many changes at a time run in circles, only the gravest is
// made, while that leads on.
bool ContactSolver::solveActive(std::vector<Grip> grips, double enough) {
  constexpr int kRounds = 40, kTogether = 12;
  // Rounds that do not better it; for few points all of them are cheap.
  constexpr int kFewPoints = 24, kPatience = 3;
  const int patience = size() <= kFewPoints ? kRounds : kPatience;
  const std::vector<Contact> before = coupled_;
  const Eigen::VectorXd speedsBefore = speeds_;
  double least = std::numeric_limits<double>::infinity();
  for (int round = 0, better = 0; round < kRounds && round <= better + patience; ++round) {
    if (!solveAt(grips)) break;
    const std::vector<Grip> next = gripsNow();
    int gravest = -1;
    double most = 0;
    for (int i = 0; i < size(); ++i)
      if (const double off = differenceOf(i, grips[i], next[i]); off > most) most = off, gravest = i;
    if (most <= enough) {
      keepWithinLaw();
      return true;
    }
    if (round < kTogether || most < least) better = round;
    least = std::min(least, most);
    if (round < kTogether)
      grips = next;
    else
      grips[gravest] = next[gravest];
  }
  coupled_ = before;
  speeds_ = speedsBefore;
  return false;
}

// Of what is pressed by far more than its own weight: softness as if it were of the mass of all that touches.
double ContactSolver::hardestSoftness(const std::vector<Body>& bodies) const {
  constexpr double kShare = 1;  // of that mass's mobility
  double mass = 0;
  for (const int id : touches_.bodies)
    if (bodies[id].dynamic()) mass += 1 / bodies[id].linearResponse;
  return softness_ * kShare / mass;
}

// Whether a point sinks in under its load, and would not if it yielded no more than that.
bool ContactSolver::isPressed(double softness) const {
  constexpr double kLoad = 30 * 9.8;  // m/s^2, that of thirty times one's own weight
  const double most = kSoftness * kLoad * span_.step;
  return std::any_of(coupled_.begin(), coupled_.end(),
                     [&](const Contact& c) { return (c.law.softness - softness) * c.push.impulse[0] > most; });
}

// With what is softer than that yielding so much only: sweeps could not settle it.
bool ContactSolver::solveHarder(double softness, const std::vector<Grip>& grips, double enough) {
  const std::vector<Contact> soft = coupled_;
  for (int i = 0; i < size(); ++i) {
    ContactLaw<double>& law = coupled_[i].law;
    if (law.softness <= softness) continue;
    if (closing_) law.target += (softness - law.softness) * given_[i];
    law.softness = softness;
    law.perSpeed = 1 / (law.mobility[0] + softness);
  }
  if (solveActive(grips, enough)) return true;
  coupled_ = soft;
  return false;
}

// What is left of pulls and of friction beyond its limit, both below what settles it.
void ContactSolver::keepWithinLaw() {
  for (auto& [law, push, friction] : coupled_) {
    double* p = push.impulse;
    p[0] = std::max(p[0], 0.0);
    const double rubs = std::hypot(p[1], p[2]), most = friction * p[0];
    if (rubs > most) p[1] *= most / rubs, p[2] *= most / rubs;
  }
}

std::vector<ContactSolver::Grip> ContactSolver::gripsNow() const {
  std::vector<Grip> grips(size());
  for (int i = 0; i < size(); ++i) grips[i] = gripOf(i);
  return grips;
}

// As they were last; what has only come to touch may well stick.
std::vector<ContactSolver::Grip> ContactSolver::gripsAtStart() const {
  std::vector<Grip> grips(size());
  for (const ContactPatch& patch : touches_.patches) {
    bool pushed = false;
    for (int i = patch.first; i < patch.end; ++i) pushed |= touches_.points[i].impulse[0] > 0;
    for (int i = patch.first; i < patch.end; ++i) {
      const ContactPoint& p = touches_.points[i];
      if (pushed ? p.impulse[0] <= 0 : p.gap > patch.pair->near) continue;
      const Eigen::Vector2d rubs = p.impulse.tail<2>();
      const bool slides = patch.friction == 0 || (pushed && rubs.norm() >= (1 - 1e-9) * patch.friction * p.impulse[0]);
      if (slides)
        grips[i] = slideOf(i, p.impulse[0], rubs);
      else
        grips[i].hold = Hold::sticks;
    }
  }
  return grips;
}

// By its law, at the present impulses and speeds.
ContactSolver::Grip ContactSolver::gripOf(int point) const {
  const auto& [law, push, friction] = coupled_[point];
  const double* p = push.impulse;
  const double* v = &speeds_[3 * point];
  const double normal = p[0] + (law.target - v[0] - law.softness * p[0]) * law.perSpeed;
  if (normal <= 0) return {};
  const double rate = 1 / std::max(law.tangents[0], law.tangents[2]);
  const Eigen::Vector2d wanted(p[1] - rate * v[1], p[2] - rate * v[2]);
  if (friction == 0 || wanted.norm() > friction * normal)
    return slideOf(point, normal, wanted - rate * Eigen::Map<const Eigen::Vector2d>(law.came));
  Grip grip;
  grip.hold = Hold::sticks;
  return grip;
}

// Of a point whose friction would be as `wanted` were there no limit to it. Slip across the way it goes turns the
// friction: it pushes back as if the point yielded in that direction.
ContactSolver::Grip ContactSolver::slideOf(int point, double normal, const Eigen::Vector2d& wanted) const {
  const auto& [law, push, friction] = coupled_[point];
  const double rubs = wanted.norm(), limit = friction * normal;
  Grip grip;
  grip.hold = Hold::slides;
  if (rubs == 0 || limit == 0) return grip;
  grip.along = wanted / rubs;
  grip.yields = std::max(rubs / limit - 1, 0.0) * std::max(law.tangents[0], law.tangents[2]);
  return grip;
}

// How much it matters that a point does something else, m/s.
double ContactSolver::differenceOf(int point, const Grip& now, const Grip& next) const {
  const auto& [law, push, friction] = coupled_[point];
  const double* p = push.impulse;
  const double* v = &speeds_[3 * point];
  const Eigen::Vector2d rubs(p[1], p[2]);
  const double across = std::max(law.tangents[0], law.tangents[2]);
  if (now.hold == Hold::open) return next.hold == Hold::open ? 0 : law.target - v[0];
  if (next.hold == Hold::open) return -p[0] * law.mobility[0];
  if (next.hold == Hold::slides) return across * (rubs - friction * p[0] * next.along).norm();
  return now.hold == Hold::slides ? std::hypot(v[1], v[2]) : 0;
}

// Sets all impulses to what these grips ask for, and the speeds with them. False if there is no answer.
bool ContactSolver::solveAt(const std::vector<Grip>& grips) {
  constexpr double kGrain = 1e-9;  // of a direction's mobility: redundant ones share alike
  constexpr int kRefinements = 3;
  // A speed that is kept, and the change of impulses by which it is.
  struct Row {
    int point;
    Vec3 speed, impulse;
    double yields, target;
  };
  std::vector<Row> rows;
  for (int i = 0; i < size(); ++i) {
    const Grip& grip = grips[i];
    auto& [law, push, friction] = coupled_[i];
    const Vec3 before = Eigen::Map<const Vec3>(push.impulse);
    Vec3 now = before, sliding = Vec3::UnitX();
    const Vec3 across(0, -grip.along[1], grip.along[0]);
    sliding.tail<2>() = friction * grip.along;
    if (grip.hold == Hold::open) now.setZero();
    if (grip.hold == Hold::slides) now = now[0] * sliding + across.dot(now) * across;
    Eigen::Map<Vec3>(push.impulse) = now;
    speeds_ += coupling_.middleCols<3>(3 * i) * (now - before);
    if (grip.hold == Hold::open) continue;
    if (grip.hold == Hold::sticks) {
      rows.push_back({i, Vec3::UnitX(), Vec3::UnitX(), law.softness, law.target});
      rows.push_back({i, Vec3::UnitY(), Vec3::UnitY(), 0, 0});
      rows.push_back({i, Vec3::UnitZ(), Vec3::UnitZ(), 0, 0});
    } else {
      rows.push_back({i, Vec3::UnitX(), sliding, law.softness, law.target});
      const double cameAcross = across.tail<2>().dot(Eigen::Map<const Eigen::Vector2d>(law.came));
      if (!grip.along.isZero(0)) rows.push_back({i, across, across, grip.yields, -cameAcross});
    }
  }
  const auto n = static_cast<Eigen::Index>(rows.size());
  if (n == 0) return true;
  Eigen::MatrixXd answers(speeds_.size(), n), system(n, n);
  for (Eigen::Index k = 0; k < n; ++k) answers.col(k) = coupling_.middleCols<3>(3 * rows[k].point) * rows[k].impulse;
  for (Eigen::Index k = 0; k < n; ++k) {
    const auto& [point, speed, impulse, yields, target] = rows[k];
    system.row(k) = speed.transpose() * answers.middleRows<3>(3 * point);
    system(k, k) += yields + kGrain * coupled_[point].law.mobility[0];
  }
  const Eigen::PartialPivLU<Eigen::MatrixXd> factor(system);
  for (int round = 0; round < kRefinements; ++round) {
    Eigen::VectorXd lack(n);
    for (Eigen::Index k = 0; k < n; ++k) {
      const auto& [point, speed, impulse, yields, target] = rows[k];
      const double given = speed.dot(Eigen::Map<const Vec3>(coupled_[point].push.impulse));
      lack[k] = target - yields * given - speed.dot(speeds_.segment<3>(3 * point));
    }
    const Eigen::VectorXd step = factor.solve(lack);
    if (!step.allFinite()) return false;
    for (Eigen::Index k = 0; k < n; ++k)
      Eigen::Map<Vec3>(coupled_[rows[k].point].push.impulse) += step[k] * rows[k].impulse;
    speeds_ += answers * step;
  }
  return true;
}

}  // namespace calm
