// SPDX-License-Identifier: GPL-3.0-or-later
// The linear system of an assembly: which rows take part, J W J^T + G block by block, and its factor.
#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/solve/assembly.h"
#include "engine/solve/block_size.h"
#include "engine/solve/rotor.h"
#include "engine/solve/row_vectors.h"

namespace calm {

namespace {

// Least regularisation relative to a row's own diagonal; keeps the factorisation's round-off out of sight.
constexpr double kRelativeFloor = 1e-13;
constexpr double kRelativeFloorInLoops = 1e-11;
constexpr double kMostCreep = 1e7;  // times that
constexpr double kCreepInTouch = 1e-8;

}  // namespace

void Assembly::factor(std::vector<Body>& bodies, double h, double share) {
  kickShare_ = share;
  if (!std::exchange(measured_, true)) measureAmongLocks(bodies, h);
  for (const Node& n : nodes_)
    for (int r = 0; sprung_ && n.axes && r < n.rows; ++r)
      if (const int row = n.offset + r; axis_[row].kind == Kind::softStop)
        // What touches something may be thrown about, whatever its locks say.
        mobility_[row] = near_ ? ownMobility(bodies, n, r) : std::min(ownMobility(bodies, n, r), amongLocks_[row]);
  build(bodies, h);
}

// A bob at the end of a light rod is all but free to turn about its own middle, and heavy about the rod's pin.
void Assembly::measureAmongLocks(std::vector<Body>& bodies, double h) {
  constexpr double kFast = 1e-3, kFastDamper = 1e-3;  // (omega h)^2, and c h over the mass
  struct Fast {
    const Node* node;
    int r;
    double own;
  };
  std::vector<Fast> fast;
  if (sprung_) std::fill(amongLocks_.begin(), amongLocks_.end(), kNoLimit);
  for (const Node& n : nodes_)
    for (int r = 0; sprung_ && n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (axis_[row].kind != Kind::spring && axis_[row].kind != Kind::softStop) continue;
      const SpringLaw law = lawOf(row);
      const double own = ownMobility(bodies, n, r);
      if (h * h * law.stiffness * own > kFast || h * law.damping * own > kFastDamper) fast.push_back({&n, r, own});
    }
  std::vector<BodyId> rotors;
  for (const BodyId id : dynamicBodies_)
    if (isFastRotor(bodies[id], h)) rotors.push_back(id);
  if (fast.empty() && rotors.empty()) return;
  const std::vector<State> states = state_;
  for (const Node& n : nodes_)
    for (int row = n.offset; n.axes && row < n.offset + n.rows; ++row)
      if (!axis_[row].def.isLocked()) state_[row] = State::set;
  build(bodies, h);
  std::fill(delta_.begin(), delta_.end(), 0.0);
  for (const Fast& f : fast) amongLocks_[f.node->offset + f.r] = mobilityAmongLocks(bodies, *f.node, f.r, f.own);
  for (const BodyId id : rotors) bodies[id].held = heldAxisOf(bodies[id].inertia, turningAmongLocks(bodies, id));
  state_ = states;
}

void Assembly::addRatesBy(const Body& body, BodyId id, const Jacobian& impulse, NodeRange& reached) {
  const Vec3 velocity = body.linearResponse * impulse.linear, spin = body.response * impulse.angular;
  const auto found = nodesOn_.find(id);  // what no row moves has none
  if (found == nodesOn_.end()) return;
  for (const auto& [k, side] : found->second) {
    const Node& n = nodes_[k];
    for (int i = 0; i < n.used; ++i) delta_[n.place + i] += jacobianOf(n, usedRow(n, i), side).rate(velocity, spin);
    if (n.used > 0) reached.include(k);
  }
}

// By what the locks make of a unit impulse: a Schur complement.
double Assembly::mobilityAmongLocks(const std::vector<Body>& bodies, const Node& n, int r, double own) {
  constexpr double kLeast = 1e-9;  // of its own, where there is nothing left but round-off
  NodeRange reached;
  for (int side = 0; side < n.sides(); ++side) {
    const BodyId id = bodyOf(n, side);
    if (bodies[id].dynamic()) addRatesBy(bodies[id], id, jacobianOf(n, r, side), reached);
  }
  return std::max(own - takenByLocks(reached), kLeast * own);
}

// About its principal axes.
Mat3 Assembly::turningAmongLocks(const std::vector<Body>& bodies, BodyId id) {
  const Body& b = bodies[id];
  const auto along = [&](const Vec3& about) {
    NodeRange reached;
    addRatesBy(b, id, {Vec3::Zero(), about}, reached);
    return about.dot(b.response * about) - takenByLocks(reached);
  };
  Mat3 mobility;
  for (int i = 0; i < 3; ++i) mobility(i, i) = along(b.axes.col(i));
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < i; ++j)
      mobility(i, j) = mobility(j, i) = (along(b.axes.col(i) + b.axes.col(j)) - mobility(i, i) - mobility(j, j)) / 2;
  return mobility;
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
    n.used = n.axes || n.released ? 0 : n.rows;
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r)
      if (inSystem(n.offset + r)) usedRows_[n.offset + n.used++] = static_cast<signed char>(r);
    place += n.used;
    changed |= std::exchange(usedCounts_[k], n.used) != n.used;
  }
  if (changed) cholesky_.use(usedCounts_);
}

