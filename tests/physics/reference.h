// SPDX-License-Identifier: GPL-3.0-or-later
// A second opinion: jointed bodies by another method altogether, slow and without any trick.
//
// Newton's and Euler's equations with the joints' forces as Lagrange multipliers on the level of accelerations (index
// 1; Wittenburg, Dynamics of Multibody Systems, 2008), integrated by the classical Runge-Kutta method of fourth order
// in long double. Joints are only their coordinates, written down from the description of the types; all derivatives
// are differences. Shares nothing with the engine but the definitions that it is given.
#pragma once

#include <vector>

#include "engine/world.h"

namespace calm::physics {

class Reference {
 public:
  explicit Reference(const Vec3& gravity) : gravity_(gravity.cast<Real>()) {}

  // Bodies are numbered as a world does that has none yet but the world itself. Their part frames are in their centres
  // of mass.
  void addBody(const BodyDef& def);
  // Free axes may be locked (low = high), sprung without a cap, or have a motor that never comes to its speed.
  void addJoint(const JointDef& def);

  void run(double seconds, int steps);

  // Centre of mass, m.
  Vec3 position(BodyId body) const { return states_[body].position.cast<double>(); }
  // N, of the joint on its part b, at the end of run().
  Vec3 force(JointId joint) const { return forces_[joint].cast<double>(); }

 private:
  using Real = long double;
  using Three = Eigen::Matrix<Real, 3, 1>;
  using Turn = Eigen::Quaternion<Real>;
  using Matrix = Eigen::Matrix<Real, Eigen::Dynamic, Eigen::Dynamic>;
  using Column = Eigen::Matrix<Real, Eigen::Dynamic, 1>;
  struct State {
    Three position = Three::Zero();
    Turn turn = Turn::Identity();
    Three velocity = Three::Zero(), spin = Three::Zero();
  };
  struct Mass {
    Real mass = 0;                                                          // 0: the world
    Eigen::Matrix<Real, 3, 3> inertia = Eigen::Matrix<Real, 3, 3>::Zero();  // in the part's axes
    Real linearDamping = 0, angularDamping = 0;
  };
  // Of a joint: what is to stay nothing, and its free coordinates.
  struct Shape {
    std::vector<Real> locked, free;
  };
  struct Rates {
    Three velocity, acceleration, spin, turning;
  };

  Shape shapeOf(const JointDef& joint, const State& a, const State& b) const;
  // Adds what joint k's springs and motors push with, and its locked rows.
  struct Rows {
    std::vector<Column> jacobians;
    std::vector<Real> bends;
    std::vector<int> joints;
  };
  void addJointTo(int k, const std::vector<State>& states, Column& forces, Rows& rows, std::vector<Three>* loads) const;
  // Of all bodies, linear then angular, one after the other.
  Column accelerations(const std::vector<State>& states, std::vector<Three>* loads) const;
  static State moved(const State& s, const Three& by, const Three& turn);

  Three gravity_;
  std::vector<Mass> masses_{Mass{}};
  std::vector<State> states_{State{}};
  std::vector<JointDef> joints_;
  std::vector<Three> forces_;
};

}  // namespace calm::physics
