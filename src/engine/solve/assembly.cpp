// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/assembly.h"

#include <algorithm>
#include <cmath>

#include "engine/solve/block_size.h"
#include "engine/solve/geometric_stiffness.h"

namespace calm {

namespace {

// Lengths of the values of rows of which the first so many are linear.
template <class Value>
RowErrors lengthsOf(int linear, int rows, const Value& value) {
  const auto length = [&](int from, int to) {
    double s = 0;
    for (int r = from; r < to; ++r) {
      const double e = value(r);
      s += e * e;
    }
    return std::sqrt(s);
  };
  return {length(0, linear), length(linear, rows)};
}

}  // namespace

void Assembly::evaluateNode(const Node& n, const std::vector<Body>& bodies, RowBlock& rows) {
  const JointGeometry& geometry = parts_[n.index].geometry;
  if (!n.axes) return evaluateRows(n.type, geometry, bodies[n.a], bodies[n.b], rows);
  for (int r = 0; r < n.rows; ++r) {
    Axis& axis = axis_[n.offset + r];
    if (n.riders > 0) rows.riders = {&bodies, &riderFresh_[n.riderMemory + 6 * n.riders * r]};
    evaluateCoordinate(n.type, axis.number, geometry, bodies[n.a], bodies[n.b], axis.winding, rows);
  }
}

double Assembly::errorOf(const std::vector<double>& memory, const Node& n, int r) const {
  const double value = memory[n.memory + r];  // errors come first in a node's memory
  if (!n.axes) return value;
  const int row = n.offset + r;
  switch (state_[row]) {
    case State::atLow:
      return value - axis_[row].def.low;
    case State::atHigh:
      return value - axis_[row].def.high;
    default:
      return 0;
  }
}

void Assembly::evaluate(const std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    RowBlock rows = block(fresh_, n);
    evaluateNode(n, bodies, rows);
  }
}

RowErrors Assembly::lack(double h, double share) {
  RowErrors worst;
  const double rate = 1 / h;
  // With lambda = p / (share h) and alpha = gamma share h^2; what is there for round-off only has no share in it.
  const auto yieldingOf = [&](int row) { return compliance_[row] > 0 ? h : h / share; };
  const auto note = [](double& most, double lack) {
    if (!(std::abs(lack) <= most)) most = std::abs(lack);  // a NaN stays
  };
  for (const Node& n : nodes_) {
    if (n.released) {
      std::fill_n(&delta_[n.place], n.used, 0.0);
      continue;
    }
    const int linear = n.rows - n.angular;
    if (!n.ruled()) {
      const double yielding = yieldingOf(n.offset);  // all its rows are alike
      const double *errors = &fresh_[n.memory], *offsets = &offset_[n.offset], *gammas = &gamma_[n.offset],
                   *impulses = &impulse_[n.offset];
      withSize(n.rows, [&]<int N>() {
        double lacks[N];
        for (int r = 0; r < N; ++r) lacks[r] = errors[r] - offsets[r] + yielding * gammas[r] * impulses[r];
        for (int r = 0; r < N; ++r) delta_[n.place + r] = -rate * lacks[r];
        for (int r = 0; r < N; ++r) note(r < linear ? worst.linear : worst.angular, lacks[r]);
      });
      continue;
    }
    for (int i = 0; i < n.used; ++i) {
      const int r = usedRow(n, i), row = n.offset + r;
      const bool drives = state_[row] == State::drive;
      delta_[n.place + i] = 0;
      if (!held(row) && !drives) continue;  // springs keep to their own law
      // A drive that runs is to have come as far as its speed says.
      const double error = drives ? fresh_[n.memory + r] - rows_[n.memory + r] - h * axis_[row].def.speed
                                  : errorOf(fresh_, n, r) - offset_[row];
      const double lack = error + yieldingOf(row) * gamma_[row] * impulse_[row];
      delta_[n.place + i] = -rate * lack;
      note(r < linear ? worst.linear : worst.angular, lack);
    }
  }
  return worst;
}

