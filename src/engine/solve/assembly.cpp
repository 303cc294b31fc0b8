// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/assembly.h"

#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/solve/block_size.h"

namespace calm {

namespace {

// Least regularisation relative to a row's own diagonal; keeps the factorisation's round-off out of sight.
constexpr double kRelativeFloor = 1e-13;
constexpr double kRelativeFloorInLoops = 1e-11;

double dot6(const double* x, const double* y) {
  return x[0] * y[0] + x[1] * y[1] + x[2] * y[2] + x[3] * y[3] + x[4] * y[4] + x[5] * y[5];
}

// out (6) = [m^-1 l, W a] for one side of a row.
void respond(const double* row, const Body& body, double* out) {
  const Mat3& w = body.response;
  for (int i = 0; i < 3; ++i) {
    out[i] = row[i] * body.linearResponse;
    out[3 + i] = w(i, 0) * row[3] + w(i, 1) * row[4] + w(i, 2) * row[5];
  }
}

}  // namespace

void Assembly::evaluateNode(const Node& n, const std::vector<Body>& bodies, RowBlock& rows) {
  if (!n.axes) return evaluateRows(n.type, n.geometry, bodies[n.a], bodies[n.b], rows);
  for (int r = 0; r < n.rows; ++r) {
    Axis& axis = axis_[n.offset + r];
    if (n.riders > 0) rows.riders = {&bodies, &riderFresh_[n.riderMemory + 6 * n.riders * r]};
    evaluateCoordinate(n.type, axis.number, n.geometry, bodies[n.a], bodies[n.b], axis.winding, rows);
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

RowErrors Assembly::residual(double h, double share) const {
  RowErrors worst;
  for (const Node& n : nodes_) {
    if (n.released) continue;
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (!held(row)) continue;
      double& w = r < n.rows - n.angular ? worst.linear : worst.angular;
      const double e = std::abs(errorOf(fresh_, n, r) - offset_[row] + h * gamma_[row] * impulse_[row] / share);
      if (!(e <= w)) w = e;  // a NaN stays
    }
  }
  return worst;
}

void Assembly::adopt() {
  rows_.swap(fresh_);
  riderRows_.swap(riderFresh_);
}

void Assembly::factor(const std::vector<Body>& bodies, double h) {
  for (const Node& n : nodes_) {
    const double* jacobian = block(rows_, n).jacobian();
    double* w = &response_[n.offset * kRowWidth];
    for (int r = 0; r < n.rows; ++r) {
      if (n.dynamicA) respond(jacobian + r * kRowWidth, bodies[n.a], w + r * kRowWidth);
      if (n.dynamicB) respond(jacobian + r * kRowWidth + 6, bodies[n.b], w + r * kRowWidth + 6);
    }
    for (int side = 2; side < n.sides(); ++side)
      for (int r = 0; bodies[n.body(side)].dynamic() && r < n.rows; ++r) {
        const int at = n.riderMemory + 6 * (n.riders * r + side - 2);
        respond(&riderRows_[at], bodies[n.body(side)], &riderResponse_[at]);
      }
  }
  build(h);
}

void Assembly::build(double h) {
  cholesky_.clear();
  const double inverseH2 = 1 / (h * h);
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    const Node& n = nodes_[k];
    const double* jacobian = block(rows_, n).jacobian();
    const double* w = &response_[n.offset * kRowWidth];
    double* d = cholesky_.diagonal(static_cast<int>(k));
    withSize(n.rows, [&]<int N>() {
      for (int r = 0; r < N; ++r)
        for (int c = 0; c <= r; ++c)
          d[r * N + c] = dot6(w + r * kRowWidth, jacobian + c * kRowWidth) +
                         dot6(w + r * kRowWidth + 6, jacobian + c * kRowWidth + 6);
    });
    for (int side = 2; side < n.sides(); ++side) {
      const SideRows j = jacobianOf(n, side), answer = responseOf(n, side);
      for (int r = 0; r < n.rows; ++r)
        for (int c = 0; c <= r; ++c) d[r * n.rows + c] += dot6(answer[r], j[c]);
    }
    const double floor = looped_ ? kRelativeFloorInLoops : kRelativeFloor;
    for (int r = 0; r < n.rows; ++r) {
      double& diagonal = d[r * n.rows + r];
      const int row = n.offset + r;
      if (n.axes && (axis_[row].kind == Kind::spring || state_[row] == State::spring)) {
        const SpringLaw law = lawOf(row);
        // The squared frequency, in steps, of the body with all its springs on this row's axis.
        const double shareA = dot6(w + r * kRowWidth, jacobian + r * kRowWidth);
        const bool angular = r >= n.rows - n.angular;
        const double together =
            h * h * (shareA * stiffnessOn(n.a, angular) + (diagonal - shareA) * stiffnessOn(n.b, angular));
        springStep_[row] = springStep(law.stiffness, law.damping, 1 / diagonal, h, together > 2);
        // A soft stop that is met within the step takes backward Euler's law, which never gives more than it took.
        if (axis_[row].kind == Kind::softStop && stretchOf(n, r) * sign_[row] < 0) {
          const double stiff = std::max(h * h * law.stiffness + h * law.damping, springStep_[row].inertia * 1e-9);
          springStep_[row] = {stiff, stiff};
        }
        gamma_[row] = 1 / springStep_[row].inertia;
      } else {
        gamma_[row] = std::max(compliance_[row] * inverseH2, floor * diagonal);
      }
      diagonal += gamma_[row];
    }
  }
  for (const Coupling& c : couplings_) {
    const Node &row = nodes_[c.row], &column = nodes_[c.column];
    const SideRows w = responseOf(row, c.rowSide), j = jacobianOf(column, c.columnSide);
    double* into = cholesky_.block(c.block);
    withSize(column.rows, [&]<int N>() {
      for (int r = 0; r < row.rows; ++r)
        for (int q = 0; q < N; ++q) into[r * N + q] += dot6(w[r], j[q]);
    });
  }
  takeOutRows();
  cholesky_.factor();
}

// Rows that carry a set impulse, and those of released nodes, become rows of the identity.
void Assembly::takeOutRows() {
  const auto out = [&](const Node& n, int r) { return n.released || !inSystem(n.offset + r); };
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    const Node& n = nodes_[k];
    if (!n.released && !n.axes) continue;
    double* d = cholesky_.diagonal(static_cast<int>(k));
    for (int r = 0; r < n.rows; ++r)
      for (int c = 0; c < n.rows; ++c)
        if (out(n, r) || out(n, c)) d[r * n.rows + c] = r == c;
  }
  for (const Coupling& c : couplings_) {
    const Node &row = nodes_[c.row], &column = nodes_[c.column];
    if (!row.released && !row.axes && !column.released && !column.axes) continue;
    double* block = cholesky_.block(c.block);
    for (int r = 0; r < row.rows; ++r)
      for (int q = 0; q < column.rows; ++q)
        if (out(row, r) || out(column, q)) block[r * column.rows + q] = 0;
  }
}

