// SPDX-License-Identifier: GPL-3.0-or-later
#include "physics/reference.h"

#include <Eigen/Dense>
#include <cmath>
#include <stdexcept>

namespace calm::physics {

namespace {

constexpr long double kNudge = 1e-6L;   // of differences
constexpr long double kMoment = 1e-3L;  // s, of second differences along the way

template <class V>
long double angleAbout(const V& axis, const V& from, const V& to) {
  return std::atan2(axis.dot(from.cross(to)), from.dot(to));
}

}  // namespace

void Reference::addBody(const BodyDef& def) {
  Mass mass;
  mass.mass = def.mass.mass;
  mass.inertia = def.mass.inertia.cast<Real>();
  mass.linearDamping = def.linearDamping, mass.angularDamping = def.angularDamping;
  masses_.push_back(mass);
  states_.push_back({def.pose.position.cast<Real>(), def.pose.rotation.cast<Real>(), def.velocity.cast<Real>(),
                     def.angularVelocity.cast<Real>()});
}

void Reference::addJoint(const JointDef& def) {
  joints_.push_back(def);
}

Reference::State Reference::moved(const State& s, const Three& by, const Three& turn) {
  State to = s;
  to.position += by;
  const Real angle = turn.norm();
  if (angle > 0) to.turn = (Turn(Eigen::AngleAxis<Real>(angle, turn / angle)) * s.turn).normalized();
  return to;
}

Reference::Shape Reference::shapeOf(const JointDef& joint, const State& a, const State& b) const {
  const auto axesOf = [](const State& s, const Pose& frame) {
    return Eigen::Matrix<Real, 3, 3>((s.turn.normalized() * frame.rotation.cast<Real>()).toRotationMatrix());
  };
  const Eigen::Matrix<Real, 3, 3> onA = axesOf(a, joint.frameA), onB = axesOf(b, joint.frameB);
  const Three x = onA.col(0), y = onA.col(1), z = onA.col(2), bx = onB.col(0), by = onB.col(1);
  const Three gap = b.position + b.turn.normalized() * joint.frameB.position.cast<Real>() - a.position -
                    a.turn.normalized() * joint.frameA.position.cast<Real>();
  const auto turnAboutX = [&] { return angleAbout(x, y, Three(by - x.dot(by) * x)); };
  Shape s;
  const auto pivot = [&] { s.locked.insert(s.locked.end(), {gap[0], gap[1], gap[2]}); };
  const auto parallel = [&] { s.locked.insert(s.locked.end(), {y.dot(bx), z.dot(bx)}); };
  switch (joint.type) {
    case JointType::fixed:
      pivot(), parallel();
      s.locked.push_back(z.dot(by));
      break;
    case JointType::ball:
      pivot();
      break;
    case JointType::hinge:
      pivot(), parallel();
      s.free = {turnAboutX()};
      break;
    case JointType::slider:
      s.locked = {y.dot(gap), z.dot(gap), z.dot(by)};
      parallel();
      s.free = {x.dot(gap)};
      break;
    case JointType::cylinder:
      s.locked = {y.dot(gap), z.dot(gap)};
      parallel();
      s.free = {x.dot(gap), turnAboutX()};
      break;
    case JointType::universal:
      pivot();
      s.locked.push_back(x.dot(by));
      s.free = {turnAboutX(), angleAbout(by, Three(x - by.dot(x) * by), bx)};
      break;
    case JointType::planar:
      s.locked = {x.dot(gap)};
      parallel();
      s.free = {y.dot(gap), z.dot(gap), turnAboutX()};
      break;
    case JointType::wheel:
      s.locked = {x.dot(gap), z.dot(gap), y.dot(bx), angleAbout(y, x, Three(bx - y.dot(bx) * y))};
      s.free = {y.dot(gap), 0, angleAbout(bx, y, Three(by - bx.dot(by) * bx))};
      break;
    case JointType::distance:
    case JointType::spring:
      s.free = {gap.norm()};
      break;
    default:
      throw std::invalid_argument("the reference does not know this type");
  }
  for (std::size_t k = 0; k < s.free.size(); ++k)
    if (joint.axes[k].low == joint.axes[k].high) s.locked.push_back(s.free[k] - joint.axes[k].low);
  return s;
}

void Reference::addJointTo(int k, const std::vector<State>& states, Column& forces, Rows& rows,
                           std::vector<Three>* loads) const {
  const JointDef& joint = joints_[k];
  const State &a = states[joint.a], &b = states[joint.b];
  const Shape now = shapeOf(joint, a, b);
  const auto size = forces.size();
  std::vector<Column> locked(now.locked.size(), Column::Zero(size)), free(now.free.size(), Column::Zero(size));
  for (int side = 0; side < 2; ++side)
    for (int d = 0; d < 6; ++d) {
      Three by = Three::Zero(), turn = Three::Zero();
      (d < 3 ? by : turn)[d % 3] = kNudge;
      const auto nudged = [&](Real sign) {
        const State to = moved(side == 0 ? a : b, sign * by, sign * turn);
        return side == 0 ? shapeOf(joint, to, b) : shapeOf(joint, a, to);
      };
      const Shape on = nudged(1), back = nudged(-1);
      const auto at = 6 * (side == 0 ? joint.a : joint.b) + d;
      for (std::size_t i = 0; i < locked.size(); ++i) locked[i][at] = (on.locked[i] - back.locked[i]) / (2 * kNudge);
      for (std::size_t i = 0; i < free.size(); ++i) free[i][at] = (on.free[i] - back.free[i]) / (2 * kNudge);
    }
  // d2C/dt2 along steady motion, to fourth order.
  const auto later = [&](Real time) {
    return shapeOf(joint, moved(a, time * a.velocity, time * a.spin), moved(b, time * b.velocity, time * b.spin));
  };
  const Shape steps[] = {later(-2 * kMoment), later(-kMoment), later(kMoment), later(2 * kMoment)};
  for (std::size_t i = 0; i < locked.size(); ++i) {
    const Real sum = 16 * (steps[1].locked[i] + steps[2].locked[i]) - steps[0].locked[i] - steps[3].locked[i];
    rows.jacobians.push_back(locked[i]);
    rows.bends.push_back((sum - 30 * now.locked[i]) / (12 * kMoment * kMoment));
    rows.joints.push_back(k);
  }
  Column velocities(size);
  for (std::size_t i = 0; i < states.size(); ++i)
    velocities.segment<3>(6 * i) = states[i].velocity, velocities.segment<3>(6 * i + 3) = states[i].spin;
  for (std::size_t i = 0; i < free.size(); ++i) {
    const AxisDef& axis = joint.axes[i];
    Real push = axis.speed > 0 ? axis.cap : -axis.cap;
    push -= axis.stiffness * (now.free[i] - axis.target) + axis.damping * free[i].dot(velocities);
    forces += push * free[i];
    if (loads) (*loads)[k] += push * free[i].segment<3>(6 * joint.b);
  }
}

Reference::Column Reference::accelerations(const std::vector<State>& states, std::vector<Three>* loads) const {
  const auto size = static_cast<Eigen::Index>(6 * states.size());
  Column forces = Column::Zero(size);
  Matrix inverse = Matrix::Zero(size, size);
  for (std::size_t i = 1; i < states.size(); ++i) {
    const State& s = states[i];
    const Mass& m = masses_[i];
    const Eigen::Matrix<Real, 3, 3> axes = s.turn.normalized().toRotationMatrix();
    const Eigen::Matrix<Real, 3, 3> inertia = axes * m.inertia * axes.transpose();
    forces.segment<3>(6 * i) = m.mass * (gravity_ - m.linearDamping * s.velocity);
    forces.segment<3>(6 * i + 3) = -s.spin.cross(Three(inertia * s.spin)) - m.angularDamping * (inertia * s.spin);
    inverse.block<3, 3>(6 * i, 6 * i).diagonal().setConstant(1 / m.mass);
    inverse.block<3, 3>(6 * i + 3, 6 * i + 3) = inertia.inverse();
  }
  Rows rows;
  for (std::size_t k = 0; k < joints_.size(); ++k) addJointTo(static_cast<int>(k), states, forces, rows, loads);
  const auto count = static_cast<Eigen::Index>(rows.jacobians.size());
  Column all = inverse * forces;
  if (count == 0) return all;
  Matrix jacobian(count, size);
  Column bends(count);
  for (Eigen::Index i = 0; i < count; ++i) jacobian.row(i) = rows.jacobians[i].transpose(), bends[i] = rows.bends[i];
  const Matrix responses = inverse * jacobian.transpose();
  const Column push = Matrix(jacobian * responses).partialPivLu().solve(Column(-bends - jacobian * all));
  if (loads)
    for (Eigen::Index i = 0; i < count; ++i)
      (*loads)[rows.joints[i]] += push[i] * jacobian.row(i).segment<3>(6 * joints_[rows.joints[i]].b).transpose();
  return all + responses * push;
}

void Reference::run(double seconds, int steps) {
  const Real h = static_cast<Real>(seconds) / steps;
  // Rates of the positions, turns, velocities and spins at each of the four stages.
  struct Stage {
    std::vector<State> at;
    Column rates;
  };
  const auto after = [&](const std::vector<State>& from, const std::vector<std::pair<const Stage*, Real>>& stages) {
    std::vector<State> to = from;
    for (std::size_t i = 1; i < from.size(); ++i) {
      const auto segment = static_cast<Eigen::Index>(6 * i);
      for (const auto& [stage, time] : stages) {
        const State& s = stage->at[i];
        to[i].position += time * s.velocity;
        to[i].turn.coeffs() += time / 2 * (Turn(0, s.spin[0], s.spin[1], s.spin[2]) * s.turn).coeffs();
        to[i].velocity += time * stage->rates.segment<3>(segment);
        to[i].spin += time * stage->rates.segment<3>(segment + 3);
      }
    }
    return to;
  };
  for (int i = 0; i < steps; ++i) {
    Stage stages[4];
    for (int k = 0; k < 4; ++k) {
      if (k == 0)
        stages[k].at = states_;
      else
        stages[k].at = after(states_, {{&stages[k - 1], k == 3 ? h : h / 2}});
      stages[k].rates = accelerations(stages[k].at, nullptr);
    }
    states_ = after(states_, {{&stages[0], h / 6}, {&stages[1], h / 3}, {&stages[2], h / 3}, {&stages[3], h / 6}});
    for (State& s : states_) s.turn.normalize();
  }
  forces_.assign(joints_.size(), Three::Zero());
  accelerations(states_, &forces_);
}

}  // namespace calm::physics
