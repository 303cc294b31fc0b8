// SPDX-License-Identifier: GPL-3.0-or-later
// Motors and friction: what they push with, at their caps, on the way through their speed, and at a stop.
#include <algorithm>
#include <cmath>

#include "engine/solve/assembly.h"

namespace calm {

void Assembly::pushAtCaps(std::vector<Body>& bodies, double time) {
  if (!hasAxes_) return;
  creeps_ = creeps_ && revised_;
  revised_ = false;
  std::fill(turns_.begin(), turns_.end(), static_cast<unsigned char>(0));
  std::fill(slidFrom_.begin(), slidFrom_.end(), static_cast<signed char>(0));
  std::fill(heldMobility_.begin(), heldMobility_.end(), 0.0);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (n.released || state_[row] != State::set || sign_[row] == 0) continue;
      slidFrom_[row] = sign_[row];
      const AxisDef& def = axis_[row].def;
      switch (axis_[row].kind) {
        case Kind::stop:
        case Kind::friction:
          setImpulse(bodies, n, row, time * sign_[row] * def.drive());
          break;
        case Kind::spring:
          setImpulse(bodies, n, row, time * sign_[row] * def.springCap);
          break;
        case Kind::winch:
          setImpulse(bodies, n, row, -time * def.cap);
          break;
        default:
          break;
      }
    }
}

bool Assembly::drivesUp(int row) const {
  const double speed = axis_[row].def.speed;
  return state_[row] == State::atHigh ? speed >= 0 : speed > 0;
}

double Assembly::driveAtStop(int row, double time) const {
  const Axis& axis = axis_[row];
  if (axis.kind != Kind::stop) return 0;
  return time * (drivesUp(row) ? 1 : -1) * axis.def.drive();
}

double Assembly::pullOfStop(int row, double time) const {
  const double beyond = impulse_[row] - driveAtStop(row, time);
  return std::max(0.0, state_[row] == State::atHigh ? beyond : -beyond);
}

bool Assembly::holdsTooHard(const std::vector<Body>& bodies, const Node& n, int r, double time) const {
  constexpr double kFelt = 1e-3;  // m/s or rad/s
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  double excess = 0;
  if (state_[row] >= State::atLow && !def.isLocked()) excess = pullOfStop(row, time);
  if (state_[row] == State::drive) excess = std::abs(impulse_[row]) - def.drive() * time;
  return excess > 0 && excess * ownMobility(bodies, n, r) > kFelt;
}

// Which side of the edge a drive is on matters the less the more often it has changed.
double Assembly::leewayOf(int row) const {
  constexpr std::array kLeeway{0.0, 1e-4, 1e-3, 1e-2, 0.05, 0.1, 0.2};
  return kLeeway[std::min<std::size_t>(turns_[row], kLeeway.size() - 1)];
}

// The drive goes on as it did, or at its cap.
void Assembly::letGo(std::vector<Body>& bodies, const Node& n, int row, double time) {
  if (state_[row] == State::drive) {
    const int sign = impulse_[row] > 0 ? 1 : -1;
    return become(bodies, n, row, State::set, sign, time * sign * axis_[row].def.drive());
  }
  const bool drives = axis_[row].kind == Kind::stop && axis_[row].def.hasDrive();
  const int sign = drivesUp(row) ? 1 : -1;
  become(bodies, n, row, State::set, drives ? sign : 0, driveAtStop(row, time));
}

bool Assembly::holdsTooHard(const std::vector<Body>& bodies, double time) const {
  if (!hasAxes_) return false;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r)
      if (holdsTooHard(bodies, n, r, time)) return true;
  return false;
}

void Assembly::letGoWhereTooHard(std::vector<Body>& bodies, double h, double time) {
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r)
      if (holdsTooHard(bodies, n, r, time)) letGo(bodies, n, n.offset + r, time);
  if (hasAxes_) build(bodies, h);
}

double Assembly::mobilityAmongHeld(const Node& n, int r) {
  if (const double known = heldMobility_[n.offset + r]; known > 0) return known;
  int place = n.place;
  while (usedRow(n, place - n.place) != r) ++place;
  std::fill(delta_.begin(), delta_.end(), 0.0);
  delta_[place] = 1;
  cholesky_.solve(delta_.data());
  return 1 / delta_[place];
}

double Assembly::excessOf(const Node& n, int r, double h, double time) const {
  const int row = n.offset + r;
  // As it was half a step ago, when its coordinate had another slope.
  const bool opening = time < h && lookAhead_ > 0;
  const double before = rateNow_[row] - (opening ? 0 : h / 2 * bendOf(row));
  return -slidFrom_[row] * (before - axis_[row].def.speed);
}

// A drive that slid on one side of its speed and ends up on the other passed it within the kick, and its cap turned
// round with it: to push with one of both for all of the kick would be wrong by up to twice its impulse.
Assembly::Slip Assembly::slipOf(const Node& n, int r, double h, double time) {
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  const double most = def.drive() * time, p = impulse_[row];
  const double slack = 1e-12 * std::abs(p) + leewayOf(row) * most;
  const int came = slidFrom_[row];
  if (came >= 0 && p > most + slack) return {1, most};
  if (came <= 0 && p < -most - slack) return {-1, -most};
  if (came == 0) return {0, p};
  const double excess = excessOf(n, r, h, time);
  const double first = came * most, turned = -first;
  if (excess <= 0) return {came * (p - turned) < -slack ? -came : 0, turned};
  const double mobility = mobilityAmongHeld(n, r);
  // Whether it could hold its speed for all of the kick.
  if (-came * (p - turned) + excess / mobility <= slack) return {0, p};
  const double share = excess / (excess + mobility * std::abs(p - first));
  return {-came, share * first + (1 - share) * turned};
}

}  // namespace calm