void Assembly::aimAtPosition(double h, double share) {
  lookAhead_ = h;
  const double bend = h * h / (curvatureStep_ * curvatureStep_);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const bool drives = state_[row] == State::drive;
      target_[row] =
          drives ? axis_[row].def.speed : -(errorOf(rows_, n, r) - offset_[row] + bend * curvature_[row]) / h;
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

double Assembly::riderRate(const Node& n, int r, const std::vector<Body>& bodies, Vec3 Body::*spin) const {
  double sum = 0;
  for (int side = 2; side < n.sides(); ++side) {
    const double* j = jacobianOf(n, side)[r];
    const Body& body = bodies[n.body(side)];
    sum += Vec3(j[0], j[1], j[2]).dot(body.velocity) + Vec3(j[3], j[4], j[5]).dot(body.*spin);
  }
  return sum;
}

void Assembly::relax(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    const double* jacobian = block(rows_, n).jacobian();
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double v = rowVelocity(jacobian + r * kRowWidth, a.velocity, a.spin, b.velocity, b.spin) +
                       (n.riders > 0 ? riderRate(n, r, bodies) : 0);
      delta_[row] = n.released || !inSystem(row) ? 0 : target_[row] - v - gamma_[row] * impulse_[row];
    }
  }
  apply(bodies);
}

