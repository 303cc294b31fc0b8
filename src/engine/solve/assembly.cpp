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

// out (6) = [m^-1 l, W a] for one side of a row.
void respond(const double* row, const Body& body, double* out) {
  const double* w = body.response.data();  // columns
  storePair(out, loadPair(row) * body.linearResponse);
  out[2] = row[2] * body.linearResponse;
  storePair(out + 3, loadPair(w) * row[3] + loadPair(w + 3) * row[4] + loadPair(w + 6) * row[5]);
  out[5] = w[2] * row[3] + w[5] * row[4] + w[8] * row[5];
}

// The same for the three rows of a pivot at the arm r, of which row i is sign [e_i, r x e_i].
void respondAtPivot(const double* arm, double sign, const Body& body, double* out) {
  const Vec3 r = sign * Vec3(arm[0], arm[1], arm[2]);
  const Mat3& w = body.response;
  const Vec3 turned[] = {r[2] * w.col(1) - r[1] * w.col(2), r[0] * w.col(2) - r[2] * w.col(0),
                         r[1] * w.col(0) - r[0] * w.col(1)};
  for (int i = 0; i < 3; ++i, out += kRowWidth) {
    for (int k = 0; k < 3; ++k) out[k] = 0, out[3 + k] = turned[i][k];
    out[i] = sign * body.linearResponse;
  }
}

}  // namespace

// J v of the node's rows in the system, from the velocity and spin of one side's body.
class Assembly::Rates {
 public:
  Rates(const Assembly& a, const Node& n, int side)
      : pivot_(n.used > 0 ? n.pivot : 0), count_(n.used), used_(&a.usedRows_[n.offset]), rows_(a.jacobianOf(n, side)) {
    if (pivot_ == 0) return;
    sign_ = side == 0 ? -1 : 1;
    arm_ = sign_ * Eigen::Map<const Vec3>(a.block(a.rows_, n).arm(side));
  }
  // Adds them to `rates`.
  void add(const double* v, const double* w, double* rates) const {
    int i = 0;
    if (pivot_ > 0) {
      rates[0] += sign_ * v[0] + (w[1] * arm_[2] - w[2] * arm_[1]);
      rates[1] += sign_ * v[1] + (w[2] * arm_[0] - w[0] * arm_[2]);
      rates[2] += sign_ * v[2] + (w[0] * arm_[1] - w[1] * arm_[0]);
      i = pivot_;
    }
    if (i == count_) return;
    const PairRow<3> motion{loadPair(v), Pair{v[2], w[0]}, loadPair(w + 1)};
    for (; i < count_; ++i) rates[i] += dot(motion, rows_[used_[i]]);
  }

 private:
  int pivot_, count_;
  const signed char* used_;
  SideRows rows_;
  double sign_;
  Vec3 arm_;
};

void Assembly::addLoad(const Node& n, int side, Vec3& force, Vec3& torque) const {
  const double* p = &impulse_[n.offset];
  if (n.pivot > 0) {
    const Vec3 f = (side == 0 ? -1 : 1) * Vec3(p[0], p[1], p[2]);
    const double* arm = block(rows_, n).arm(side);
    force += f;
    torque += Vec3(arm[0], arm[1], arm[2]).cross(f);
  }
  const SideRows jacobian = jacobianOf(n, side);
  for (int r = n.pivot; r < n.rows; ++r) {
    const double* j = jacobian[r];
    force += p[r] * Vec3(j[0], j[1], j[2]);
    torque += p[r] * Vec3(j[3], j[4], j[5]);
  }
}

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
  const double rate = 1 / h, yielding = h / share;
  for (const Node& n : nodes_) {
    if (n.released) {
      std::fill_n(&delta_[n.place], n.used, 0.0);
      continue;
    }
    const int linear = n.rows - n.angular;
    for (int i = 0; i < n.used; ++i) {
      const int r = usedRow(n, i), row = n.offset + r;
      delta_[n.place + i] = 0;
      if (n.axes && !held(row)) continue;  // springs and drives keep to their own laws
      // With lambda = p / (share h) and alpha = gamma h^2.
      const double lack = errorOf(fresh_, n, r) - offset_[row] + yielding * gamma_[row] * impulse_[row];
      delta_[n.place + i] = -rate * lack;
      double& w = r < linear ? worst.linear : worst.angular;
      if (!(std::abs(lack) <= w)) w = std::abs(lack);  // a NaN stays
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
    if (n.dynamicA) respondTo(n, 0, bodies[n.a]);
    if (n.dynamicB) respondTo(n, 1, bodies[n.b]);
    for (int side = 2; side < n.sides(); ++side) {
      const Body& rider = bodies[bodyOf(n, side)];
      for (int r = 0; rider.dynamic() && r < n.rows; ++r) {
        const int at = n.riderMemory + 6 * (n.riders * r + side - 2);
        respond(&riderRows_[at], rider, &riderResponse_[at]);
      }
    }
  }
  build(h);
}

