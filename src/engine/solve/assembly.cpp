// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/assembly.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

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

double rowVelocity(const double* j, const Vec3& va, const Vec3& wa, const Vec3& vb, const Vec3& wb) {
  double s = 0;
  for (int i = 0; i < 3; ++i) s += j[i] * va[i] + j[3 + i] * wa[i] + j[6 + i] * vb[i] + j[9 + i] * wb[i];
  return s;
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
  const int count = static_cast<int>(members.size());
  std::map<BodyId, std::vector<std::pair<int, int>>> users;  // dynamic body -> (member, side)
  for (int i = 0; i < count; ++i) {
    if (bodies[members[i].a].dynamic()) users[members[i].a].push_back({i, 0});
    if (bodies[members[i].b].dynamic()) users[members[i].b].push_back({i, 1});
  }
  std::vector<std::pair<int, int>> edges;
  for (const auto& [body, uses] : users) {
    dynamicBodies_.push_back(body);
    for (std::size_t i = 0; i < uses.size(); ++i)
      for (std::size_t j = 0; j < i; ++j) edges.push_back({uses[i].first, uses[j].first});
  }
  looped_ = hasLoop(members, bodies);

  const Elimination elimination = eliminateByMinimumDegree(count, edges);
  std::vector<int> position(count), rows(count);
  int offset = 0, memory = 0;
  for (int k = 0; k < count; ++k) {
    const Member& m = members[elimination.order[k]];
    position[elimination.order[k]] = k;
    const RowCount c = rowCount(m.type);
    nodes_.push_back({m.joint, m.type, m.a, m.b, c.rows, offset, memory, bodies[m.a].dynamic(), bodies[m.b].dynamic(),
                      false, m.geometry, m.compliance, m.pinRadius});
    rows[k] = c.rows;
    offset += c.rows;
    memory += RowBlock::storage(c.rows, c.angular);
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
  for (auto* v : {&compliance_, &gamma_, &target_, &impulse_, &delta_, &curvature_, &force_, &offset_})
    v->assign(offset, 0);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const double linear = n.compliance > 0 ? n.compliance : (looped_ ? kLoopCompliance : 0);
      const bool angular = r >= n.rows - rowCount(n.type).angular;
      compliance_[n.offset + r] = angular ? linear / (n.pinRadius * n.pinRadius) : linear;
    }
}