void Assembly::respondHalf(BodyId body, const Vec3& velocity, const Vec3& spin, double* into) const {
  const auto found = nodesOn_.find(body);
  if (found == nodesOn_.end()) return;
  for (const auto& [k, side] : found->second) {
    const Node& n = nodes_[k];
    const SideRows jacobian = jacobianOf(n, side);
    for (int r = 0; r < n.rows; ++r) {
      const double* j = jacobian[r];
      if (!n.released && inSystem(n.offset + r))
        into[n.offset + r] += Vec3(j[0], j[1], j[2]).dot(velocity) + Vec3(j[3], j[4], j[5]).dot(spin);
    }
  }
}

void Assembly::correct(std::vector<Body>& bodies, double h, double share) {
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      // C + alpha lambda, with lambda = p / (share h) and alpha = gamma h^2. Springs and drives keep to their own laws.
      const bool out = n.released || !held(row);
      delta_[row] = out ? 0 : -((errorOf(fresh_, n, r) - offset_[row]) / h + gamma_[row] * impulse_[row] / share);
    }
  apply(bodies);
}

void Assembly::apply(std::vector<Body>& bodies) {
  cholesky_.solve(delta_.data());
  for (const Node& n : nodes_) applyTo(bodies, n);
}

void Assembly::applyTo(std::vector<Body>& bodies, const Node& n) {
  const double* w = &response_[n.offset * kRowWidth];
  double change[kRowWidth] = {};
  for (int r = 0; r < n.rows; ++r) {
    const double p = delta_[n.offset + r];
    impulse_[n.offset + r] += p;
    for (int i = 0; i < kRowWidth; ++i) change[i] += w[r * kRowWidth + i] * p;
  }
  const auto add = [&](Body& body, const double* c) {
    for (int i = 0; i < 3; ++i) body.velocity[i] += c[i], body.spin[i] += c[3 + i];
  };
  if (n.dynamicA) add(bodies[n.a], change);
  if (n.dynamicB) add(bodies[n.b], change + 6);
  for (int side = 2; side < n.sides(); ++side) {
    const SideRows answer = responseOf(n, side);
    double onRider[6] = {};
    for (int r = 0; r < n.rows; ++r)
      for (int i = 0; i < 6; ++i) onRider[i] += answer[r][i] * delta_[n.offset + r];
    if (bodies[n.body(side)].dynamic()) add(bodies[n.body(side)], onRider);
  }
}

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  for (const Node& n : nodes_) {
    const RowBlock before = block(rows_, n), after = block(fresh_, n);
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const double v =
          rowVelocity(before.jacobian() + r * kRowWidth, a.velocity, a.kickedSpin, b.velocity, b.kickedSpin) +
          (n.riders > 0 ? riderRate(n, r, bodies, &Body::kickedSpin) : 0);
      const double moved = after.error()[r] - before.error()[r];
      curvature_[n.offset + r] = moved - h * v;
      force_[n.offset + r] = impulse_[n.offset + r] / time;
      if (!held(n.offset + r)) offset_[n.offset + r] = 0;
      if (n.axes) work_[n.offset + r] = force_[n.offset + r] * moved, noteDriveWork(n.offset + r);
    }
  }
}