// How the node's N rows in the system turn one side's body.
template <int N>
CALM_INLINE void Assembly::gatherTurns(const Node& n, int side, RowVectors<N>& turns) const {
  if (n.used < n.rows || n.kept.pivot + n.kept.turning < n.rows) {
    const std::array<Vec3, kMaxRows> rows = turnsOf(n, side);
    return turns.set([&](int k, int i) __attribute__((always_inline)) { return rows[i][k]; });
  }
  const double sign = side == 0 ? -1 : 1;
  const RowBlock kept = block(rows_, n);
  const double* turn = kept.vector(n.kept.pivot);
  if constexpr (N >= 3)
    if (n.kept.pivot > 0) {
      const double *arm = kept.arm(side), x = sign * arm[0], y = sign * arm[1], z = sign * arm[2];
      const double about[3][3] = {{0, -z, y}, {z, 0, -x}, {-y, x, 0}};
      return turns.set([&](int k, int i) __attribute__((always_inline)) {
        return i < 3 ? about[k][i] : sign * turn[3 * (i - 3) + k];
      });
    }
  turns.set([&](int k, int i) __attribute__((always_inline)) { return sign * turn[3 * i + k]; });
}

// J W J^T of the node with itself and, by each dynamic body, with those before it that share the body.
template <int N>
CALM_INLINE void Assembly::buildNode(const std::vector<Body>& bodies, const Node& n) {
  double* own = cholesky_.diagonal(n.index);
  RowVectors<N> turns[2], answers[2];
  const bool dynamic[] = {n.dynamicA, n.dynamicB};
  for (int side = 0; side < 2; ++side) {
    gatherTurns(n, side, turns[side]);
    multiply(bodies[bodyOf(n, side)].response, turns[side], answers[side]);
  }
  for (int r = 0; r < N; ++r) {
    Numbers<N> sum, byB;
    setProducts(turns[0], r, answers[0], sum);
    setProducts(turns[1], r, answers[1], byB);
    sum += byB;
    sum.store(own + r * N);
  }
  const Coupling *next = couplings_.data() + n.firstCoupling, *end = next + n.couplings;
  for (int side = 0; side < n.sides(); ++side) {
    const Body& body = bodies[bodyOf(n, side)];
    if (side < 2 ? !dynamic[side] : !body.dynamic()) continue;
    RowVectors<N>& answer = answers[side % 2];
    if (side >= 2) {  // those of a and b have had their turn
      gatherTurns(n, side, turns[0]);
      multiply(body.response, turns[0], answer);
      addProducts(turns[0], answer, own);
    }
    addMoves(n, side, n, side, body.linearResponse, own);
    for (; next != end && next->rowSide == side; ++next) {
      const Node& column = nodes_[next->column];
      if (column.used == 0) continue;
      withSize(
          column.used, [&]<int C>() __attribute__((always_inline)) {
            RowVectors<C> others;
            gatherTurns(column, next->columnSide, others);
            addProducts(others, answer, cholesky_.block(next->block));
            addMoves(n, side, column, next->columnSide, body.linearResponse, cholesky_.block(next->block));
          });
    }
  }
}

CALM_INLINE void Assembly::buildBlocks(const std::vector<Body>& bodies, double h) {
  for (const Node& n : nodes_) {
    if (n.used > 0)
      withSize(
          n.used, [&]<int N>() __attribute__((always_inline)) { buildNode<N>(bodies, n); });
    yieldAll(bodies, n, h);
  }
}
void Assembly::buildBlocksNarrow(const std::vector<Body>& bodies, double h) {
  buildBlocks(bodies, h);
}
CALM_WIDE void Assembly::buildBlocksWide(const std::vector<Body>& bodies, double h) {
  buildBlocks(bodies, h);
}

// Adds to the node's diagonal what its rows yield by themselves.
void Assembly::yieldAll(const std::vector<Body>& bodies, const Node& n, double h) {
  double* d = cholesky_.diagonal(n.index);
  if (!n.ruled()) return yieldAtLock(n, h, d);
  for (int i = 0; i < n.used; ++i) {
    double& diagonal = d[i * (n.used + 1)];
    yield(bodies, n, usedRow(n, i), h, diagonal);
    if (!barrier_.empty()) diagonal += barrier_[n.offset + usedRow(n, i)];
  }
  // Springs at their caps are not in the system, but ask whether they would push with less again.
  for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
    if (inSystem(n.offset + r) || axis_[n.offset + r].kind != Kind::spring) continue;
    double diagonal = ownMobility(bodies, n, r);
    yield(bodies, n, r, h, diagonal);
  }
}

