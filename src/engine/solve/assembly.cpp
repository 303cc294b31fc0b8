// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/assembly.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <set>
#include <utility>

#include "engine/solve/block_size.h"

namespace calm {

namespace {

// Default compliance where a loop may make joints redundant, m/N. Small enough for a micrometre at a meganewton, large
// enough to decide how redundant joints share a load.
constexpr double kLoopCompliance = 1e-12;
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
    out[i] = row[i] * body.inverseMass;
    out[3 + i] = w(i, 0) * row[3] + w(i, 1) * row[4] + w(i, 2) * row[5];
  }
}

// Whether joints close a loop, counting all that is not dynamic as one.
bool hasLoop(const std::vector<Assembly::Member>& members, const std::vector<Body>& bodies) {
  std::map<BodyId, BodyId> parent;
  const auto root = [&](BodyId id) {
    if (!bodies[id].dynamic()) id = kWorld;
    parent.try_emplace(id, id);
    while (parent[id] != id) id = parent[id] = parent[parent[id]];
    return id;
  };
  for (const auto& m : members) {
    const BodyId a = root(m.a), b = root(m.b);
    if (a == b) return true;
    parent[a] = b;
  }
  return false;
}

}  // namespace

Assembly::Assembly(const std::vector<Member>& members, const std::vector<Body>& bodies) {
  looped_ = hasLoop(members, bodies);
  struct Plan {
    const Member* member;
    std::vector<std::pair<int, Kind>> rows;  // axis and kind; none for locks
  };
  std::vector<Plan> plans;
  for (const Member& m : members) {
    if (rowCount(m.type).rows > 0) plans.push_back({&m, {}});
    Plan free{&m, {}};
    const auto add = [&](int axis, Kind kind) {
      if (free.rows.size() == kMaxRows) plans.push_back(std::exchange(free, Plan{&m, {}}));
      free.rows.emplace_back(axis, kind);
    };
    for (int k = 0; k < axesOf(m.type).all(); ++k) {
      const AxisDef& axis = m.axes[k];
      if (m.type == JointType::winch)
        add(k, Kind::winch);
      else if (axis.hasHardStops() || axis.hasDrive())
        add(k, Kind::stop);
      if (axis.hasSoftStops()) add(k, Kind::softStop);
      if (axis.hasSpring()) add(k, Kind::spring);
    }
    if (!free.rows.empty()) plans.push_back(free);
  }
  const int count = static_cast<int>(plans.size());
  std::map<BodyId, std::vector<std::pair<int, int>>> users;  // dynamic body -> (plan, side)
  for (int i = 0; i < count; ++i) {
    const Member& m = *plans[i].member;
    if (bodies[m.a].dynamic()) users[m.a].push_back({i, 0});
    if (bodies[m.b].dynamic()) users[m.b].push_back({i, 1});
  }
  // Also of joints that leave everything free.
  std::set<BodyId> dynamic;
  for (const Member& m : members)
    for (BodyId id : {m.a, m.b})
      if (bodies[id].dynamic()) dynamic.insert(id);
  dynamicBodies_.assign(dynamic.begin(), dynamic.end());
  std::vector<std::pair<int, int>> edges;
  for (const auto& [body, uses] : users)
    for (std::size_t i = 0; i < uses.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) edges.push_back({uses[i].first, uses[j].first});

  const Elimination elimination = eliminateByMinimumDegree(count, edges);
  std::vector<int> position(count), rows(count);
  int offset = 0, memory = 0;
  std::set<JointId> seen;
  for (int k = 0; k < count; ++k) {
    const Plan& plan = plans[elimination.order[k]];
    const Member& m = *plan.member;
    position[elimination.order[k]] = k;
    const bool axes = !plan.rows.empty();
    int angular = rowCount(m.type).angular;
    if (axes)
      angular = static_cast<int>(std::count_if(plan.rows.begin(), plan.rows.end(),
                                               [&](const auto& r) { return r.first >= axesOf(m.type).along; }));
    rows[k] = axes ? static_cast<int>(plan.rows.size()) : rowCount(m.type).rows;
    nodes_.push_back({m.joint, m.type, m.a, m.b, rows[k], offset, memory, angular, axes, bodies[m.a].dynamic(),
                      bodies[m.b].dynamic(), false, seen.insert(m.joint).second, m.geometry, m.compliance,
                      m.pinRadius});
    for (int r = 0; r < rows[k]; ++r) {
      axis_.emplace_back();
      state_.push_back(State::locked);
      if (!axes) continue;
      const auto [number, kind] = plan.rows[r];
      const AxisDef& def = m.axes[number];
      axis_.back() = {number, kind, def, m.windings[number]};
      state_.back() = kind == Kind::spring                   ? State::spring
                      : kind == Kind::stop && def.isLocked() ? State::atHigh
                                                             : State::set;
      if (kind != Kind::spring) continue;
      for (BodyId id : {m.a, m.b}) springsOn_[id][r >= rows[k] - angular] += def.stiffness;
    }
    hasAxes_ |= axes;
    offset += rows[k];
    memory += RowBlock::storage(rows[k], angular);
  }
  cholesky_.analyse(rows, elimination.below);
  for (const auto& [body, uses] : users)
    for (std::size_t i = 0; i < uses.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) {
        int row = position[uses[i].first], column = position[uses[j].first];
        int rowSide = uses[i].second, columnSide = uses[j].second;
        if (row == column) continue;
        if (row < column) std::swap(row, column), std::swap(rowSide, columnSide);
        couplings_.push_back({row, column, rowSide, columnSide, cholesky_.offDiagonal(row, column)});
      }
  std::sort(couplings_.begin(), couplings_.end(), [](const Coupling& x, const Coupling& y) {
    return std::tie(x.column, x.row, x.rowSide) < std::tie(y.column, y.row, y.rowSide);
  });

  rows_.assign(memory, 0);
  fresh_.assign(memory, 0);
  response_.assign(offset * kRowWidth, 0);
  for (auto* v : {&compliance_, &gamma_, &target_, &impulse_, &delta_, &curvature_, &force_, &offset_, &rateBefore_,
                  &rateNow_, &rateAtRest_, &work_})
    v->assign(offset, 0);
  springStep_.assign(offset, {0, 0});
  sign_.assign(offset, 0);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const double linear = n.compliance > 0 ? n.compliance : (looped_ ? kLoopCompliance : 0);
      const bool angular = r >= n.rows - n.angular;
      compliance_[n.offset + r] = angular ? linear / (n.pinRadius * n.pinRadius) : linear;
    }
}

