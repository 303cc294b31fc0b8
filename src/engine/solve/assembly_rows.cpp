// SPDX-License-Identifier: GPL-3.0-or-later
// How the rows of an assembly's nodes see motion, and push.
#include <algorithm>

#include "engine/solve/assembly.h"
#include "engine/solve/block_size.h"

namespace calm {

namespace {

// As withSize(), which asks for one at least.
template <class F>
void withTurning(int n, F&& f) {
  if (n > 0) withSize(n, f);
}

}  // namespace

Assembly::Jacobian Assembly::jacobianOf(const Node& n, int r, int side) const {
  if (side >= 2) {
    const double* j = &riderRows_[n.riderMemory + 6 * (n.riders * r + side - 2)];
    return {Vec3(j[0], j[1], j[2]), Vec3(j[3], j[4], j[5])};
  }
  const RowBlock rows = block(rows_, n);
  const double sign = side == 0 ? -1 : 1;
  if (r < n.pivot) {
    const Vec3 along = sign * Vec3::Unit(r);
    return {along, Eigen::Map<const Vec3>(rows.arm(side)).cross(along)};
  }
  const int turning = r - (n.rows - n.turning);
  if (turning >= 0) return {Vec3::Zero(), sign * Eigen::Map<const Vec3>(rows.turns() + 3 * turning)};
  const double* j = rows.jacobian() + kRowWidth * (r - n.pivot) + 6 * side;
  return {Vec3(j[0], j[1], j[2]), Vec3(j[3], j[4], j[5])};
}

std::array<Vec3, kMaxRows> Assembly::gather(const Node& n, int side, Vec3 Jacobian::*which) const {
  std::array<Vec3, kMaxRows> rows;
  for (int i = 0; i < n.used; ++i) rows[i] = jacobianOf(n, usedRow(n, i), side).*which;
  return rows;
}

// What one node's rows feel of another's, or of its own, by how these move a body that both hold: a block of as many
// columns as the first has rows.
void Assembly::addMoves(const Node& n, int side, const Node& other, int otherSide, double mobility,
                        double* into) const {
  if (!n.moves() && !other.moves()) {
    // Those of pivots move it along the same axes.
    const double along = side == otherSide ? mobility : -mobility;
    for (int i = 0; i < std::min(n.pivot, other.pivot); ++i) into[i * (n.used + 1)] += along;
    return;
  }
  const std::array<Vec3, kMaxRows> moves = gather(n, side, &Jacobian::linear);
  const bool self = &n == &other && side == otherSide;
  const std::array<Vec3, kMaxRows> others = self ? moves : gather(other, otherSide, &Jacobian::linear);
  for (int r = 0; r < other.used; ++r) {
    const Vec3 moved = mobility * others[r];
    for (int i = 0; i < n.used; ++i) *into++ += moved.dot(moves[i]);
  }
}

double Assembly::rateOf(const Node& n, int r, const std::vector<Body>& bodies, Vec3 Body::*spin) const {
  if (const int turning = r - (n.rows - n.turning); turning >= 0) {
    const double* turn = block(rows_, n).turns() + 3 * turning;
    const Vec3 &wa = bodies[n.a].*spin, &wb = bodies[n.b].*spin;
    return turn[0] * (wb[0] - wa[0]) + turn[1] * (wb[1] - wa[1]) + turn[2] * (wb[2] - wa[2]);
  }
  double sum = 0;
  int side = 0;
  if (r >= n.pivot) {
    const Body &a = bodies[n.a], &b = bodies[n.b];
    sum = rowVelocity(block(rows_, n).jacobian() + kRowWidth * (r - n.pivot),
                      rowMotion(a.velocity, a.*spin, b.velocity, b.*spin));
    side = 2;
  }
  for (; side < n.sides(); ++side) {
    const Body& body = bodies[bodyOf(n, side)];
    sum += jacobianOf(n, r, side).rate(body.velocity, body.*spin);
  }
  return sum;
}

void Assembly::ratesOf(const Node& n, const std::vector<Body>& bodies, Vec3 Body::*spin, double* rates) const {
  if (!n.plain()) {
    for (int i = 0; i < n.used; ++i) rates[i] = rateOf(n, usedRow(n, i), bodies, spin);
    return;
  }
  const Body &a = bodies[n.a], &b = bodies[n.b];
  const RowBlock rows = block(rows_, n);
  const Vec3 &wa = a.*spin, &wb = b.*spin;
  if (n.pivot > 0) {
    const double *ra = rows.arm(0), *rb = rows.arm(1);
    rates[0] = b.velocity[0] - a.velocity[0] + (wb[1] * rb[2] - wb[2] * rb[1]) - (wa[1] * ra[2] - wa[2] * ra[1]);
    rates[1] = b.velocity[1] - a.velocity[1] + (wb[2] * rb[0] - wb[0] * rb[2]) - (wa[2] * ra[0] - wa[0] * ra[2]);
    rates[2] = b.velocity[2] - a.velocity[2] + (wb[0] * rb[1] - wb[1] * rb[0]) - (wa[0] * ra[1] - wa[1] * ra[0]);
  }
  const double x = wb[0] - wa[0], y = wb[1] - wa[1], z = wb[2] - wa[2];
  const double* turn = rows.turns();
  rates += n.pivot;
  withTurning(n.turning, [&]<int T>() {
    for (int i = 0; i < T; ++i) rates[i] = turn[3 * i] * x + turn[3 * i + 1] * y + turn[3 * i + 2] * z;
  });
}

void Assembly::push(std::vector<Body>& bodies, const Node& n, int r, double impulse) const {
  for (int side = 0; side < n.sides(); ++side) {
    Body& body = bodies[bodyOf(n, side)];
    if (!body.dynamic()) continue;
    const Jacobian j = jacobianOf(n, r, side);
    body.velocity += body.linearResponse * impulse * j.linear;
    body.spin += body.response * (impulse * j.angular);
  }
}

void Assembly::push(std::vector<Body>& bodies, const Node& n, const double* impulses) const {
  if (!n.plain()) {
    for (int side = 0; side < n.sides(); ++side) {
      Body& body = bodies[bodyOf(n, side)];
      if (!body.dynamic()) continue;
      Jacobian sum{Vec3::Zero(), Vec3::Zero()};
      for (int i = 0; i < n.used; ++i) {
        const Jacobian j = jacobianOf(n, usedRow(n, i), side);
        sum.linear += impulses[i] * j.linear;
        sum.angular += impulses[i] * j.angular;
      }
      body.velocity += body.linearResponse * sum.linear;
      body.spin += body.response * sum.angular;
    }
    return;
  }
  const RowBlock rows = block(rows_, n);
  Vec3 couple = Vec3::Zero();
  const double *turn = rows.turns(), *turning = impulses + n.pivot;
  withTurning(n.turning, [&]<int T>() {
    for (int i = 0; i < T; ++i)
      for (int k = 0; k < 3; ++k) couple[k] += turn[3 * i + k] * turning[i];
  });
  const auto pushSide = [&](Body& body, double sign, const double* r) {
    double x = couple[0], y = couple[1], z = couple[2];
    if (n.pivot > 0) {
      const double* p = impulses;
      x += r[1] * p[2] - r[2] * p[1];
      y += r[2] * p[0] - r[0] * p[2];
      z += r[0] * p[1] - r[1] * p[0];
      const double share = sign * body.linearResponse;
      for (int k = 0; k < 3; ++k) body.velocity[k] += share * p[k];
    }
    const double* w = body.response.data();  // symmetric
    for (int k = 0; k < 3; ++k, w += 3) body.spin[k] += sign * (w[0] * x + w[1] * y + w[2] * z);
  };
  if (n.dynamicA) pushSide(bodies[n.a], -1, rows.arm(0));
  if (n.dynamicB) pushSide(bodies[n.b], 1, rows.arm(1));
}

double Assembly::mobilityOn(const Body& body, const Node& n, int r, int side) const {
  if (!body.dynamic()) return 0;
  const Jacobian j = jacobianOf(n, r, side);
  return body.linearResponse * j.linear.squaredNorm() + j.angular.dot(body.response * j.angular);
}

double Assembly::ownMobility(const std::vector<Body>& bodies, const Node& n, int r) const {
  double sum = 0;
  for (int side = 0; side < n.sides(); ++side) sum += mobilityOn(bodies[bodyOf(n, side)], n, r, side);
  return sum;
}

}  // namespace calm
