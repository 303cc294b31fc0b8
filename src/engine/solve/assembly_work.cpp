// SPDX-License-Identifier: GPL-3.0-or-later
// What an assembly's free axes do: the work of their rows, and what springs hold.
#include <algorithm>

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
      else if (takesEnergy(row))
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
  return axis.kind == Kind::winch || axis.kind == Kind::softStop ||
         (axis.kind == Kind::stop && !def.isLocked() && !sendsAllBack);
}

double Assembly::storedIn(const Node& n, int r) const {
  const Axis& axis = axis_[n.offset + r];
  const AxisDef& def = axis.def;
  const double at = fresh_[n.memory + r];
  if (axis.kind == Kind::spring) return springEnergy(def, at - def.target);
  if (axis.kind != Kind::softStop) return 0;
  const double beyond = std::max({at - def.high, def.low - at, 0.0});
  return 0.5 * def.stopStiffness * beyond * beyond;
}

double Assembly::storedEnergy() const {
  double sum = 0;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) sum += storedIn(n, r);
  return sum;
}

double Assembly::workOfSolve(const std::vector<Body>& bodies) const {
  double sum = 0;
  if (!hasAxes_) return sum;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (!held(row)) sum += impulse_[row] * (workRates_[row] + rateOf(n, r, bodies)) / 2;
    }
  return sum;
}

}  // namespace calm