// W J^T of one side's body.
void Assembly::respondTo(const Node& n, int side, const Body& body) {
  const RowBlock rows = block(rows_, n);
  double* out = &response_[n.offset * kRowWidth + 6 * side];
  if (n.pivot > 0) respondAtPivot(rows.arm(side), side == 0 ? -1 : 1, body, out);
  const double* jacobian = rows.jacobian() + 6 * side;
  for (int r = n.pivot; r < n.rows; ++r) respond(jacobian + (r - n.pivot) * kRowWidth, body, out + r * kRowWidth);
}

// Rows that carry a set impulse, and those of released nodes, stay out of the system.
void Assembly::chooseRows() {
  if (!hasAxes_ && rowsChosen_) return;
  rowsChosen_ = true;
  int place = 0;
  bool changed = false;
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    Node& n = nodes_[k];
    n.place = place;
    n.used = 0;
    for (int r = 0; !n.released && r < n.rows; ++r)
      if (inSystem(n.offset + r)) usedRows_[n.offset + n.used++] = static_cast<signed char>(r);
    place += n.used;
    changed |= std::exchange(usedCounts_[k], n.used) != n.used;
  }
  if (changed) cholesky_.use(usedCounts_);
}

// J W J^T of the node with itself.
void Assembly::buildDiagonal(const Node& n, double* block) const {
  std::fill_n(block, n.used * n.used, 0.0);
  for (int side = 0; side < n.sides(); ++side) {
    const SideRows answer = responseOf(n, side);
    const Rates rates(*this, n, side);
    for (int i = 0; i < n.used; ++i) {
      const double* w = answer[usedRow(n, i)];
      rates.add(w, w + 3, block + i * n.used);
    }
  }
}

// What it adds for two nodes that share a body.
void Assembly::buildCoupling(const Coupling& c, double* block) const {
  const Node &row = nodes_[c.row], &column = nodes_[c.column];
  if (row.used == 0 || column.used == 0) return;
  const SideRows answer = responseOf(row, c.rowSide);
  const Rates rates(*this, column, c.columnSide);
  for (int i = 0; i < row.used; ++i) {
    const double* w = answer[usedRow(row, i)];
    rates.add(w, w + 3, block + i * column.used);
  }
}

void Assembly::yield(const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  if (n.axes && (axis_[row].kind == Kind::spring || state_[row] == State::spring))
    return yieldAsSpring(n, r, h, diagonal);
  gamma_[row] = std::max(compliance_[row] / (h * h), (looped_ ? kRelativeFloorInLoops : kRelativeFloor) * diagonal);
  diagonal += gamma_[row];
}

void Assembly::yieldAsSpring(const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  const SpringLaw law = lawOf(row);
  // The squared frequency, in steps, of the body with all its springs on this row's axis.
  const double shareA = dot(loadRow<3>(&response_[row * kRowWidth]), jacobianOf(n, 0)[r]);
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
  diagonal += gamma_[row];
}

void Assembly::build(double h) {
  chooseRows();
  cholesky_.clear();
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    const Node& n = nodes_[k];
    double* d = cholesky_.diagonal(static_cast<int>(k));
    if (n.used > 0) buildDiagonal(n, d);
    for (int i = 0; i < n.used; ++i) yield(n, usedRow(n, i), h, d[i * (n.used + 1)]);
    // Springs at their caps are not in the system, but ask whether they would push with less again.
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      if (inSystem(n.offset + r) || axis_[n.offset + r].kind != Kind::spring) continue;
      double diagonal = dot(loadRow<kRowWidth / 2>(&response_[(n.offset + r) * kRowWidth]), jacobianOf(n, 0)[r]);
      for (int side = 2; side < n.sides(); ++side)
        diagonal += dot(loadRow<3>(responseOf(n, side)[r]), jacobianOf(n, side)[r]);
      yield(n, r, h, diagonal);
    }
  }
  for (const Coupling& c : couplings_) buildCoupling(c, cholesky_.block(c.block));
  cholesky_.factor();
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
    const Body& body = bodies[bodyOf(n, side)];
    sum += Vec3(j[0], j[1], j[2]).dot(body.velocity) + Vec3(j[3], j[4], j[5]).dot(body.*spin);
  }
  return sum;
}

void Assembly::relax(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    double rates[kMaxRows] = {};
    for (int side = 0; side < n.sides(); ++side) {
      const Body& body = bodies[bodyOf(n, side)];
      Rates(*this, n, side).add(&body.velocity[0], &body.spin[0], rates);
    }
    for (int i = 0; i < n.used; ++i) {
      const int row = n.offset + usedRow(n, i);
      delta_[n.place + i] = n.released ? 0 : target_[row] - rates[i] - gamma_[row] * impulse_[row];
    }
  }
  apply(bodies);
}

void Assembly::respondHalf(BodyId body, const Mat3& velocities, const Mat3& spins, double* into, int stride) const {
  const auto found = nodesOn_.find(body);
  if (found == nodesOn_.end()) return;
  for (const auto& [k, side] : found->second) {
    const Node& n = nodes_[k];
    const Rates ratesOf(*this, n, side);
    for (int column = 0; column < 3; ++column) {
      double rates[kMaxRows] = {};
      ratesOf.add(&velocities(0, column), &spins(0, column), rates);
      for (int i = 0; i < n.used; ++i) into[(n.place + i) * stride + column] += rates[i];
    }
  }
}

