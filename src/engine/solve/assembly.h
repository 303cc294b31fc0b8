// SPDX-License-Identifier: GPL-3.0-or-later
// The joints that hang together, solved together.
//
// With the Jacobian J of all rows and the bodies' inverse inertia W, impulses p solve (J W J^T + G) p = b - J v
// exactly, by a sparse block Cholesky factorisation over the graph whose nodes are joints and whose edges are
// shared dynamic bodies. G is each row's true compliance over h^2.
#pragma once

#include <algorithm>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/solve/block_cholesky.h"
#include "engine/solve/body.h"

namespace calm {

// Largest errors of an assembly's rows.
struct RowErrors {
  double linear = 0;   // m
  double angular = 0;  // rad
};

class Assembly {
 public:
  struct Member {
    JointId joint;
    JointType type;
    BodyId a, b;
    JointGeometry geometry;
    double compliance;  // m/N, 0 for the engine's own
    double pinRadius;   // m
  };

  // Orders and lays out the system. `bodies` tells which are dynamic.
  Assembly(const std::vector<Member>& members, const std::vector<Body>& bodies);

  // The line through the centre of mass of each dynamic body on which all its joints pull; see Body::untouchedAxis.
  void markUntouchedAxes(std::vector<Body>& bodies) const;

  int joints() const { return static_cast<int>(nodes_.size()); }
  JointId jointOf(int node) const { return nodes_[node].joint; }
  const std::vector<BodyId>& dynamicBodies() const { return dynamicBodies_; }

  // --- One substep, in this order ---

  // Rows at the present poses, into the fresh set; returns the largest errors, less the offset.
  RowErrors evaluate(const std::vector<Body>& bodies);
  // Makes the fresh set the current one.
  void adopt();
  // Builds and factors the system for step h from the current rows and the bodies' response.
  void factor(const std::vector<Body>& bodies, double h);
  // Asks for velocities that bring the errors to zero over h, bent as over the last substep.
  void aimAtPosition(double h);
  // Asks for velocities that shrink the errors by the fraction `rate` over h.
  void aimAtVelocity(double h, double rate);
  // Asks for no relative velocity: the on-step velocities at the end of a frame, by impulses over `time`. Where rows
  // are redundant these lean on the last accepted forces.
  void aimAtRest(double time);
  // Asks for the accelerations that keep the rows closed: bend = d2C/dt2 of free motion. Solved with velocities that
  // hold accelerations; the impulses are forces then.
  void aimAtAcceleration(const std::vector<double>& bend);
  // Solves for what the rows still lack, and applies it.
  void relax(std::vector<Body>& bodies);
  // Newton correction from the fresh errors, to be applied to velocities at the substep's start. `share` is the part
  // of a full substep's impulse that this one carries.
  void correct(std::vector<Body>& bodies, double h, double share);
  // The substep stands: notes the forces impulse/time and, from the fresh errors, how the rows bent over the drift h.
  void accept(const std::vector<Body>& bodies, double h, double time);
  // The same after a step at velocity level, whose left-over errors are not to turn into speed: they become an offset
  // that fades away.
  void acceptLoose(double time);
  // Fades the offset by the given factor.
  void fadeOffset(double factor);
  void forgetCurvature() { std::fill(curvature_.begin(), curvature_.end(), 0.0); }
  // Errors of the fresh set, row by row.
  void copyErrors(std::vector<double>& errors) const;

  // Substeps still to be taken at velocity level after a failure; see Island.
  int fallback() const { return fallback_; }
  void setFallback(int substeps) { fallback_ = substeps; }
  // Kinetic energy, J, that those substeps have lost and may spend on closing separations.
  double& budget() { return budget_; }

  // Adds the geometric stiffness of the forces impulse/time to the bodies.
  void addStiffness(std::vector<Body>& bodies, double time) const;

  // Impulse and angular impulse about the pivot of this substep on body b of the node.
  void impulseOf(int node, Vec3& linear, Vec3& angular) const;
  // Errors of one node in the fresh set: lengths of the linear and angular parts.
  RowErrors errorsOf(int node) const;
  // From now on the node carries nothing (a joint that has parted), until the assembly is rebuilt.
  void release(int node) { nodes_[node].released = true; }
  bool released(int node) const { return nodes_[node].released; }

 private:
  struct Node {
    JointId joint;
    JointType type;
    BodyId a, b;
    int rows, offset;  // in row vectors
    int memory;        // in the row storage
    bool dynamicA, dynamicB, released;
    JointGeometry geometry;
    double compliance, pinRadius;
  };
  // Two nodes that share a dynamic body; sides are 0 for a, 1 for b.
  struct Coupling {
    int row, column, rowSide, columnSide;
    int block;  // in the factorisation's storage
  };

  RowBlock block(std::vector<double>& memory, const Node& n) const { return {&memory[n.memory], n.rows}; }
  RowBlock block(const std::vector<double>& memory, const Node& n) const {
    return {const_cast<double*>(&memory[n.memory]), n.rows};
  }
  void apply(std::vector<Body>& bodies);  // delta_ to velocities and impulses
  void releaseRows();

  std::vector<Node> nodes_;  // in elimination order
  std::vector<Coupling> couplings_;
  std::vector<BodyId> dynamicBodies_;
  bool looped_ = false;
  double curvatureStep_ = 1;  // s, over which curvature_ was seen
  BlockCholesky cholesky_;
  std::vector<double> rows_, fresh_;        // row storage
  std::vector<double> response_;            // W J^T, 12 a row
  std::vector<double> compliance_, gamma_;  // of each row: true, and as it stands on the diagonal
  std::vector<double> target_, impulse_, delta_, curvature_, force_, offset_;
  int fallback_ = 0;
  double budget_ = 0;
};

}  // namespace calm