void Assembly::adopt() {
  rows_.swap(fresh_);
  riderRows_.swap(riderFresh_);
}

void Assembly::aimAtPosition(double h, double share) {
  lookAhead_ = h;
  const double rate = 1 / h, bend = h * h / (curvatureStep_ * curvatureStep_);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      double ahead = n.axes ? errorOf(rows_, n, r) : rows_[n.memory + r];
      ahead = n.axes && state_[row] == State::drive ? -h * axis_[row].def.speed : ahead - offset_[row];
      target_[row] = -rate * (ahead + bend * curvature_[row]);
      impulse_[row] = 0;
    }
  aimSprings(h, share);
}

void Assembly::aimAtVelocity(double h, double rate) {
  lookAhead_ = h;
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      target_[row] = speedOf(row) - rate * errorOf(rows_, n, r) / h;
      impulse_[row] = 0;
    }
  aimSprings(h, 1);
}

void Assembly::aimAtRest(double h) {
  lookAhead_ = 0;
  for (std::size_t row = 0; row < target_.size(); ++row) {
    target_[row] = speedOf(static_cast<int>(row)) + gamma_[row] * force_[row] * h / 2;
    impulse_[row] = 0;
  }
  aimSprings(h, 0.5);
}

void Assembly::relax(std::vector<Body>& bodies) {
  noteLack(bodies);
  apply(bodies);
}

void Assembly::noteLack(const std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    double rates[kMaxRows];
    ratesOf(n, bodies, &Body::spin, rates);
    if (n.used == n.rows && !n.released) {
      for (int i = 0, row = n.offset; i < n.rows; ++i, ++row)
        delta_[n.place + i] = target_[row] - rates[i] - gamma_[row] * impulse_[row];
      continue;
    }
    for (int i = 0; i < n.used; ++i) {
      const int row = n.offset + usedRow(n, i);
      delta_[n.place + i] = n.released ? 0 : target_[row] - rates[i] - gamma_[row] * impulse_[row];
    }
  }
}

void Assembly::respondHalf(BodyId body, const Mat3& velocities, const Mat3& spins, double* into, int stride) const {
  const auto found = nodesOn_.find(body);
  if (found == nodesOn_.end()) return;
  for (const auto& [k, side] : found->second) {
    const Node& n = nodes_[k];
    for (int i = 0; i < n.used; ++i) {
      const Jacobian j = jacobianOf(n, usedRow(n, i), side);
      const Vec3 rates = velocities.transpose() * j.linear + spins.transpose() * j.angular;
      for (int column = 0; column < 3; ++column) into[(n.place + i) * stride + column] += rates[column];
    }
  }
}

void Assembly::apply(std::vector<Body>& bodies) {
  cholesky_.solve(delta_.data());
  push(bodies);
}

void Assembly::push(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    if (n.used == 0) continue;
    double* all = &impulse_[n.offset];
    const double* more = &delta_[n.place];
    withSize(n.used, [&]<int N>() {
      if (n.used == n.rows)
        for (int i = 0; i < N; ++i) all[i] += more[i];
      else
        for (int i = 0; i < N; ++i) all[usedRow(n, i)] += more[i];
    });
    push(bodies, n, &delta_[n.place]);
  }
}

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  const double perTime = 1 / time;
  for (const Node& n : nodes_) {
    const double *before = &rows_[n.memory], *after = &fresh_[n.memory];  // errors come first
    double rates[kMaxRows] = {};
    if (!n.axes) ratesOf(n, bodies, &Body::kickedSpin, rates);
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double moved = after[r] - before[r];
      if (n.axes) grazed_[row] = held(row) && force_[row] == 0 && axis_[row].sendsBack();
      force_[row] = impulse_[row] * perTime;
      curvature_[row] = moved - h * (n.axes ? rateOf(n, r, bodies, &Body::kickedSpin) : rates[r]);
      if (!n.axes) continue;
      if (!held(row)) offset_[row] = 0;
      axis_[row].winding.before = axis_[row].winding.now;
    }
  }
}

