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

// Velocity of b's pivot against a's.
CALM_INLINE Vec3 partingOf(const RowBlock& rows, const Body& a, const Body& b, const Vec3& spinA, const Vec3& spinB) {
  const double *ra = rows.arm(0), *rb = rows.arm(1);
  return {
      b.velocity[0] - a.velocity[0] + (spinB[1] * rb[2] - spinB[2] * rb[1]) - (spinA[1] * ra[2] - spinA[2] * ra[1]),
      b.velocity[1] - a.velocity[1] + (spinB[2] * rb[0] - spinB[0] * rb[2]) - (spinA[2] * ra[0] - spinA[0] * ra[2]),
      b.velocity[2] - a.velocity[2] + (spinB[0] * rb[1] - spinB[1] * rb[0]) - (spinA[0] * ra[1] - spinA[1] * ra[0])};
}

CALM_INLINE double along(const double* direction, const Vec3& v) {
  return direction[0] * v[0] + direction[1] * v[1] + direction[2] * v[2];
}

CALM_INLINE void addScaled(Vec3& sum, double share, const double* v) {
  for (int k = 0; k < 3; ++k) sum[k] += share * v[k];
}

}  // namespace

Assembly::Jacobian Assembly::jacobianOf(const Node& n, int r, int side) const {
  if (side >= 2) {
    const double* j = &riderRows_[n.riderMemory + 6 * (n.riders * r + side - 2)];
    return {Vec3(j[0], j[1], j[2]), Vec3(j[3], j[4], j[5])};
  }
  const RowBlock rows = block(rows_, n);
  const double sign = side == 0 ? -1 : 1;
  if (r < n.firstWhole()) {
    const Vec3 direction = sign * directionOf(n, rows, r);
    return {direction, Eigen::Map<const Vec3>(rows.arm(side)).cross(direction)};
  }
  if (r >= n.firstTurning()) return {Vec3::Zero(), sign * Eigen::Map<const Vec3>(rows.vector(r))};
  const double* j = rows.jacobian() + kRowWidth * (r - n.firstWhole()) + 6 * side;
  return {Vec3(j[0], j[1], j[2]), Vec3(j[3], j[4], j[5])};
}

std::array<Vec3, kMaxRows> Assembly::turnsOf(const Node& n, int side) const {
  std::array<Vec3, kMaxRows> turns;
  for (int i = 0; i < n.used; ++i) turns[i] = jacobianOf(n, usedRow(n, i), side).angular;
  return turns;
}

Assembly::Moves Assembly::movesOf(const Node& n, int side) const {
  Moves moves;
  const RowBlock rows = block(rows_, n);
  const double sign = side == 0 ? -1 : 1;
  for (int i = 0; i < n.used && usedRow(n, i) < n.firstTurning(); ++i) {
    const int r = usedRow(n, i);
    moves.by[moves.count++] = r < n.firstWhole() ? Vec3(sign * directionOf(n, rows, r)) : jacobianOf(n, r, side).linear;
  }
  return moves;
}

// What one node's rows feel of another's, or of its own, by how these move a body that both hold: a block of as many
// columns as the first has rows.
void Assembly::addMoves(const Node& n, int side, const Node& other, int otherSide, double mobility,
                        double* into) const {
  if (n.firstTurning() == n.kept.pivot && other.firstTurning() == other.kept.pivot) {
    // Those of pivots move it along the same axes.
    const double share = side == otherSide ? mobility : -mobility;
    for (int i = 0; i < std::min(n.kept.pivot, other.kept.pivot); ++i) into[i * (n.used + 1)] += share;
    return;
  }
  const Moves moves = movesOf(n, side), others = movesOf(other, otherSide);
  for (int r = 0; r < others.count; ++r) {
    const Vec3 moved = mobility * others.by[r];
    for (int i = 0; i < moves.count; ++i) into[r * n.used + i] += moved.dot(moves.by[i]);
  }
}

double Assembly::rateOf(const Node& n, int r, const std::vector<Body>& bodies, Vec3 Body::*spin) const {
  const Body &a = bodies[n.a], &b = bodies[n.b];
  const RowBlock rows = block(rows_, n);
  if (r >= n.firstTurning()) return along(rows.vector(r), b.*spin - a.*spin);
  if (r < n.firstWhole()) return directionOf(n, rows, r).dot(partingOf(rows, a, b, a.*spin, b.*spin));
  double sum = 0;
  for (int side = 0; side < n.sides(); ++side) {
    const Body& body = bodies[bodyOf(n, side)];
    sum += jacobianOf(n, r, side).rate(body.velocity, body.*spin);
  }
  return sum;
}

void Assembly::ratesOf(const Node& n, const std::vector<Body>& bodies, Vec3 Body::*spin, double* rates) const {
  if (!n.isShort()) {
    for (int i = 0; i < n.used; ++i) rates[i] = rateOf(n, usedRow(n, i), bodies, spin);
    return;
  }
  if (n.used == 0) return;
  const Body &a = bodies[n.a], &b = bodies[n.b];
  const RowBlock rows = block(rows_, n);
  const Vec3 turning = b.*spin - a.*spin;
  Vec3 parting = Vec3::Zero();
  if (n.firstTurning() > 0) parting = partingOf(rows, a, b, a.*spin, b.*spin);
  if (n.used < n.rows) {
    for (int i = 0; i < n.used; ++i) {
      const int r = usedRow(n, i);
      rates[i] = along(rows.vector(r), r < n.firstTurning() ? parting : turning);
    }
    return;
  }
  if (n.kept.pivot > 0) Eigen::Map<Vec3>{rates} = parting;
  for (int r = n.kept.pivot; r < n.firstTurning(); ++r) rates[r] = along(rows.vector(r), parting);
  rates += n.firstTurning();
  const double* turn = rows.vector(n.firstTurning());
  withTurning(n.kept.turning, [&]<int T>() {
    for (int i = 0; i < T; ++i) rates[i] = along(turn + 3 * i, turning);
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
  if (!n.isShort()) {
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
  Vec3 force = Vec3::Zero(), couple = Vec3::Zero();
  if (n.used < n.rows) {
    for (int i = 0; i < n.used; ++i) {
      const int r = usedRow(n, i);
      addScaled(r < n.firstTurning() ? force : couple, impulses[i], rows.vector(r));
    }
  } else {
    force = sumAlong(n, rows, impulses);
    const double *turn = rows.vector(n.firstTurning()), *turning = impulses + n.firstTurning();
    withTurning(n.kept.turning, [&]<int T>() {
      for (int i = 0; i < T; ++i) addScaled(couple, turning[i], turn + 3 * i);
    });
  }
  const auto pushSide = [&](Body& body, double sign, const double* r) {
    double x = couple[0], y = couple[1], z = couple[2];
    if (n.firstTurning() > 0) {
      x += r[1] * force[2] - r[2] * force[1];
      y += r[2] * force[0] - r[0] * force[2];
      z += r[0] * force[1] - r[1] * force[0];
      addScaled(body.velocity, sign * body.linearResponse, force.data());
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
