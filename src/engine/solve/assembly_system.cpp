// SPDX-License-Identifier: GPL-3.0-or-later
// The linear system of an assembly: which rows take part, J W J^T + G block by block, and its factor.
#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/solve/assembly_rates.h"

namespace calm {

namespace {

// Least regularisation relative to a row's own diagonal; keeps the factorisation's round-off out of sight.
constexpr double kRelativeFloor = 1e-13;
constexpr double kRelativeFloorInLoops = 1e-11;
constexpr double kMostCreep = 1e7;  // times that
constexpr double kCreepInTouch = 1e-8;

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

void Assembly::factor(const std::vector<Body>& bodies, double h, double share) {
  kickShare_ = share;
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

// J W J^T of the node with itself, at least its lower triangle.
void Assembly::buildDiagonal(const Node& n, double* block) const {
  for (int i = 0; i < n.used * n.used; ++i) block[i] = 0;
  for (int side = 0; side < n.sides(); ++side) {
    const SideRows answer = responseOf(n, side);
    const Rates rates(*this, n, side);
    if (n.pivot > 0) rates.addOwn(answer, block);
    for (int i = n.pivot; i < n.used; ++i) {
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

double Assembly::ownMobility(const Node& n, int r) const {
  double sum = dot(loadRow<kRowWidth / 2>(&response_[(n.offset + r) * kRowWidth]), jacobianOf(n, 0)[r]);
  for (int side = 2; side < n.sides(); ++side) sum += dot(loadRow<3>(responseOf(n, side)[r]), jacobianOf(n, side)[r]);
  return sum;
}

void Assembly::yield(const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  if (axis_[row].kind == Kind::spring || state_[row] == State::spring) return yieldAsSpring(n, r, h, diagonal);
  constexpr double kSoft = 0.1;  // of the row's own mobility; what is harder passes impacts on
  // In loops it still decides how they share an impact, by so much less that they do not yield.
  const double inImpact = looped_ ? 1e-3 : 0;
  const double share = impactStep_ > 0 ? 1 : kickShare_;
  const double compliant = compliance_[row] / (share * h * h);
  double floor = looped_ ? kRelativeFloorInLoops : kRelativeFloor;
  if (state_[row] == State::drive) {
    const auto count = static_cast<double>(nodes_.size());
    if (creeps_) floor *= std::min(kMostCreep, count * count);
    // With contacts they hold things more than once, and share the load so.
    if (near_) floor = std::max(floor, kCreepInTouch);
  }
  const bool hard = impactStep_ > 0 && compliant < kSoft * diagonal;
  gamma_[row] = std::max(hard ? inImpact * compliant : compliant, floor * diagonal);
  diagonal += gamma_[row];
}

void Assembly::yieldAsSpring(const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  const SpringLaw law = lawOf(row);
  // The squared frequency, in steps, of the body with all its springs on this row's axis. What is locked but for its
  // compliance is one of many.
  const double shareA = dot(loadRow<3>(&response_[row * kRowWidth]), jacobianOf(n, 0)[r]);
  const bool angular = r >= n.rows - n.angular;
  const double together =
      h * h * (shareA * stiffnessOn(n.a, angular) + (diagonal - shareA) * stiffnessOn(n.b, angular));
  springStep_[row] = springStep(law.stiffness, law.damping, 1 / diagonal, h, !n.axes || together > 2);
  // A hard one of the soft stops that is met within the step takes backward Euler's law, which never gives more than it
  // took.
  if (axis_[row].kind == Kind::softStop && !followsStop(n, r, h) && stretchOf(n, r) * sign_[row] < 0) {
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
    for (int i = 0; i < n.used; ++i) {
      double& diagonal = d[i * (n.used + 1)];
      yield(n, usedRow(n, i), h, diagonal);
      if (!barrier_.empty()) diagonal += barrier_[n.offset + usedRow(n, i)];
    }
    // Springs at their caps are not in the system, but ask whether they would push with less again.
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      if (inSystem(n.offset + r) || axis_[n.offset + r].kind != Kind::spring) continue;
      double diagonal = ownMobility(n, r);
      yield(n, r, h, diagonal);
    }
  }
  for (const Coupling& c : couplings_) buildCoupling(c, cholesky_.block(c.block));
  cholesky_.factor();
}

}  // namespace calm