void Assembly::acceptLoose(double time) {
  forgetCurvature();
  for (std::size_t row = 0; row < force_.size(); ++row) force_[row] = impulse_[row] / time;
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (n.axes || state_[row] != State::spring) offset_[row] = errorOf(fresh_, n, r);
      // A stop that was to be reached and was not is no error.
      const bool stops = state_[row] >= State::atLow && !axis_[row].def.isLocked();
      if (stops && (state_[row] == State::atHigh) == (offset_[row] < 0)) offset_[row] = 0;
      axis_[row].winding.before = axis_[row].winding.now;
    }
}

void Assembly::forgiveMisfit(const std::function<bool(JointId)>& isNew) {
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r)
      if (state_[n.offset + r] != State::spring || isNew(n.joint)) offset_[n.offset + r] = errorOf(fresh_, n, r);
}

bool Assembly::isCompliant() const {
  return std::any_of(parts_.begin(), parts_.end(), [](const Part& p) { return p.compliance > 0; });
}

void Assembly::remember(Memory& m) const {
  m.impulse = impulse_, m.curvature = curvature_, m.force = force_, m.offset = offset_;
  m.curvatureStep = curvatureStep_, m.budget = budget_, m.surplus = surplus_, m.liveliest = liveliest_;
  m.fallback = fallback_;
  if (!hasAxes_) return;
  m.creeps = creeps_, m.revised = revised_;
  m.state = state_, m.sign = sign_, m.grazed = grazed_, m.axis = axis_;
  m.rateBefore = rateBefore_, m.rateEarlier = rateEarlier_, m.rateNow = rateNow_, m.rateAtRest = rateAtRest_;
  m.springStep = springStep_;
  m.closingSpan = closingSpan_, m.lookAhead = lookAhead_;
}

void Assembly::recall(const Memory& m) {
  impulse_ = m.impulse, curvature_ = m.curvature, force_ = m.force, offset_ = m.offset;
  curvatureStep_ = m.curvatureStep, budget_ = m.budget, surplus_ = m.surplus, liveliest_ = m.liveliest;
  fallback_ = m.fallback;
  if (!hasAxes_) return;
  creeps_ = m.creeps, revised_ = m.revised;
  state_ = m.state, sign_ = m.sign, grazed_ = m.grazed, axis_ = m.axis;
  rateBefore_ = m.rateBefore, rateEarlier_ = m.rateEarlier, rateNow_ = m.rateNow, rateAtRest_ = m.rateAtRest;
  springStep_ = m.springStep;
  closingSpan_ = m.closingSpan, lookAhead_ = m.lookAhead;
}

void Assembly::fadeOffset(double h) {
  if (std::all_of(offset_.begin(), offset_.end(), [](double o) { return o == 0; })) return;
  double fade = 0, factor = 1;
  for (const Node& n : nodes_) {
    if (parts_[n.index].fade != fade) fade = parts_[n.index].fade, factor = std::exp(-h / fade);
    for (int r = 0; r < n.rows; ++r) offset_[n.offset + r] *= factor;
  }
}

bool Assembly::bendOfLocks(const std::vector<Body>& bodies, std::vector<double>& bend) const {
  bend.assign(target_.size(), 0);
  // Of a vector that is fixed in a body, d/dt and d2/dt2 while nothing turns the body.
  struct Turning {
    Vec3 spin, gathering;
    Vec3 rate(const Vec3& v) const { return spin.cross(v); }
    Vec3 bend(const Vec3& v) const { return spin.cross(spin.cross(v)) + gathering.cross(v); }
  };
  for (const Node& n : nodes_) {
    if (n.axes || n.kept.along > 0 || !n.isShort()) return false;
    const RowBlock rows = block(fresh_, n);
    const Body &a = bodies[n.a], &b = bodies[n.b];
    const Turning ofA{a.spin, a.freeTurning()}, ofB{b.spin, b.freeTurning()};
    double* own = &bend[n.offset];
    if (n.kept.pivot > 0) Eigen::Map<Vec3>{own} = ofB.bend(rows.armB()) - ofA.bend(rows.armA());
    for (int i = 0; i < n.kept.turning; ++i) {  // of u . w
      const Vec3 u = rows.u(i), w = rows.w(i);
      own[n.kept.pivot + i] = ofA.bend(u).dot(w) + 2 * ofA.rate(u).dot(ofB.rate(w)) + u.dot(ofB.bend(w));
    }
  }
  return true;
}

