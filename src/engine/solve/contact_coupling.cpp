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
  using RowMajor = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  RowMajor halves = RowMajor::Zero(rows, n);
  coupling_.setZero(n, n);
  struct Use {
    BodyId body;
    double sign;
    Vec3 arm, lever;
    Mat3 angular;  // columns: what unit impulses along the directions add to the spin
    double inverseMass;
  };
  const auto use = [&](BodyId id, double sign, const Vec3& arm, const Vec3& lever, const Mat3& directions) {
    Mat3 turning;
    for (int k = 0; k < 3; ++k) turning.col(k) = arm.cross(directions.col(k)) + lever[k] * directions.col(0);
    return Use{id, sign, arm, lever, bodies[id].response * turning, bodies[id].linearResponse};
  };
  std::vector<std::array<Use, 2>> uses;
  std::vector<Mat3> directions;
  for (int p = 0; p < size(); ++p) {
    const Patch& patch = patches_[points_[p].patch];
    directions.push_back(patch.axes());
    const Contact& c = contacts_[p];
    uses.push_back({use(patch.a, -1, c.armA.vec(), c.lever.vec(), directions[p]),
                    use(patch.b, 1, c.armB.vec(), c.lever.vec(), directions[p])});
  }
  for (int p = 0; p < size(); ++p)
    for (const Use& at : uses[p]) {
      if (!bodies[at.body].dynamic()) continue;
      for (int q = 0; q <= p; ++q) {
        for (const Use& other : uses[q]) {
          if (other.body != at.body) continue;
          // The velocity at q's point by impulses at p's.
          Mat3 moved = at.inverseMass * directions[p];
          for (int k = 0; k < 3; ++k) moved.col(k) += at.angular.col(k).cross(other.arm);
          coupling_.block<3, 3>(3 * q, 3 * p) +=
              at.sign * other.sign *
              (directions[q].transpose() * moved + other.lever * (directions[q].col(0).transpose() * at.angular));
        }
      }
      double* into = halves.data() + 3 * p;
      for (const Assembly* a : assemblies) {
        a->respondHalf(at.body, at.sign * at.inverseMass * directions[p], at.sign * at.angular, into, n);
        into += a->rows() * n;
      }
    }
  for (int p = 0; p < size(); ++p) {
    double* columns = halves.data() + 3 * p;
    for (const Assembly* a : assemblies) {
      a->finishHalf(columns, n);
      columns += a->rows() * n;
    }
  }
  coupling_.selfadjointView<Eigen::Upper>().rankUpdate(halves.transpose(), -1);
  coupling_.triangularView<Eigen::StrictlyLower>() = coupling_.transpose();
  for (int p = 0; p < size(); ++p) {
    const Point& point = points_[p];
    Mat3 mobility = coupling_.block<3, 3>(3 * p, 3 * p);
    // What the joints hold altogether has no mobility left but round-off; keep a grain of its own.
    mobility.diagonal() = mobility.diagonal().cwiseMax(1e-9 * point.alone);
    setMobility(contacts_[p], mobility);
    // Overlap is pushed out with what would part the two bodies alone: where joints jam them, the full speed would
    // fling others.
    if (point.pushedOut > 0) contacts_[p].target = point.pushedOut * std::min(1.0, mobility(0, 0) / point.alone[0]);
  }
}

double ContactSolver::relaxCoupled(std::vector<Body>& bodies, int sweeps, double enough, double reduction) {
  std::vector<Vec3> before;
  speeds_.resize(3 * size());
  for (int i = 0; i < size(); ++i) {
    Contact& c = contacts_[i];
    before.push_back(c.impulse.vec());
    c.direction = {};
    const Patch& patch = patches_[points_[i].patch];
    const Body &a = bodies[patch.a], &b = bodies[patch.b];
    speeds_.segment<3>(3 * i) = patch.axes().transpose() * (b.velocityAt(c.armB.vec()) - a.velocityAt(c.armA.vec())) +
                                c.lever.vec() * patch.directions[0].vec().dot(b.spin - a.spin);
  }
  headingSpeeds_.setZero(3 * size());
  gradient_ = beta_ = 0;
  double change = 0;
  for (int i = 0; i < sweeps; ++i) {
    change = sweepCoupled();
    if (i == 0) enough = std::max(enough, reduction * change);
    if (change < enough) break;
  }
  for (int i = 0; i < size(); ++i) pushBodies(i, contacts_[i].impulse.vec() - before[i], bodies);
  return change;
}

}  // namespace calm