// Of what is locked and keeps to no spring's law.
void Assembly::yieldAtLock(const Node& n, double h, double* diagonals) {
  const double floor = looped_ ? kRelativeFloorInLoops : kRelativeFloor;
  for (int i = 0; i < n.used; ++i) {
    double& diagonal = diagonals[i * (n.used + 1)];
    const int row = n.offset + i;
    const double compliant = compliance_[row] > 0 ? compliantIn(row, h, diagonal) : 0;
    gamma_[row] = std::max(compliant, floor * diagonal);
    diagonal += gamma_[row];
  }
}

// Its true compliance over a step, which in an impact is that of what yields far within it.
double Assembly::compliantIn(int row, double h, double diagonal) const {
  constexpr double kSoft = 0.1;  // of the row's own mobility; what is harder passes impacts on
  // In loops it still decides how they share an impact, by so much less that they do not yield.
  const double inImpact = looped_ ? 1e-3 : 0;
  const double share = impactStep_ > 0 ? 1 : kickShare_;
  const double compliant = compliance_[row] / (share * h * h);
  const bool hard = impactStep_ > 0 && compliant < kSoft * diagonal;
  return hard ? inImpact * compliant : compliant;
}

void Assembly::yield(const std::vector<Body>& bodies, const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  if (axis_[row].kind == Kind::spring || state_[row] == State::spring) return yieldAsSpring(bodies, n, r, h, diagonal);
  double floor = looped_ ? kRelativeFloorInLoops : kRelativeFloor;
  if (state_[row] == State::drive) {
    const auto count = static_cast<double>(nodes_.size());
    if (creeps_) floor *= std::min(kMostCreep, count * count);
    // With contacts they hold things more than once, and share the load so.
    if (near_) floor = std::max(floor, kCreepInTouch);
  }
  gamma_[row] = std::max(compliantIn(row, h, diagonal), floor * diagonal);
  diagonal += gamma_[row];
}

// From 0 to 1, where a fast spring might gain from how its parts turn within a step if it only settled by and by: they
// turn far, or it throws them to and fro.
double Assembly::violenceAt(const std::vector<Body>& bodies, const Node& n, int r, double h) const {
  const int row = n.offset + r;
  const double turns = h * std::sqrt(std::max(bodies[n.a].spin.squaredNorm(), bodies[n.b].spin.squaredNorm()));
  double thrown = h * std::abs(rateBefore_[row] - rateEarlier_[row]);  // rad
  if (r < n.rows - n.angular) {
    const RowBlock rows = block(rows_, n);
    const double arm = std::max(rows.armA().norm(), rows.armB().norm());
    thrown = arm > 0 ? thrown / arm : 0;
  }
  return std::max(blend(turns, 0.03, 0.15), blend(thrown, 0.001, 0.005));
}

void Assembly::yieldAsSpring(const std::vector<Body>& bodies, const Node& n, int r, double h, double& diagonal) {
  const int row = n.offset + r;
  const SpringLaw law = lawOf(row);
  // The squared frequency, in steps, of the body with all its springs on this row's axis. What is locked but for its
  // compliance is one of many.
  const double shareA = mobilityOn(bodies[n.a], n, r, 0);
  const bool angular = r >= n.rows - n.angular;
  const bool bySelf = near_ && axis_[row].kind == Kind::softStop;
  const double seen = bySelf ? 1 : std::min(1.0, amongLocks_[row] / diagonal);
  const double together =
      seen * h * h * (shareA * stiffnessOn(n.a, angular) + (diagonal - shareA) * stiffnessOn(n.b, angular));
  const bool alone = axis_[row].kind == Kind::softStop || springs_ == 1;
  const double atOnce = alone ? 1 : violenceAt(bodies, n, r, h);
  springStep_[row] = springStep(law.stiffness, law.damping, 1 / (seen * diagonal), h, !n.axes || together > 2, atOnce);
  // A hard one of the soft stops that is met within the step takes backward Euler's law, which never gives more than it
  // took.
  if (axis_[row].kind == Kind::softStop && !followsStop(n, r, h) && stretchOf(n, r) * sign_[row] < 0) {
    const double stiff = std::max(h * h * law.stiffness + h * law.damping, springStep_[row].inertia * 1e-9);
    springStep_[row] = {stiff, stiff, 0};
  }
  gamma_[row] = 1 / springStep_[row].inertia;
  diagonal += gamma_[row];
}

void Assembly::build(const std::vector<Body>& bodies, double h) {
  chooseRows();
  cholesky_.clear();
  if (lanes::areWide())
    buildBlocksWide(bodies, h);
  else
    buildBlocksNarrow(bodies, h);
  cholesky_.factor();
}

}  // namespace calm
