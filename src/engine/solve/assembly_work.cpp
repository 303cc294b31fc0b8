// SPDX-License-Identifier: GPL-3.0-or-later
// What an assembly's free axes do: the work of their rows, and what springs hold.
#include <algorithm>
#include <cmath>

#include "engine/solve/assembly.h"

namespace calm {

void Assembly::noteWork(const std::vector<Body>& bodies, Vec3 Body::*spin) {
  if (!hasAxes_) return;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      work_[row] = impulse_[row] * (rateNow_[row] + rateOf(n, r, bodies, spin)) / 2;
      if (bringsEnergy(row))
        driven_ += work_[row];
      else
        passive_[row] += work_[row];
    }
}

void Assembly::addWork(int node, JointReading& reading) const {
  const Node& n = nodes_[node];
  for (int r = 0; n.axes && r < n.rows; ++r) reading.work[axis_[n.offset + r].number] += work_[n.offset + r];
}

void Assembly::openWork() {
  driven_ = 0;
  passive_.assign(state_.size(), 0);
  storedBefore_.assign(state_.size(), 0);
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && r < n.rows; ++r) storedBefore_[n.offset + r] = storedIn(n, r);
}

// What takes energy brings none but what it had in store; what else it may seem to bring came from nowhere.
Assembly::AxisWork Assembly::axisWork() const {
  AxisWork sum{driven_, 0};
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (takesEnergy(row)) sum.taken += std::min(passive_[row] + storedIn(n, r) - storedBefore_[row], 0.0);
    }
  return sum;
}

bool Assembly::takesEnergy(int row) const {
  const Axis& axis = axis_[row];
  const AxisDef& def = axis.def;
  if (axis.kind == Kind::spring) return def.damping > 0 || def.dampingRatio > 0 || def.springCap < kNoLimit;
  const bool sendsAllBack = def.restitution == 1 && def.cap == 0 && def.friction == 0;
  return axis.kind == Kind::winch || axis.kind == Kind::friction ||
         (axis.kind == Kind::softStop && def.stopDamping > 0) ||
         (axis.kind == Kind::stop && !def.isLocked() && !sendsAllBack);
}

bool Assembly::isOnSlowStop(double h) const {
  constexpr double kSlow = 0.1;  // (omega h)^2
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      const bool pushed = passive_[row] != 0 || storedBefore_[row] > 0;
      if (axis_[row].kind == Kind::softStop && pushed && hardnessOf(n, r, h) < kSlow) return true;
    }
  return false;
}

double Assembly::workAtHardStops(double h) const {
  double sum = 0;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (axis_[row].kind != Kind::softStop || followsStop(n, r, h)) continue;
      sum += std::abs(passive_[row]) + std::abs(storedIn(n, r) - storedBefore_[row]);
    }
  return sum;
}

double Assembly::storedIn(const Node& n, int r) const {
  const Axis& axis = axis_[n.offset + r];
  const AxisDef& def = axis.def;
  const double at = fresh_[n.memory + r] - offset_[n.offset + r];
  if (axis.kind == Kind::spring) return springEnergy(def, at - def.target);
  if (axis.kind != Kind::softStop) return 0;
  const double beyond = std::max({at - def.high, def.low - at, 0.0});
  return 0.5 * def.stopStiffness * beyond * beyond;
}

double Assembly::storedEnergy() const {
  double sum = 0;
  for (const Node& n : nodes_)
    for (int r = 0; n.ruled() && !n.released && r < n.rows; ++r) sum += storedIn(n, r);
  if (!isCompliant() && !looped_) return sum;
  // What is held yields by its load.
  for (const Node& n : nodes_)
    for (int row = n.offset; !n.released && row < n.offset + n.rows; ++row)
      if (held(row)) sum += 0.5 * compliance_[row] * force_[row] * force_[row];
  return sum;
}

double Assembly::workOfMoved(const std::vector<Body>& bodies) const {
  double sum = 0;
  for (const Node& n : nodes_)
    for (int side = 0; !n.released && side < n.sides(); ++side) {
      const Body& body = bodies[bodyOf(n, side)];
      if (!body.isMoved()) continue;
      for (int r = 0; r < n.rows; ++r)
        sum -= impulse_[n.offset + r] * jacobianOf(n, r, side).rate(body.velocity, body.spin);
    }
  return sum;
}

double Assembly::workOfSolve(const std::vector<Body>& bodies) const {
  double sum = 0;
  if (!hasAxes_) return sum;
  for (const Node& n : nodes_)
    for (int r = 0; n.ruled() && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (!held(row)) sum += impulse_[row] * (workRates_[row] + rateOf(n, r, bodies)) / 2;
    }
  return sum;
}

}  // namespace calm