void Assembly::markUntouchedAxes(std::vector<Body>& bodies) const {
  std::map<BodyId, std::vector<Vec3>> arms;
  std::set<BodyId> turned;  // by angular rows
  for (const Node& n : nodes_) {
    arms[n.a].push_back(n.geometry.anchorA);
    arms[n.b].push_back(n.geometry.anchorB);
    if (rowCount(n.type).angular > 0) turned.insert(n.a), turned.insert(n.b);
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

RowErrors Assembly::evaluate(const std::vector<Body>& bodies) {
  RowErrors worst;
  for (const Node& n : nodes_) {
    RowBlock rows = block(fresh_, n);
    evaluateRows(n.type, n.geometry, bodies[n.a], bodies[n.b], rows);
    if (n.released) continue;
    for (int r = 0; r < n.rows; ++r) {
      double& w = r < rows.linear() ? worst.linear : worst.angular;
      const double e = std::abs(rows.error()[r] - offset_[n.offset + r]);
      if (!(e <= w)) w = e;  // a NaN stays
    }
  }
  return worst;
}

void Assembly::adopt() {
  rows_.swap(fresh_);
}

void Assembly::factor(const std::vector<Body>& bodies, double h) {
  cholesky_.clear();
  const double inverseH2 = 1 / (h * h);
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    const Node& n = nodes_[k];
    const double* jacobian = block(rows_, n).jacobian();
    double* w = &response_[n.offset * kRowWidth];
    for (int r = 0; r < n.rows; ++r) {
      if (n.dynamicA) respond(jacobian + r * kRowWidth, bodies[n.a], w + r * kRowWidth);
      if (n.dynamicB) respond(jacobian + r * kRowWidth + 6, bodies[n.b], w + r * kRowWidth + 6);
    }
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
      gamma_[row] = std::max(compliance_[row] * inverseH2, floor * diagonal);
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
  releaseRows();
  cholesky_.factor();
}

void Assembly::releaseRows() {
  for (std::size_t k = 0; k < nodes_.size(); ++k) {
    if (!nodes_[k].released) continue;
    const int rows = nodes_[k].rows;
    double* d = cholesky_.diagonal(static_cast<int>(k));
    for (int r = 0; r < rows; ++r)
      for (int c = 0; c < rows; ++c) d[r * rows + c] = r == c;
  }
  for (const Coupling& c : couplings_)
    if (nodes_[c.row].released || nodes_[c.column].released)
      std::fill_n(cholesky_.block(c.block), nodes_[c.row].rows * nodes_[c.column].rows, 0.0);
}

void Assembly::aimAtPosition(double h) {
  const double bend = h * h / (curvatureStep_ * curvatureStep_);
  for (const Node& n : nodes_) {
    const double* error = block(rows_, n).error();
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      target_[row] = -(error[r] - offset_[row] + bend * curvature_[row]) / h;
      impulse_[row] = 0;
    }
  }
}

void Assembly::aimAtVelocity(double h, double rate) {
  for (const Node& n : nodes_) {
    const double* error = block(rows_, n).error();
    for (int r = 0; r < n.rows; ++r) {
      target_[n.offset + r] = -rate * error[r] / h;
      impulse_[n.offset + r] = 0;
    }
  }
}

void Assembly::aimAtRest(double time) {
  for (std::size_t row = 0; row < target_.size(); ++row) {
    target_[row] = gamma_[row] * force_[row] * time;
    impulse_[row] = 0;
  }
}

void Assembly::aimAtAcceleration(const std::vector<double>& bend) {
  for (std::size_t row = 0; row < target_.size(); ++row) {
    target_[row] = gamma_[row] * force_[row] - bend[row];
    impulse_[row] = 0;
  }
}

void Assembly::relax(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    const double* jacobian = block(rows_, n).jacobian();
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double v = rowVelocity(jacobian + r * kRowWidth, a.velocity, a.spin, b.velocity, b.spin);
      delta_[row] = n.released ? 0 : target_[row] - v - gamma_[row] * impulse_[row];
    }
  }
  apply(bodies);
}

void Assembly::correct(std::vector<Body>& bodies, double h, double share) {
  for (const Node& n : nodes_) {
    const double* error = block(fresh_, n).error();
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      // C + alpha lambda, with lambda = p / (share h) and alpha = gamma h^2.
      delta_[row] = n.released ? 0 : -((error[r] - offset_[row]) / h + gamma_[row] * impulse_[row] / share);
    }
  }
  apply(bodies);
}

void Assembly::apply(std::vector<Body>& bodies) {
  cholesky_.solve(delta_.data());
  for (const Node& n : nodes_) {
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
}

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  for (const Node& n : nodes_) {
    const RowBlock before = block(rows_, n), after = block(fresh_, n);
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const double v =
          rowVelocity(before.jacobian() + r * kRowWidth, a.velocity, a.kickedSpin, b.velocity, b.kickedSpin);
      curvature_[n.offset + r] = after.error()[r] - before.error()[r] - h * v;
      force_[n.offset + r] = impulse_[n.offset + r] / time;
    }
  }
}

void Assembly::acceptLoose(double time) {
  forgetCurvature();
  for (std::size_t row = 0; row < force_.size(); ++row) force_[row] = impulse_[row] / time;
  for (const Node& n : nodes_) std::copy_n(block(fresh_, n).error(), n.rows, &offset_[n.offset]);
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
    const int angular = rowCount(n.type).angular, linear = n.rows - angular;
    Vec3 force = Vec3::Zero();  // on b
    for (int r = 0; r < linear; ++r)
      for (int i = 0; i < 3; ++i) force[i] += impulse_[n.offset + r] * rate * jacobian[r * kRowWidth + 6 + i];
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
      pull(-force, rows.armA(), bodies[n.a].stiffness);
      bodies[n.a].stiffness += turning;
      bodies[n.a].stiffened = true;
    }
    if (n.dynamicB) {
      pull(force, rows.armB(), bodies[n.b].stiffness);
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
  const double* error = block(fresh_, n).error();
  const int linear = n.rows - rowCount(n.type).angular;
  const auto norm = [&](int from, int to) {
    double s = 0;
    for (int r = from; r < to; ++r) s += error[r] * error[r];
    return std::sqrt(s);
  };
  return {norm(0, linear), norm(linear, n.rows)};
}

}  // namespace calm
