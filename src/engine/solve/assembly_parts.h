// SPDX-License-Identifier: GPL-3.0-or-later
// What an assembly is made of: nodes, their rows and what those do. Only for its own files.
#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/joint/rows.h"

namespace calm {

struct AssemblyParts {
  struct Node {
    int index;
    JointId joint;
    JointType type;
    BodyId a, b;
    int rows, offset;  // in row vectors
    int memory;        // in the row storage
    int angular;       // rows that are angles; the last ones
    ShortRows kept;    // rows of each of these kinds
    bool axes;         // its rows are free axes' coordinates
    bool yields;       // some of its rows are not, but keep to a spring's law
    int riders;        // other bodies that take part
    int riderMemory;   // in the storage of their Jacobians
    bool dynamicA, dynamicB, released, first, firstOnAxes, breakable, compliant, watched = false;
    int used = 0, place = 0;               // rows in the system, and where they are among all of them
    int firstCoupling = 0, couplings = 0;  // of which it is the row

    int sides() const { return 2 + riders; }  // 0 for a, 1 for b, then the riders
    bool ruled() const { return axes || yields; }
    // Whether all its rows are kept in short.
    bool isShort() const { return kept.all() == rows; }
    // Where those begin that are not, and where those that only turn the bodies.
    int firstWhole() const { return kept.pivot + kept.along; }
    int firstTurning() const { return rows - kept.turning; }
  };
  // Along which a row in short moves the bodies, if it does; and the sum of all such of a node, times these numbers.
  static Vec3 directionOf(const Node& n, const RowBlock& rows, int r) {
    if (r < n.kept.pivot) return Vec3::Unit(r);
    return Eigen::Map<const Vec3>(rows.vector(r));
  }
  static Vec3 sumAlong(const Node& n, const RowBlock& rows, const double* p) {
    Vec3 sum = Vec3::Zero();
    if (n.kept.pivot > 0) sum = Eigen::Map<const Vec3>(p);
    for (int r = n.kept.pivot; r < n.firstWhole(); ++r) sum += p[r] * Eigen::Map<const Vec3>(rows.vector(r));
    return sum;
  }
  // What is seldom asked of a node's joint.
  struct Part {
    JointGeometry geometry;
    double compliance, pinRadius, fade;
  };
  // What a row is doing. Locks and stops are held at a position, running drives at one that moves on at their speed,
  // springs follow a rate law, and the rest carry a set force: none, or that of a drive at its cap.
  enum class State : std::uint8_t { locked, spring, drive, set, atLow, atHigh };
  // What a row is for. An axis with stops or a drive has one row for both, one for friction that a motor runs against,
  // one for its spring and one for soft stops.
  enum class Kind : std::uint8_t { lock, stop, friction, softStop, spring, winch };
  // The axis of a row of an axes node.
  struct Axis {
    int number = 0;     // in the joint
    double yields = 0;  // N/m or N m/rad, of what is locked and yields as a spring
    Kind kind = Kind::lock;
    AxisDef def;
    Winding winding;
    int motor = -1;  // of friction: the row that it runs against
    bool stopsHard() const { return kind == Kind::stop && def.hasHardStops() && !def.isLocked(); }
    bool sendsBack() const { return stopsHard() && def.restitution > 0; }
  };
  // How a row's velocity depends on that of a body, and how its impulse pushes it.
  struct Jacobian {
    Vec3 linear, angular;
    double rate(const Vec3& velocity, const Vec3& spin) const { return linear.dot(velocity) + angular.dot(spin); }
  };
  struct NodeRange {
    int first = 0, last = -1;

    void include(int node) {
      first = last < 0 ? node : std::min(first, node);
      last = std::max(last, node);
    }
  };
  struct SpringLaw {
    double stiffness, damping, target, cap;
  };
  // Two nodes that share a dynamic body.
  struct Coupling {
    int row, column, rowSide, columnSide;
    int block;  // in the factorisation's storage
  };
  // A row that is in the system while bounds are settled, and the least and most that it can push with.
  struct Bounded {
    int node, row;
    double low, high;
    int side = 0;         // of the bound that it ends up at, and
    double pressure = 0;  // by how much its rate is beyond its target there
  };
  // What outlives a substep.
  struct Memory {
    std::vector<double> impulse, curvature, force, offset;
    double curvatureStep, budget, surplus, liveliest;
    int fallback;
    // Of free axes.
    bool creeps, revised;
    std::vector<State> state;
    std::vector<signed char> sign;
    std::vector<char> grazed;
    std::vector<Axis> axis;
    std::vector<double> rateBefore, rateEarlier, rateNow, rateAtRest;
    std::vector<SpringStep> springStep;
    double closingSpan, lookAhead;
  };
};

}  // namespace calm
