// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts that know how the joints answer them.
#include <algorithm>
#include <array>
#include <numeric>
#include <utility>

#include "engine/math/panels.h"
#include "engine/solve/assembly.h"
#include "engine/solve/contact_solver.h"

namespace calm {

namespace {

// What the points' speeds change by with one's impulse.
void addAnswer(const Eigen::MatrixXd& coupling, int point, const double* impulse, Eigen::VectorXd& speeds) {
  panels::addThreeColumns(&coupling(0, 3 * point), impulse, static_cast<int>(coupling.rows()), speeds.data());
}

}  // namespace

Eigen::MatrixXd ContactSolver::couplingOf(const std::vector<int>& points, const std::vector<Body>& bodies,
                                          const std::vector<Assembly*>& assemblies, Eigen::VectorXd& alone) const {
  const int count = static_cast<int>(points.size()), n = panels::paddedTo(3 * count);
  int rows = 0;
  for (const Assembly* a : assemblies) rows += a->rows();
  using RowMajor = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  RowMajor halves = RowMajor::Zero(rows, n);
  Eigen::MatrixXd coupling = Eigen::MatrixXd::Zero(n, n);
  struct Use {
    BodyId body;
    double sign;
    Mat3 turning;  // columns: angular impulses of unit impulses along the directions ...
    Mat3 angular;  // ... and what they add to the spin
    double inverseMass;
  };
  const auto use = [&](BodyId id, double sign, const Vec3& arm, const Vec3& lever, const Mat3& directions) {
    const Mat3 turning = turningBy(arm, lever, directions);
    return Use{id, sign, turning, bodies[id].response * turning, bodies[id].linearResponse};
  };
  std::vector<std::array<Use, 2>> uses;
  std::vector<Mat3> directions;
  for (const int i : points) {
    const ContactPoint& point = touches_.points[i];
    const ContactPatch& patch = touches_.patches[point.patch];
    const Mat3& d = directions.emplace_back(patch.directions);
    const Vec3 lever = patch.leverOf(point);
    uses.push_back({use(patch.a, -1, point.armA, lever, d), use(patch.b, 1, point.armB, lever, d)});
  }
  for (int p = 0; p < count; ++p)
    for (const Use& at : uses[p]) {
      if (!bodies[at.body].dynamic()) continue;
      for (int q = 0; q <= p; ++q) {
        for (const Use& other : uses[q]) {
          if (other.body != at.body) continue;
          // The velocities at q's point by impulses at p's.
          const Mat3 linear = at.inverseMass * (directions[q].transpose() * directions[p]);
          coupling.block<3, 3>(3 * q, 3 * p) +=
              at.sign * other.sign * (linear + other.turning.transpose() * at.angular);
        }
      }
      double* into = halves.data() + 3 * p;
      for (const Assembly* a : assemblies) {
        a->respondHalf(at.body, at.sign * at.inverseMass * directions[p], at.sign * at.angular, into, n);
        into += a->rows() * n;
      }
    }
  double* own = halves.data();
  for (const Assembly* a : assemblies) {
    a->finishHalf(own, n);
    own += a->rows() * n;
  }
  alone = coupling.diagonal();
  panels::subtractGram(halves.data(), rows, n, coupling.data());
  return coupling;
}

// What the joints hold altogether has no mobility left but round-off; a grain of its own is kept.
Mat3 ContactSolver::mobilityOf(int place, const Eigen::MatrixXd& coupling, const Eigen::VectorXd& alone) {
  Mat3 mobility = coupling.block<3, 3>(3 * place, 3 * place);
  mobility.diagonal() = mobility.diagonal().cwiseMax(1e-9 * alone.segment<3>(3 * place));
  return mobility;
}

void ContactSolver::couple(const std::vector<Body>& bodies, const std::vector<Assembly*>& assemblies) {
  unequal_ = areUnequal(bodies);
  std::vector<int> points(size());
  std::iota(points.begin(), points.end(), 0);
  Eigen::VectorXd alone;
  coupling_ = couplingOf(points, bodies, assemblies, alone);
  coupled_.resize(size());
  for (int p = 0; p < size(); ++p) setMobility(coupled_[p].law, mobilityOf(p, coupling_, alone));
  yieldAlikeAcrossSeams(
      touches_.patches, [&](int p) -> ContactLaw<double>& { return coupled_[p].law; },
      [&](int p) { return touches_.points[p].softer; });
  for (int p = 0; p < size(); ++p) {
    const ContactPoint& point = touches_.points[p];
    ContactLaw<double>& law = coupled_[p].law;
    coupled_[p].friction = touches_.patches[point.patch].friction;
    law.target = point.target;
    for (int k = 0; k < 2; ++k) law.came[k] = point.came[k];
    // Overlap is pushed out with what would part the two bodies alone: where joints jam them, the full speed would
    // fling others.
    if (point.target > 0) law.target *= std::min(1.0, law.mobility[0] / alone[3 * p]);
    // Velocities are closed without the compliance's own yield.
    if (closing_) law.target += law.softness * given_[p];
  }
}

// Stops that come to hold or let go change how joints answer.
void ContactSolver::settleWithJoints(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                                     const std::vector<Assembly*>& assemblies) const {
  constexpr int kRounds = 20;
  const int count = static_cast<int>(struck.size());
  std::vector<int> points;
  for (const Impact& impact : struck) points.push_back(impact.point);
  bool changed = true;
  for (int round = 0; changed && round < kRounds; ++round) {
    Eigen::VectorXd alone;
    const Eigen::MatrixXd coupling = couplingOf(points, bodies, assemblies, alone);
    Eigen::VectorXd speeds = Eigen::VectorXd::Zero(coupling.rows());
    std::vector<Vec3> before;
    for (int i = 0; i < count; ++i) {
      setImpactLaw(mobilityOf(i, coupling, alone), struck[i].contact.law);
      speeds.segment<3>(3 * i) = slipAt(points[i], bodies);
      before.push_back(struck[i].impulse());
    }
    for (int sweep = 0; sweep < kImpactSweeps; ++sweep) {
      double largest = 0;
      for (int i = 0; i < count; ++i) {
        auto& [law, push, friction] = struck[i].contact;
        largest = std::max(largest, resolve(law, friction, &speeds[3 * i], push));
        addAnswer(coupling, i, push.change, speeds);
      }
      if (largest < kImpactSettled * fastest) break;
    }
    for (int i = 0; i < count; ++i) pushAt(points[i], struck[i].impulse() - before[i], bodies);
    changed = false;
    for (Assembly* assembly : assemblies) changed |= assembly->relaxImpact(bodies);
  }
}

double ContactSolver::relaxCoupled(std::vector<Body>& bodies, const Goal& goal, double momentum) {
  speeds_.setZero(coupling_.rows());
  for (int i = 0; i < size(); ++i) {
    ContactPush<double>& push = coupled_[i].push;
    push = {};
    for (int k = 0; k < 3; ++k) push.impulse[k] = touches_.points[i].impulse[k];
    const ContactPatch& patch = touches_.patches[touches_.points[i].patch];
    speeds_.segment<3>(3 * i) = slipAt(i, bodies) + patch.directions.transpose() * patch.wandering;
    speeds_.segment<2>(3 * i + 1) += touches_.points[i].carried;
  }
  double change = settleCoupled(bodies, goal);
  if (easeJams(bodies, momentum)) change = settleCoupled(bodies, goal);
  std::vector<Vec3> impulses;
  for (const Contact& c : coupled_) impulses.push_back(Eigen::Map<const Vec3>(c.push.impulse));
  pushByChanges(bodies, impulses);
  return change;
}

// Where slips turn round within the step, their means may be nothing to oppose, and it may come to no end: then what is
// left of them decides, if that does. Not where something is jointed: that may jam, which comes to no end either.
double ContactSolver::settleCoupled(const std::vector<Body>& bodies, const Goal& goal) {
  Goal reached = goal;
  const auto jointed = [&](int id) { return bodies[id].jointed; };
  if (std::any_of(touches_.bodies.begin(), touches_.bodies.end(), jointed)) return settleByLaw(bodies, reached);
  const std::vector<Contact> start = coupled_;
  const Eigen::VectorXd speeds = speeds_;
  const double change = settleByLaw(bodies, reached);
  if (change <= reached.enough || !turnsRound()) return change;
  const std::vector<Contact> unsettled = std::exchange(coupled_, start);
  const Eigen::VectorXd left = std::exchange(speeds_, speeds);
  for (Contact& c : coupled_) c.law.came[0] = c.law.came[1] = 0;
  reached = goal;
  const double without = settleByLaw(bodies, reached);
  if (without <= reached.enough) return without;
  coupled_ = unsettled;
  speeds_ = left;
  return change;
}

bool ContactSolver::turnsRound() const {
  for (int i = 0; i < size(); ++i) {
    const double* came = coupled_[i].law.came;
    if (came[0] * speeds_[3 * i + 1] + came[1] * speeds_[3 * i + 2] < 0) return true;
  }
  return false;
}

// Sweeps leave the load on a face where they began, as they may where joints hold what presses; the next steps begin
// with it.
bool ContactSolver::isPressedAnew() const {
  constexpr int kFew = 24;  // points
  return size() <= kFew && std::any_of(touches_.patches.begin(), touches_.patches.end(),
                                       [](const ContactPatch& p) { return p.fresh && p.twist != 0; });
}

double ContactSolver::settleByLaw(const std::vector<Body>& bodies, Goal& goal) {
  const double hardest = unequal_ ? hardestSoftness(bodies) : 0;
  if (unequal_ && isPressed(hardest) && solveHarder(hardest, gripsAtStart(), goal.enough)) return 0;
  headingSpeeds_.setZero(speeds_.size());
  sweptSpeeds_.setZero(speeds_.size());
  double change = 0, gradient = 0, before = 0;
  for (int i = 0; i < goal.sweeps; ++i) {
    const ContactStep<double> step = stepAfter(gradient, before);
    before = gradient;
    change = sweepCoupled(step, gradient);
    if (i == 0) goal.enough = std::max(goal.enough, goal.reduction * change);
    if (change < goal.enough) break;
  }
  if ((change > goal.enough || isPressedAnew()) && solveActive(gripsNow(), goal.enough)) change = 0;
  if (unequal_ && isPressed(hardest) && solveHarder(hardest, gripsNow(), goal.enough)) change = 0;
  return change;
}

// What pushes by far more than all the momentum and the weight that there is jams: parts that joints hold between one
// another. There it only holds; to push the overlap out would take any amount of work. What is free may have what it is
// pushed out with.
bool ContactSolver::easeJams(const std::vector<Body>& bodies, double momentum) {
  constexpr double kLever = 8;
  bool eased = false;
  for (int i = 0; i < size(); ++i) {
    auto& [law, push, friction] = coupled_[i];
    const ContactPatch& patch = touches_.patches[touches_.points[i].patch];
    double most = momentum;
    for (const Body* body : {&bodies[patch.a], &bodies[patch.b]})
      if (body->dynamic() && !body->jointed) most += body->mass * std::max(touches_.points[i].target, 0.0);
    if (push.impulse[0] <= kLever * most || speeds_[3 * i] <= 0) continue;
    law.target -= speeds_[3 * i];
    eased = true;
  }
  return eased;
}

double ContactSolver::sweepCoupled(const ContactStep<double>& step, double& gradient) {
  headingSpeeds_ *= step.share;
  speeds_ += headingSpeeds_;
  headingSpeeds_ += step.keep * sweptSpeeds_;
  sweptSpeeds_ = speeds_;
  double largest = 0;
  gradient = 0;
  for (int i = 0; i < size(); ++i) {
    auto& [law, push, friction] = coupled_[i];
    for (int k = 0; k < 3; ++k) goOn(step, push.impulse[k], push.direction[k], push.change[k]);
    const double effect = resolve(law, friction, &speeds_[3 * i], push);
    if (effect == 0) continue;
    largest = std::max(largest, effect);
    gradient += squaredChange(law, push);
    addAnswer(coupling_, i, push.change, speeds_);
  }
  sweptSpeeds_ = speeds_ - sweptSpeeds_;
  return largest;
}

}  // namespace calm
