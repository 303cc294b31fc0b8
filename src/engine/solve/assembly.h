// SPDX-License-Identifier: GPL-3.0-or-later
// The joints that hang together, solved together.
//
// With the Jacobian J of all rows and the bodies' inverse inertia W, impulses p solve (J W J^T + G) p = b - J v
// exactly, by a sparse block Cholesky factorisation over the graph whose nodes are joints and whose edges are
// shared dynamic bodies. G is each row's true compliance over h^2.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <map>
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
    std::array<AxisDef, kMaxAxes> axes;
    std::array<Winding, kMaxAxes> windings;
    double compliance;  // m/N, 0 for the engine's own
    double pinRadius;   // m
    double fade;        // s, in which a misfit closes to 1/e
  };

  // Orders and lays out the system. `bodies` tells which are dynamic.
  Assembly(const std::vector<Member>& members, const std::vector<Body>& bodies);

  // The line through the centre of mass of each dynamic body on which all its joints pull; see Body::untouchedAxis.
  void markUntouchedAxes(std::vector<Body>& bodies) const;

  // A joint has a node for what is locked and one for what happens on its free axes, either only if there is any.
  int nodes() const { return static_cast<int>(nodes_.size()); }
  JointId jointOf(int node) const { return nodes_[node].joint; }
  const std::vector<BodyId>& dynamicBodies() const { return dynamicBodies_; }

  // --- One substep, in this order ---

  // Moves the stops of winches on to where they are at the substep's end.
  void wind(double h);

  // Rows at the present poses, into the fresh set.
  void evaluate(const std::vector<Body>& bodies);
  // How far the fresh rows are from C + alpha lambda = 0, less the offset: what correct() has to make up for.
  RowErrors residual(double h, double share) const;
  // Makes the fresh set the current one.
  void adopt();
  // Builds and factors the system for step h from the current rows and the bodies' response.
  void factor(const std::vector<Body>& bodies, double h);
  // Notes the rates of sprung axes before the kick. With `opening` the velocities belong to the poses, and the half
  // kick that brought them there was the first half of this substep's.
  void noteRates(const std::vector<Body>& bodies, bool opening);
  // Notes the rates of sprung axes as the frame closed.
  void noteRatesAtRest(const std::vector<Body>& bodies);
  // Asks for velocities that bring the errors to zero over h, bent as over the last substep, by impulses that are the
  // part `share` of a full substep's.
  void aimAtPosition(double h, double share);
  // Asks for velocities that shrink the errors by the fraction `rate` over h.
  void aimAtVelocity(double h, double rate);
  // Asks for no relative velocity: the on-step velocities at the end of a frame, by impulses over half of h. Where rows
  // are redundant these lean on the last accepted forces.
  void aimAtRest(double h);
  // Solves for the forces that keep the rows closed, with velocities that hold accelerations: bend = d2C/dt2 of free
  // motion. Springs push with what their law says at the noted rates. The impulses are forces then.
  void solveAccelerations(std::vector<Body>& bodies, const std::vector<double>& bend, double h);
  // Applies what drives at their caps push with over `time`. Once, before the first relax().
  void pushAtCaps(std::vector<Body>& bodies, double time);
  // Solves for what the rows still lack, and applies it.
  void relax(std::vector<Body>& bodies);
  // Adds J v for velocities that only the given body has to a vector of rows() numbers; finishHalf() makes L^-1 J v of
  // it, with L L^T the factored system. Dot products of two such vectors tell how much the joints take from the bodies'
  // responses. Does nothing for bodies that the assembly does not hold.
  int rows() const { return static_cast<int>(target_.size()); }
  void finishHalf(double* rows) const { cholesky_.solveHalf(rows); }
  void respondHalf(BodyId body, const Vec3& velocity, const Vec3& spin, double* into) const;
  // Whether each stop and drive is in its right state at the present velocities, reached by impulses over `time`. If
  // not, changes states, and with them the system: call relax() again. Returns whether it did.
  bool revise(std::vector<Body>& bodies, double h, double time);
  // Holds the stops that were missed on the way, because coordinates bend within a step. Returns whether there were
  // any; the fresh errors are to be taken again then.
  bool catchOvershoot(double h);
  // Newton correction from the fresh errors, to be applied to velocities at the substep's start. `share` is the part
  // of a full substep's impulse that this one carries.
  void correct(std::vector<Body>& bodies, double h, double share);
  // Lets what is about to strike stops with restitution come back from them, at velocities that belong to the poses.
  // Returns whether anything did.
  bool reflectAtStops(std::vector<Body>& bodies, double h);
  bool wouldStrikeStops(const std::vector<Body>& bodies, double h) const;
  // The substep stands: notes the forces impulse/time and, from the fresh errors, how the rows bent over the drift h.
  void accept(const std::vector<Body>& bodies, double h, double time);
  // The same after a step at velocity level, whose left-over errors are not to turn into speed: they become an offset
  // that fades away.
  void acceptLoose(double time);
  // Takes the present errors as an offset that fades away: a rig put together with a misfit closes gently.
  void forgiveMisfit();
  // Forgets everything but the joints: forces, states, curvature. Windings and winches are taken from what the world
  // has kept. To be followed by evaluate() and forgiveMisfit().
  void reset(const std::array<Winding, kMaxAxes>& windings, const std::array<AxisDef, kMaxAxes>& axes, int node);
  void forget();
  // J, kept in springs and soft stops at the fresh coordinates.
  double storedEnergy() const;
  // J, that drives have put in since the last call: what is beyond the account of conservative rows.
  double takeDriveWork();
  // What springs, drives and friction do in a solve: mean rate times impulse, with the rates noted before it.
  void noteRatesForWork(const std::vector<Body>& bodies);
  double workOfSolve(const std::vector<Body>& bodies) const;
  // Fades the offset over h.
  void fadeOffset(double h);
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
  // Whether the node is the first of its joint's.
  bool isFirst(int node) const { return nodes_[node].first; }
  // Adds what each axis of the node's joint did in the last solution to the reading (impulses, until the frame closes),
  // and sets what is active.
  void readAxes(int node, JointReading& reading) const;
  // Adds the work of the last accepted substep.
  // A drive that was solved exactly may change the rate at once; the rest does its force times the way, which a closing
  // half kick has none of.
  enum class WorkOf { substep, looseStep, closing };
  void addWork(int node, const std::vector<Body>& bodies, WorkOf what, JointReading& reading) const;
  // Hands back what outlives the assembly: windings and the stops of winches.
  void storeAxes(int node, std::array<Winding, kMaxAxes>& windings, std::array<AxisDef, kMaxAxes>& axes) const;
  // Stops, drives and springs: they bring and take energy of their own.
  bool hasAxes() const { return hasAxes_; }
  void visitState(StateArchive& state);
  bool released(int node) const { return nodes_[node].released; }

 private:
  struct Node {
    JointId joint;
    JointType type;
    BodyId a, b;
    int rows, offset;  // in row vectors
    int memory;        // in the row storage
    int angular;       // rows that are angles; the last ones
    bool axes;         // its rows are free axes' coordinates
    int riders;        // other bodies that take part
    int riderMemory;   // in the storage of their Jacobians
    bool dynamicA, dynamicB, released, first;
    JointGeometry geometry;
    double compliance, pinRadius, fade;

    // The bodies by sides: 0 for a, 1 for b, then the riders.
    int sides() const { return 2 + riders; }
    BodyId body(int side) const { return side == 0 ? a : side == 1 ? b : geometry.riders[side - 2]; }
  };
  // What a row is doing. Locks and stops are held at a position, springs and running drives follow a rate law, and the
  // rest carry a set force: none, or that of a drive at its cap.
  enum class State : std::uint8_t { locked, spring, drive, set, atLow, atHigh };
  // What a row is for. An axis with stops or a drive has one row for both, one for its spring and one for soft stops.
  enum class Kind : std::uint8_t { lock, stop, softStop, spring, winch };
  // The axis of a row of an axes node.
  struct Axis {
    int number = 0;  // in the joint
    Kind kind = Kind::lock;
    AxisDef def;
    Winding winding;
  };
  struct SpringLaw {
    double stiffness, damping, target, cap;
  };
  // Two nodes that share a dynamic body.
  struct Coupling {
    int row, column, rowSide, columnSide;
    int block;  // in the factorisation's storage
  };

  RowBlock block(std::vector<double>& memory, const Node& n) const { return {&memory[n.memory], n.rows}; }
  RowBlock block(const std::vector<double>& memory, const Node& n) const {
    return {const_cast<double*>(&memory[n.memory]), n.rows};
  }
  // Six numbers a row of one side's Jacobian or response, `stride` apart.
  struct SideRows {
    const double* at;
    int stride;
    const double* operator[](int row) const { return at + row * stride; }
  };
  SideRows jacobianOf(const Node& n, int side) const {
    if (side < 2) return {block(rows_, n).jacobian() + 6 * side, kRowWidth};
    return {&riderRows_[n.riderMemory + 6 * (side - 2)], 6 * n.riders};
  }
  SideRows responseOf(const Node& n, int side) const {
    if (side < 2) return {&response_[n.offset * kRowWidth + 6 * side], kRowWidth};
    return {&riderResponse_[n.riderMemory + 6 * (side - 2)], 6 * n.riders};
  }
  // dC/dt that the riders' velocities add to a row's.
  double riderRate(const Node& n, int r, const std::vector<Body>& bodies, Vec3 Body::*spin = &Body::spin) const;
  bool held(int row) const { return state_[row] == State::locked || state_[row] >= State::atLow; }
  // The rate that a row keeps: that of a running drive or winch.
  double speedOf(int row) const {
    if (state_[row] != State::drive && state_[row] != State::atHigh) return 0;
    return state_[row] == State::drive || axis_[row].kind == Kind::winch ? axis_[row].def.speed : 0;
  }
  void noteDriveWork(int row) {
    axis_[row].winding.before = axis_[row].winding.now;
    const bool drives = (axis_[row].kind == Kind::stop && axis_[row].def.cap > 0 && !held(row)) ||
                        (axis_[row].kind == Kind::winch && axis_[row].def.speed != 0);
    if (drives) driveWork_ += work_[row];
  }
  bool inSystem(int row) const { return state_[row] != State::set; }
  // C of a held row, from the coordinate or error in the given storage.
  double errorOf(const std::vector<double>& memory, const Node& n, int r) const;
  void evaluateNode(const Node& n, const std::vector<Body>& bodies, RowBlock& rows);
  SpringLaw lawOf(int row) const;
  double stretchOf(const Node& n, int r) const;
  double rateOf(const Node& n, int r, const std::vector<Body>& bodies) const;
  double stiffnessOn(BodyId body, bool angular) const;
  void aimSpring(const Node& n, int r, double h, double share);
  double beyondStops(const Node& n, int r, double h) const;
  bool reviseStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  bool reviseSoftStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  bool reviseSpring(const Node& n, int r, double rate, double time, std::vector<Body>& bodies);
  bool reviseWinch(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  bool wouldStrike(const Node& n, int r, double rate, double h) const;
  void become(std::vector<Body>& bodies, const Node& n, int row, State state, int sign, double impulse);
  void build(double h);
  void takeOutRows();
  void setImpulse(std::vector<Body>& bodies, const Node& n, int row, double impulse);
  void aimSprings(double h, double share);
  void apply(std::vector<Body>& bodies);  // delta_ to velocities and impulses
  void applyTo(std::vector<Body>& bodies, const Node& n);

  std::vector<Node> nodes_;  // in elimination order
  std::vector<Coupling> couplings_;
  std::vector<BodyId> dynamicBodies_;
  std::map<BodyId, std::vector<std::pair<int, int>>> nodesOn_;  // of each dynamic body: node and side
  bool looped_ = false;
  double curvatureStep_ = 1;  // s, over which curvature_ was seen
  BlockCholesky cholesky_;
  std::vector<double> rows_, fresh_;  // row storage
  std::vector<double> response_;      // W J^T, 12 a row
  std::vector<double> riderRows_, riderFresh_, riderResponse_;
  std::vector<double> compliance_, gamma_;  // of each row: true, and as it stands on the diagonal
  std::vector<double> target_, impulse_, delta_, curvature_, force_, offset_;
  std::vector<State> state_;
  // Of rows that carry a set force: 1 the most, -1 the least of their drive, 0 none; of a soft stop the side.
  std::vector<signed char> sign_;
  std::vector<Axis> axis_;          // of each row; locks have none
  std::vector<double> rateBefore_;  // springs: before the substep's kicks
  std::vector<double> rateNow_;     // springs: before the present kick
  std::vector<double> rateAtRest_;  // springs: as the frame closed
  std::vector<double> work_;        // J, of the last accepted substep
  std::vector<SpringStep> springStep_;
  bool hasAxes_ = false;
  double lookAhead_ = 0;  // s, within which stops are met: the step, or nothing when velocities are closed
  std::map<BodyId, std::array<double, 2>> springsOn_;  // summed stiffness: along, about
  int fallback_ = 0;
  double budget_ = 0;
  double driveWork_ = 0;
  std::vector<double> workRates_;
};

}  // namespace calm