void Assembly::apply(std::vector<Body>& bodies) {
  cholesky_.solve(delta_.data());
  for (const Node& n : nodes_) {
    if (n.used == 0) continue;
    for (int i = 0; i < n.used; ++i) impulse_[n.offset + usedRow(n, i)] += delta_[n.place + i];
    withSize(n.used, [&]<int N>() { push<N>(bodies, n, &usedRows_[n.offset], &delta_[n.place]); });
  }
}

template <int N>
void Assembly::push(std::vector<Body>& bodies, const Node& n, const signed char* rows, const double* impulses) const {
  const auto sum = [&]<int Pairs>(const SideRows& answer) {
    PairRow<Pairs> change{};
    for (int k = 0; k < N; ++k)
      for (int i = 0; i < Pairs; ++i) change[i] += loadPair(answer[rows[k]] + 2 * i) * impulses[k];
    return change;
  };
  const auto add = [](Body& body, const Pair* c) {
    storePair(&body.velocity[0], loadPair(&body.velocity[0]) + c[0]);
    body.velocity[2] += c[1][0];
    body.spin[0] += c[1][1];
    storePair(&body.spin[1], loadPair(&body.spin[1]) + c[2]);
  };
  const auto change = sum.template operator()<kRowWidth / 2>({&response_[n.offset * kRowWidth], kRowWidth});
  if (n.dynamicA) add(bodies[n.a], &change[0]);
  if (n.dynamicB) add(bodies[n.b], &change[kRowWidth / 4]);
  for (int side = 2; side < n.sides(); ++side)
    if (bodies[bodyOf(n, side)].dynamic())
      add(bodies[bodyOf(n, side)], &sum.template operator()<3>(responseOf(n, side))[0]);
}

template void Assembly::push<1>(std::vector<Body>&, const Node&, const signed char*, const double*) const;

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  for (const Node& n : nodes_) {
    const double *before = &rows_[n.memory], *after = &fresh_[n.memory];  // errors come first
    double rates[kMaxRows] = {};
    for (int side = 0; !n.axes && side < 2; ++side) {
      const Body& body = bodies[bodyOf(n, side)];
      Rates(*this, n, side).add(&body.velocity[0], &body.kickedSpin[0], rates);
    }
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double moved = after[r] - before[r];
      force_[row] = impulse_[row] / time;
      curvature_[row] = moved - h * (n.axes ? rateOf(n, r, bodies, &Body::kickedSpin) : rates[r]);
      if (!held(row)) offset_[row] = 0;
      if (n.axes) work_[row] = force_[row] * moved, noteDriveWork(row);
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
    if (parts_[n.index].fade != fade) fade = parts_[n.index].fade, factor = std::exp(-h / fade);
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
    const int linear = n.rows - n.angular;
    Mat3 turning = Mat3::Zero();
    for (int i = 0; i < n.angular; ++i) {
      // C = u . w has the second derivative sym(u w^T) - (u . w) I in the angle of either body.
      const double moment = impulse_[n.offset + linear + i] * rate;
      const Vec3 u = rows.u(i), w = rows.w(i);
      turning += moment * (u.dot(w) * Mat3::Identity() - 0.5 * (u * w.transpose() + w * u.transpose()));
    }
    for (int side = 0; side < 2; ++side) {
      if (!(side == 0 ? n.dynamicA : n.dynamicB)) continue;
      Body& body = bodies[bodyOf(n, side)];
      body.stiffened = true;
      if (n.angular > 0) body.stiffness += turning;
      if (linear == 0) continue;
      Vec3 f = Vec3::Zero();
      if (n.pivot > 0) f = (side == 0 ? -rate : rate) * Eigen::Map<const Vec3>(&impulse_[n.offset]);
      for (int r = n.pivot; r < linear; ++r)
        f += impulse_[n.offset + r] * rate * Eigen::Map<const Vec3>(jacobianOf(n, side)[r]);
      // A force f at r gives d(r x f)/d(angle) = -[(f.r) I - r f^T].
      const double *r = rows.arm(side), fr = f[0] * r[0] + f[1] * r[1] + f[2] * r[2];
      Mat3& k = body.stiffness;
      for (int i = 0; i < 3; ++i) {
        k(i, i) += fr - r[i] * f[i];
        const int j = (i + 1) % 3;
        const double across = 0.5 * (r[i] * f[j] + r[j] * f[i]);
        k(i, j) -= across;
        k(j, i) -= across;
      }
    }
  }
}

void Assembly::impulseOf(int node, Vec3& linear, Vec3& angular) const {
  const Node& n = nodes_[node];
  linear.setZero();
  angular.setZero();
  if (n.released) return;
  addLoad(n, 1, linear, angular);
  angular -= block(rows_, n).armB().cross(linear);
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