void Assembly::copyErrors(std::vector<double>& errors) const {
  errors.resize(target_.size());
  for (const Node& n : nodes_) std::copy_n(block(fresh_, n).error(), n.rows, &errors[n.offset]);
}

void Assembly::addStiffness(std::vector<Body>& bodies, double time) const {
  const double rate = 1 / time;
  for (const Node& n : nodes_) {
    const int linear = n.rows - n.angular;
    if (n.released || (n.axes && linear == 0)) continue;
    const RowBlock rows = block(rows_, n);
    const Vec3 force = rate * sumAlong(n, rows, &impulse_[n.offset]);
    // C = u . w has the second derivative sym(u w^T) - (u . w) I in the angle of either body.
    Stiffening turning;
    for (int i = 0; !n.axes && i < n.angular; ++i)
      turning.add(rows.u(i), impulse_[n.offset + linear + i] * rate * rows.w(i));
    for (int side = 0; side < 2; ++side) {
      if (!(side == 0 ? n.dynamicA : n.dynamicB)) continue;
      Body& body = bodies[bodyOf(n, side)];
      body.stiffened = true;
      Stiffening all = turning;
      Vec3 f = side == 0 ? -force : force;
      for (int r = n.firstWhole(); r < linear; ++r) f += impulse_[n.offset + r] * rate * jacobianOf(n, r, side).linear;
      // A force f at r gives d(r x f)/d(angle) = -[(f.r) I - r f^T].
      if (linear > 0) all.add(Eigen::Map<const Vec3>(rows.arm(side)), f);
      all.addTo(body.stiffness);
    }
  }
}

void Assembly::impulseOf(int node, Vec3& linear, Vec3& angular) const {
  const Node& n = nodes_[node];
  linear.setZero();
  angular.setZero();
  if (n.released) return;
  const double* p = &impulse_[n.offset];
  const RowBlock rows = block(rows_, n);
  for (int r = n.firstWhole(); r < n.firstTurning(); ++r) {
    const Jacobian j = jacobianOf(n, r, 1);
    linear += p[r] * j.linear;
    angular += p[r] * j.angular;
  }
  if (!n.isShort()) angular -= rows.armB().cross(linear);
  const double* turn = rows.vector(n.firstTurning());
  for (int r = n.firstTurning(); r < n.rows; ++r, turn += 3)
    for (int k = 0; k < 3; ++k) angular[k] += p[r] * turn[k];
  // What others in short push with goes through the pivot.
  linear += sumAlong(n, rows, p);
}

RowErrors Assembly::errorsOf(int node) const {
  const Node& n = nodes_[node];
  const double* errors = &fresh_[n.memory];
  if (!n.axes) return lengthsOf(n.rows - n.angular, n.rows, [&](int r) { return errors[r]; });
  return lengthsOf(n.rows - n.angular, n.rows, [&](int r) { return errorOf(fresh_, n, r); });
}

RowErrors Assembly::missesOf(int node) const {
  const Node& n = nodes_[node];
  return lengthsOf(n.rows - n.angular, n.rows, [&](int r) {
    const int row = n.offset + r;
    return state_[row] == State::spring ? 0 : errorOf(fresh_, n, r) + compliance_[row] * force_[row];
  });
}

}  // namespace calm