void Assembly::acceptLoose(double time) {
  forgetCurvature();
  for (std::size_t row = 0; row < force_.size(); ++row) force_[row] = impulse_[row] / time;
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      offset_[n.offset + r] = errorOf(fresh_, n, r);
      work_[n.offset + r] = impulse_[n.offset + r] * (fresh_[n.memory + r] - rows_[n.memory + r]) / time;
      noteDriveWork(n.offset + r);
    }
}

void Assembly::forgiveMisfit() {
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) offset_[n.offset + r] = errorOf(fresh_, n, r);
}

void Assembly::fadeOffset(double h) {
  double fade = 0, factor = 1;
  for (const Node& n : nodes_) {
    if (n.fade != fade) fade = n.fade, factor = std::exp(-h / fade);
    for (int r = 0; r < n.rows; ++r) offset_[n.offset + r] *= factor;
  }
}

void Assembly::copyErrors(std::vector<double>& errors) const {
  errors.resize(target_.size());
  for (const Node& n : nodes_) std::copy_n(block(fresh_, n).error(), n.rows, &errors[n.offset]);
}

void Assembly::addStiffness(std::vector<Body>& bodies, double time) const {
  const double rate = 1 / time;
  for (const Node& n : nodes_) {
    if (n.released) continue;
    const RowBlock rows = block(rows_, n);
    const double* jacobian = rows.jacobian();
    const int angular = n.angular, linear = n.rows - angular;
    Vec3 onA = Vec3::Zero(), onB = Vec3::Zero();
    for (int r = 0; r < linear; ++r)
      for (int i = 0; i < 3; ++i) {
        onA[i] += impulse_[n.offset + r] * rate * jacobian[r * kRowWidth + i];
        onB[i] += impulse_[n.offset + r] * rate * jacobian[r * kRowWidth + 6 + i];
      }
    // A force f at r gives d(r x f)/d(angle) = -[(f.r) I - r f^T].
    const auto pull = [](const Vec3& f, const Vec3& r, Mat3& k) {
      k += f.dot(r) * Mat3::Identity() - 0.5 * (r * f.transpose() + f * r.transpose());
    };
    Mat3 turning = Mat3::Zero();
    for (int i = 0; i < angular; ++i) {
      // C = u . w has the second derivative sym(u w^T) - (u . w) I in the angle of either body.
      const double moment = impulse_[n.offset + linear + i] * rate;
      const Vec3 u = rows.u(i), w = rows.w(i);
      turning += moment * (u.dot(w) * Mat3::Identity() - 0.5 * (u * w.transpose() + w * u.transpose()));
    }
    if (n.dynamicA) {
      pull(onA, rows.armA(), bodies[n.a].stiffness);
      bodies[n.a].stiffness += turning;
      bodies[n.a].stiffened = true;
    }
    if (n.dynamicB) {
      pull(onB, rows.armB(), bodies[n.b].stiffness);
      bodies[n.b].stiffness += turning;
      bodies[n.b].stiffened = true;
    }
  }
}

void Assembly::impulseOf(int node, Vec3& linear, Vec3& angular) const {
  const Node& n = nodes_[node];
  const RowBlock rows = block(rows_, n);
  const double* jacobian = rows.jacobian();
  linear.setZero();
  angular.setZero();
  if (n.released) return;
  for (int r = 0; r < n.rows; ++r)
    for (int i = 0; i < 3; ++i) {
      linear[i] += impulse_[n.offset + r] * jacobian[r * kRowWidth + 6 + i];
      angular[i] += impulse_[n.offset + r] * jacobian[r * kRowWidth + 9 + i];
    }
  angular -= rows.armB().cross(linear);
}

RowErrors Assembly::errorsOf(int node) const {
  const Node& n = nodes_[node];
  const int linear = n.rows - n.angular;
  const auto norm = [&](int from, int to) {
    double s = 0;
    for (int r = from; r < to; ++r) {
      const double e = errorOf(fresh_, n, r);
      s += e * e;
    }
    return std::sqrt(s);
  };
  return {norm(0, linear), norm(linear, n.rows)};
}

}  // namespace calm