void Assembly::markUntouchedAxes(std::vector<Body>& bodies) const {
  std::map<BodyId, std::vector<Vec3>> arms;
  std::set<BodyId> turned;  // by angular rows
  for (const Node& n : nodes_) {
    arms[n.a].push_back(n.geometry.anchorA);
    arms[n.b].push_back(n.geometry.anchorB);
    if (n.angular > 0) turned.insert(n.a), turned.insert(n.b);
  }
  for (const BodyId id : dynamicBodies_) {
    Vec3 longest = Vec3::Zero();
    for (const Vec3& arm : arms[id])
      if (arm.norm() > longest.norm()) longest = arm;
    const Vec3 axis = longest.normalized();
    const bool onOneLine = std::all_of(arms[id].begin(), arms[id].end(), [&](const Vec3& arm) {
      return axis.cross(arm).norm() <= 1e-9 * longest.norm();
    });
    bodies[id].untouchedAxis = onOneLine && !turned.count(id) && longest.norm() > 0 ? axis : Vec3::Zero();
  }
}

void Assembly::evaluateNode(const Node& n, const std::vector<Body>& bodies, RowBlock& rows) {
  if (!n.axes) return evaluateRows(n.type, n.geometry, bodies[n.a], bodies[n.b], rows);
  for (int r = 0; r < n.rows; ++r) {
    Axis& axis = axis_[n.offset + r];
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

RowErrors Assembly::evaluate(const std::vector<Body>& bodies) {
  RowErrors worst;
  for (const Node& n : nodes_) {
    RowBlock rows = block(fresh_, n);
    evaluateNode(n, bodies, rows);
    if (n.released) continue;
    for (int r = 0; r < n.rows; ++r) {
      if (!held(n.offset + r)) continue;
      double& w = r < n.rows - n.angular ? worst.linear : worst.angular;
      const double e = std::abs(errorOf(fresh_, n, r) - offset_[n.offset + r]);
      if (!(e <= w)) w = e;  // a NaN stays
    }
  }
  return worst;
}

void Assembly::adopt() {
  rows_.swap(fresh_);
}

void Assembly::factor(const std::vector<Body>& bodies, double h) {
  for (const Node& n : nodes_) {
    const double* jacobian = block(rows_, n).jacobian();
    double* w = &response_[n.offset * kRowWidth];
    for (int r = 0; r < n.rows; ++r) {
      if (n.dynamicA) respond(jacobian + r * kRowWidth, bodies[n.a], w + r * kRowWidth);
      if (n.dynamicB) respond(jacobian + r * kRowWidth + 6, bodies[n.b], w + r * kRowWidth + 6);
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
    const double floor = looped_ ? kRelativeFloorInLoops : kRelativeFloor;
    for (int r = 0; r < n.rows; ++r) {
      double& diagonal = d[r * n.rows + r];
      const int row = n.offset + r;
      if (axis_[row].kind == Kind::spring || state_[row] == State::spring) {
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
    const double* w = &response_[row.offset * kRowWidth + 6 * c.rowSide];
    const double* j = block(rows_, column).jacobian() + 6 * c.columnSide;
    double* into = cholesky_.block(c.block);
    withSize(column.rows, [&]<int N>() {
      for (int r = 0; r < row.rows; ++r)
        for (int q = 0; q < N; ++q) into[r * N + q] += dot6(w + r * kRowWidth, j + q * kRowWidth);
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

void Assembly::relax(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    const double* jacobian = block(rows_, n).jacobian();
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double v = rowVelocity(jacobian + r * kRowWidth, a.velocity, a.spin, b.velocity, b.spin);
      delta_[row] = n.released || !inSystem(row) ? 0 : target_[row] - v - gamma_[row] * impulse_[row];
    }
  }
  apply(bodies);
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
}

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  for (const Node& n : nodes_) {
    const RowBlock before = block(rows_, n), after = block(fresh_, n);
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const double v =
          rowVelocity(before.jacobian() + r * kRowWidth, a.velocity, a.kickedSpin, b.velocity, b.kickedSpin);
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

void Assembly::fadeOffset(double factor) {
  for (double& o : offset_) o *= factor;
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
