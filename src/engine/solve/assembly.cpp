// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/assembly.h"

#include <algorithm>
#include <cmath>

#include "engine/solve/assembly_rates.h"
#include "engine/solve/block_size.h"

namespace calm {

namespace {

// The rows of a pivot alone, whose responses are kept from w on: each moves the body along its own axis.
void pushAtPivot(Body& body, const double* w, const double* impulses) {
  const double x = impulses[0], y = impulses[1], z = impulses[2];
  body.velocity[0] += w[0] * x;
  body.velocity[1] += w[kRowWidth + 1] * y;
  body.velocity[2] += w[2 * kRowWidth + 2] * z;
  for (int k = 0; k < 3; ++k) body.spin[k] += w[3 + k] * x + w[kRowWidth + 3 + k] * y + w[2 * kRowWidth + 3 + k] * z;
}

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
  for (const Node& n : nodes_) {
    if (n.released) {
      std::fill_n(&delta_[n.place], n.used, 0.0);
      continue;
    }
    const int linear = n.rows - n.angular;
    for (int i = 0; i < n.used; ++i) {
      const int r = usedRow(n, i), row = n.offset + r;
      const bool drives = state_[row] == State::drive;
      delta_[n.place + i] = 0;
      if (!held(row) && !drives) continue;  // springs keep to their own law
      // A drive that runs is to have come as far as its speed says.
      const double error = drives ? fresh_[n.memory + r] - rows_[n.memory + r] - h * axis_[row].def.speed
                                  : errorOf(fresh_, n, r) - offset_[row];
      // With lambda = p / (share h) and alpha = gamma share h^2; what is there for round-off only has no share in it.
      const double yielding = compliance_[row] > 0 ? h : h / share;
      const double lack = error + yielding * gamma_[row] * impulse_[row];
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

void Assembly::aimAtPosition(double h, double share) {
  lookAhead_ = h;
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double ahead =
          state_[row] == State::drive ? -h * axis_[row].def.speed : errorOf(rows_, n, r) - offset_[row];
      target_[row] = -(ahead + bendAhead(row)) / h;
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
  noteLack(bodies);
  apply(bodies);
}

void Assembly::noteLack(const std::vector<Body>& bodies) {
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
  push(bodies);
}

void Assembly::push(std::vector<Body>& bodies) {
  for (const Node& n : nodes_) {
    if (n.used == 0) continue;
    for (int i = 0; i < n.used; ++i) impulse_[n.offset + usedRow(n, i)] += delta_[n.place + i];
    withSize(n.used, [&]<int N>() { push<N>(bodies, n, &usedRows_[n.offset], &delta_[n.place]); });
  }
}

template <int N>
void Assembly::push(std::vector<Body>& bodies, const Node& n, const signed char* rows, const double* impulses) const {
  const auto pushSide = [&](Body& body, const SideRows& answer) {
    if (n.pivot == N) return pushAtPivot(body, answer[0], impulses);
    PairRow<3> sum{loadPair(&body.velocity[0]), Pair{body.velocity[2], body.spin[0]}, loadPair(&body.spin[1])};
    for (int k = 0; k < N; ++k) {
      const double* w = answer[rows[k]];
      for (int i = 0; i < 3; ++i) sum[i] += loadPair(w + 2 * i) * impulses[k];
    }
    storePair(&body.velocity[0], sum[0]);
    body.velocity[2] = sum[1][0];
    body.spin[0] = sum[1][1];
    storePair(&body.spin[1], sum[2]);
  };
  if (n.dynamicA) pushSide(bodies[n.a], responseOf(n, 0));
  if (n.dynamicB) pushSide(bodies[n.b], responseOf(n, 1));
  for (int side = 2; side < n.sides(); ++side)
    if (Body& rider = bodies[bodyOf(n, side)]; rider.dynamic()) pushSide(rider, responseOf(n, side));
}

template void Assembly::push<1>(std::vector<Body>&, const Node&, const signed char*, const double*) const;

void Assembly::accept(const std::vector<Body>& bodies, double h, double time) {
  curvatureStep_ = h;
  const double perTime = 1 / time;
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
  m.rateBefore = rateBefore_, m.rateNow = rateNow_, m.rateAtRest = rateAtRest_;
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
  rateBefore_ = m.rateBefore, rateNow_ = m.rateNow, rateAtRest_ = m.rateAtRest;
  springStep_ = m.springStep;
  closingSpan_ = m.closingSpan, lookAhead_ = m.lookAhead;
}

void Assembly::fadeOffset(double h) {
  double fade = 0, factor = 1;
  for (const Node& n : nodes_) {
    if (parts_[n.index].fade != fade) fade = parts_[n.index].fade, factor = std::exp(-h / fade);
    for (int r = 0; r < n.rows; ++r) offset_[n.offset + r] *= factor;
  }
}

bool Assembly::bendOfPivots(const std::vector<Body>& bodies, std::vector<double>& bend) const {
  bend.assign(target_.size(), 0);
  for (const Node& n : nodes_) {
    if (n.pivot != n.rows) return false;
    const RowBlock rows = block(fresh_, n);
    Eigen::Map<Vec3> bends(&bend[n.offset]);
    for (int side = 0; side < 2; ++side) {
      const Body& body = bodies[bodyOf(n, side)];
      const Vec3 arm = Eigen::Map<const Vec3>(rows.arm(side)), spin = body.axes.transpose() * body.spin;
      const Vec3& moments = body.inertia.moments();
      Vec3 along = body.spin.cross(body.spin.cross(arm));
      // What follows keys has accelerations of its own.
      const Vec3 gyration = body.inertia.inverse().cwiseProduct(moments.cwiseProduct(spin).cross(spin));
      if (body.dynamic()) along += (body.axes * gyration).cross(arm);
      bends += side == 0 ? Vec3(-along) : along;
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
  const double* p = &impulse_[n.offset];
  const SideRows jacobian = jacobianOf(n, 1);
  for (int r = n.pivot; r < n.rows; ++r) {
    const double* j = jacobian[r];
    linear += p[r] * Vec3(j[0], j[1], j[2]);
    angular += p[r] * Vec3(j[3], j[4], j[5]);
  }
  angular -= block(rows_, n).armB().cross(linear);
  // What a pivot's rows push with goes through the pivot.
  if (n.pivot > 0) linear += Eigen::Map<const Vec3>(p);
}

RowErrors Assembly::errorsOf(int node) const {
  const Node& n = nodes_[node];
  return lengthsOf(n.rows - n.angular, n.rows, [&](int r) { return errorOf(fresh_, n, r); });
}

RowErrors Assembly::missesOf(int node) const {
  const Node& n = nodes_[node];
  if (parts_[n.index].compliance == 0) return errorsOf(node);
  return lengthsOf(n.rows - n.angular, n.rows, [&](int r) {
    const int row = n.offset + r;
    return state_[row] == State::spring ? 0 : errorOf(fresh_, n, r) + compliance_[row] * force_[row];
  });
}

}  // namespace calm
