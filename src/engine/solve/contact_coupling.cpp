// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts that know how the joints answer them.
#include <algorithm>
#include <array>

#include "engine/solve/assembly.h"
#include "engine/solve/contact_solver.h"

namespace calm {

void ContactSolver::couple(const std::vector<Body>& bodies, const std::vector<Assembly*>& assemblies) {
  const int n = 3 * size();
  int rows = 0;
  for (const Assembly* a : assemblies) rows += a->rows();
  Eigen::MatrixXd halves = Eigen::MatrixXd::Zero(rows, n);
  coupling_.setZero(n, n);
  struct Use {
    BodyId body;
    double sign;
    const Vec3& arm;
    Mat3 angular;  // columns: what unit impulses along the directions add to the spin
    double inverseMass;
  };
  const auto use = [&](BodyId id, double sign, const Vec3& arm, const Mat3& directions) {
    Mat3 turning;
    for (int k = 0; k < 3; ++k) turning.col(k) = arm.cross(directions.col(k));
    return Use{id, sign, arm, bodies[id].response * turning, bodies[id].linearResponse};
  };
  std::vector<std::array<Use, 2>> uses;
  for (const Point& p : points_)
    uses.push_back({use(p.a, -1, p.armA, p.directions), use(p.b, 1, p.armB, p.directions)});
  for (const Point& p : points_)
    for (const Use& at : uses[p.index]) {
      if (!bodies[at.body].dynamic()) continue;
      for (const Point& q : points_) {
        if (q.index > p.index) break;
        for (const Use& other : uses[q.index]) {
          if (other.body != at.body) continue;
          // The velocity at q's point by impulses at p's.
          Mat3 moved = at.inverseMass * p.directions;
          for (int k = 0; k < 3; ++k) moved.col(k) += at.angular.col(k).cross(other.arm);
          coupling_.block<3, 3>(3 * q.index, 3 * p.index) += at.sign * other.sign * q.directions.transpose() * moved;
        }
      }
      for (int k = 0; k < 3; ++k) {
        double* column = &halves(0, 3 * p.index + k);
        for (const Assembly* a : assemblies) {
          a->respondHalf(at.body, at.sign * at.inverseMass * p.directions.col(k), at.sign * at.angular.col(k), column);
          column += a->rows();
        }
      }
    }
  for (int c = 0; c < n; ++c) {
    double* column = &halves(0, c);
    for (const Assembly* a : assemblies) {
      a->finishHalf(column);
      column += a->rows();
    }
  }
  coupling_.selfadjointView<Eigen::Upper>().rankUpdate(halves.transpose(), -1);
  coupling_.triangularView<Eigen::StrictlyLower>() = coupling_.transpose();
  for (Point& p : points_) {
    Mat3 mobility = coupling_.block<3, 3>(3 * p.index, 3 * p.index);
    // What the joints hold altogether has no mobility left but round-off; keep a grain of its own.
    mobility.diagonal() = mobility.diagonal().cwiseMax(1e-9 * p.alone);
    setMobility(p, mobility);
    // Overlap is pushed out with what would part the two bodies alone: where joints jam them, the full speed would
    // fling others.
    if (p.pushedOut > 0) p.target = p.pushedOut * std::min(1.0, mobility(0, 0) / p.alone[0]);
  }
}

double ContactSolver::relaxCoupled(std::vector<Body>& bodies, int sweeps, double enough, double reduction) {
  std::vector<Vec3> before;
  for (Point& p : points_) {
    before.push_back(p.impulse);
    p.direction.setZero();
  }
  load(bodies);
  headingSpeeds_.setZero(3 * size());
  speeds_.resize(3 * size());
  for (const Point& p : points_) speeds_.segment<3>(3 * p.index) = slip(p);
  coupled_ = true;
  gradient_ = beta_ = 0;
  double change = 0;
  for (int i = 0; i < sweeps; ++i) {
    change = sweepOn(all());
    if (i == 0) enough = std::max(enough, reduction * change);
    if (change < enough) break;
  }
  coupled_ = false;
  for (const Point& p : points_) pushBodies(p, p.impulse - before[p.index], bodies);
  return change;
}

}  // namespace calm
