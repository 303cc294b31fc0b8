// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_newton.h"

#include <algorithm>

#include "engine/solve/ordering.h"

namespace calm {

namespace {

// What the sticking points' tangents yield, as a fraction of their mobility: so little that nothing creeps, and enough
// for them to share redundant friction alike.
constexpr double kGrain = 1e-6;
// Sets of so many bodies at most, whose factor takes so many multiplications, are worth it.
constexpr int kMostBodies = 128;
constexpr double kMostWork = 3e4;
constexpr std::size_t kMostPlans = 64;

using Block = Eigen::Map<Eigen::Matrix<double, 6, 6, Eigen::RowMajor>>;

// What each of a sticking point's tangents yields, m/s for each unit of impulse.
double grainOf(const ContactLaw<double>& law) {
  return kGrain * law.mobility[0];
}

constexpr double signOf(int side) {
  return side == 0 ? -1 : 1;
}

// A matrix along the directions, in the world.
Mat3 outward(const Mat3& directions, const Mat3& m) {
  return directions * m * directions.transpose();
}

}  // namespace

ContactNewton::Plan& ContactNewton::planFor(int count, const Edges& edges) {
  const auto found = plans_.find(edges);
  if (found != plans_.end()) return found->second;
  if (plans_.size() >= kMostPlans) plans_.clear();
  Plan& plan = plans_[edges];
  const Elimination elimination = eliminateByMinimumDegree(count, edges);
  plan.place.resize(count);
  for (int k = 0; k < count; ++k) plan.place[elimination.order[k]] = k;
  for (const std::vector<int>& below : elimination.below) {
    const auto blocks = static_cast<double>(below.size() + 1);
    plan.work += blocks * (blocks + 1) / 2 * 6 * 6 * 6;
  }
  if (plan.work <= kMostWork) plan.factor.analyse(std::vector<int>(count, 6), elimination.below);
  return plan;
}

// Returns false if they are too many.
bool ContactNewton::takeBodies(const Touches& touches, const ContactSet& set, const std::vector<Body>& bodies) {
  number_.clear();
  int count = 0;
  for (int k = set.firstPlace; k < set.endPlace; ++k)
    number_.push_back(bodies[touches.bodies[k]].dynamic() ? count++ : -1);
  if (count > kMostBodies) return false;
  Edges edges;
  for (int k = set.firstPatch; k < set.endPatch; ++k) {
    const ContactPatch& patch = touches.patches[touches.order[k]];
    if (bodies[patch.a].dynamic() && bodies[patch.b].dynamic())
      edges.emplace_back(std::minmax(number_[patch.placeA - set.firstPlace], number_[patch.placeB - set.firstPlace]));
  }
  // Their number tells sets apart that have no edges.
  edges.emplace_back(count - 1, count - 1);
  plan_ = &planFor(count, edges);
  dynamic_.resize(count);
  for (std::size_t k = 0; k < number_.size(); ++k)
    if (number_[k] >= 0) dynamic_[plan_->place[number_[k]]] = touches.bodies[set.firstPlace + static_cast<int>(k)];
  return plan_->work <= kMostWork;
}

void ContactNewton::takePatch(const Touches& touches, const ContactSet& set, const ContactPatch& from,
                              const Terms& terms, const std::vector<Body>& bodies) {
  Patch& patch = patches_.emplace_back();
  // What is not dynamic may have its place in another set.
  const auto placeOf = [&](int body, int place) {
    return bodies[body].dynamic() ? plan_->place[number_[place - set.firstPlace]] : -1;
  };
  patch.place = {placeOf(from.a, from.placeA), placeOf(from.b, from.placeB)};
  const auto [early, late] = std::minmax(patch.place[0], patch.place[1]);
  patch.block = early < 0 ? 0 : plan_->factor.offDiagonal(late, early);
  patch.friction = from.friction;
  patch.seam = from.seam;
  const Mat3& d = patch.directions = from.directions;
  const Mat3 inward = d.transpose();
  Motions motions;
  Mat3 response[2];
  double inverseMass = 0;
  for (const int side : {0, 1}) {
    const Body& body = bodies[side == 0 ? from.a : from.b];
    motions[side] = {inward * body.velocity, inward * body.spin};
    if (patch.place[side] < 0) continue;
    response[side] = outward(inward, body.response);
    inverseMass += body.linearResponse;
  }
  patch.first = static_cast<int>(points_.size());
  for (int i = from.first; i < from.end; ++i) {
    const ContactPoint& point = touches.points[i];
    Point& p = points_.emplace_back();
    p.index = i;
    p.before = p.impulse = point.impulse;
    const Vec3 lever = from.leverOf(point), arms[] = {inward * point.armA, inward * point.armB};
    Mat3 mobility = Mat3::Zero();
    mobility.diagonal().setConstant(inverseMass);
    for (const int side : {0, 1}) {
      const Vec3& arm = arms[side];
      Mat3& turning = p.turning[side];
      turning << 0, lever[1] - arm[2], lever[2] + arm[1], arm[2], 0, -arm[0], -arm[1], arm[0], 0;
      if (patch.place[side] >= 0) mobility += turning.transpose() * (response[side] * turning);
    }
    const double m[3][3] = {
        {mobility(0, 0), 0, 0}, {mobility(1, 0), mobility(1, 1), mobility(1, 2)}, {mobility(2, 0), 0, mobility(2, 2)}};
    setMobility(p.law, m, terms.softness);
    p.law.target = point.target;
    for (int k = 0; k < 2; ++k) p.law.came[k] = point.came[k];
    p.slipBefore = slipOf(p, motions);
    p.slipBefore.tail<2>() += point.carried;
    p.slip = p.slipBefore;
  }
  patch.end = static_cast<int>(points_.size());
}

bool ContactNewton::solve(Touches& touches, const ContactSet& set, const Terms& terms, std::vector<Body>& bodies) {
  constexpr int kRounds = 8;
  constexpr double kExact = 1e-3;  // of what is enough
  constexpr double kBetter = 0.1;  // of what the round before lacked
  if (!takeBodies(touches, set, bodies)) return false;
  patches_.clear();
  points_.clear();
  for (int k = set.firstPatch; k < set.endPatch; ++k)
    takePatch(touches, set, touches.patches[touches.order[k]], terms, bodies);
  yieldAlikeAcrossSeams(
      patches_, [&](int p) -> ContactLaw<double>& { return points_[p].law; },
      [&](int p) { return touches.points[points_[p].index].softer; });
  for (const Patch& patch : patches_)
    for (int i = patch.first; i < patch.end; ++i) {
      Point& p = points_[i];
      // Velocities are closed without the compliance's own yield.
      if (terms.given) p.law.target += p.law.softness * (*terms.given)[p.index];
      decide(patch.friction, p);
    }
  double lacks = 0;
  for (int round = 0; round < kRounds; ++round) {
    build(bodies);
    plan_->factor.factor();
    plan_->factor.solve(change_.data());
    const double before = lacks;
    lacks = 0;
    for (const Patch& patch : patches_) lacks = std::max(lacks, follow(patch));
    if (lacks <= kExact * terms.enough) break;
    // Where many points are about to slide, what they do runs in circles.
    if (round > 0 && lacks > kBetter * before) break;
  }
  if (!(lacks <= terms.enough)) return false;
  for (const Point& p : points_) touches.points[p.index].impulse = p.impulse;
  for (std::size_t k = 0; k < dynamic_.size(); ++k) {
    bodies[dynamic_[k]].velocity += Eigen::Map<const Vec3>(&change_[6 * k]);
    bodies[dynamic_[k]].spin += Eigen::Map<const Vec3>(&change_[6 * k + 3]);
  }
  return true;
}

// (M + J^T S J) dv = J^T (S (target - v) - p), with the stiffness S, 1/yield, of the points' directions that hold;
// where an impulse is set, its change stands in their place.
void ContactNewton::build(const std::vector<Body>& bodies) {
  plan_->factor.clear();
  for (std::size_t k = 0; k < dynamic_.size(); ++k) {
    const Body& body = bodies[dynamic_[k]];
    Block own(plan_->factor.diagonal(static_cast<int>(k)));
    own.setZero();
    own.diagonal().head<3>().setConstant(1 / body.linearResponse);
    own.bottomRightCorner<3, 3>() = body.response.inverse();
  }
  change_.assign(6 * dynamic_.size(), 0);
  for (const Patch& patch : patches_) addPatch(patch);
}

void ContactNewton::addPatch(const Patch& patch) {
  // Of the patch as a whole, along its directions: rows and columns are impulses and angular impulses on a side.
  Vec3 straight = Vec3::Zero(), push = Vec3::Zero();
  std::array<Mat3, 2> mixed{Mat3::Zero(), Mat3::Zero()}, turned = mixed;
  std::array<Vec3, 2> turn{Vec3::Zero(), Vec3::Zero()};
  Mat3 between = Mat3::Zero();
  for (int i = patch.first; i < patch.end; ++i) {
    const Point& p = points_[i];
    Vec3 stiff = Vec3::Zero(), impulse = -p.before;
    if (p.hold != Hold::open) {
      stiff[0] = 1 / p.law.softness;
      impulse[0] += stiff[0] * (p.law.target - p.slipBefore[0]);
    }
    if (p.hold == Hold::slides) impulse.tail<2>() += p.rubs;
    if (p.hold == Hold::sticks) {
      stiff[1] = stiff[2] = 1 / grainOf(p.law);
      impulse.tail<2>() = -stiff[1] * p.slipBefore.tail<2>();
    }
    push += impulse;
    for (const int side : {0, 1}) turn[side] += p.turning[side] * impulse;
    if (p.hold == Hold::open) continue;
    straight += stiff;
    const Mat3 stiffB = p.turning[1] * stiff.asDiagonal();
    between += stiffB * p.turning[0].transpose();
    for (const int side : {0, 1}) {
      const Mat3 stiffened = side == 1 ? stiffB : Mat3(p.turning[0] * stiff.asDiagonal());
      mixed[side] += stiffened;
      turned[side] += stiffened * p.turning[side].transpose();
    }
  }
  const Mat3& d = patch.directions;
  const Mat3 linear = d * straight.asDiagonal() * d.transpose();
  for (const int side : {0, 1}) {
    const int place = patch.place[side];
    if (place < 0) continue;
    Eigen::Map<Vec3>(&change_[6 * place]) += signOf(side) * (d * push);
    Eigen::Map<Vec3>(&change_[6 * place + 3]) += signOf(side) * (d * turn[side]);
    Block own(plan_->factor.diagonal(place));  // of which the upper half is not read
    own.topLeftCorner<3, 3>() += linear;
    mixed[side] = outward(d, mixed[side]);
    own.bottomLeftCorner<3, 3>() += mixed[side];
    own.bottomRightCorner<3, 3>() += outward(d, turned[side]);
  }
  if (patch.place[0] < 0 || patch.place[1] < 0) return;
  const int row = patch.place[1] > patch.place[0] ? 1 : 0, column = 1 - row;
  between = outward(d, between);
  Eigen::Map<Eigen::Matrix<double, 6, 6>> off(plan_->factor.block(patch.block));
  off.topLeftCorner<3, 3>() -= linear;
  off.topRightCorner<3, 3>() -= mixed[column].transpose();
  off.bottomLeftCorner<3, 3>() -= mixed[row];
  off.bottomRightCorner<3, 3>() -= row == 1 ? between : Mat3(between.transpose());
}

Vec3 ContactNewton::slipOf(const Point& p, const Motions& motions) {
  return motions[1].velocity - motions[0].velocity + p.turning[1].transpose() * motions[1].spin -
         p.turning[0].transpose() * motions[0].spin;
}

double ContactNewton::follow(const Patch& patch) {
  Motions changes;
  for (const int side : {0, 1}) {
    if (patch.place[side] < 0) continue;
    const double* change = &change_[6 * patch.place[side]];
    const Mat3 inward = patch.directions.transpose();
    changes[side] = {inward * Eigen::Map<const Vec3>(change), inward * Eigen::Map<const Vec3>(change + 3)};
  }
  double lacks = 0;
  for (int i = patch.first; i < patch.end; ++i) {
    Point& p = points_[i];
    p.slip = p.slipBefore + slipOf(p, changes);
    p.impulse.setZero();
    if (p.hold != Hold::open) p.impulse << (p.law.target - p.slip[0]) / p.law.softness, p.rubs;
    if (p.hold == Hold::sticks) p.impulse.tail<2>() = p.before.tail<2>() - p.slip.tail<2>() / grainOf(p.law);
    lacks = std::max(lacks, decide(patch.friction, p));
  }
  return lacks;
}

// What the point does next by its law. Returns by how much that would change its velocity, m/s.
double ContactNewton::decide(double friction, Point& p) {
  ContactPush<double> push{};
  for (int k = 0; k < 3; ++k) push.impulse[k] = p.impulse[k];
  const double effect = resolve(p.law, friction, p.slip.data(), push);
  p.rubs = {push.impulse[1], push.impulse[2]};
  constexpr double kRim = 1 - 1e-9;
  if (push.impulse[0] == 0)
    p.hold = Hold::open;
  else if (p.rubs.norm() >= kRim * friction * push.impulse[0])
    p.hold = Hold::slides;
  else
    p.hold = Hold::sticks;
  return effect;
}

}  // namespace calm
