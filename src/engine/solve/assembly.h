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
#include <functional>
#include <map>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/solve/assembly_parts.h"
#include "engine/solve/block_cholesky.h"
#include "engine/solve/body.h"

namespace calm {

template <int N>
struct RowVectors;

// Largest errors of an assembly's rows.
struct RowErrors {
  double linear = 0;   // m
  double angular = 0;  // rad

  void include(const RowErrors& e) {
    linear = std::max(linear, e.linear);
    angular = std::max(angular, e.angular);
  }
};

class Assembly : private AssemblyParts {
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
    bool breakable;     // has a strength
  };

  // Orders and lays out the system, for substeps of `step` (s). `bodies` tells which are dynamic.
  Assembly(const std::vector<Member>& members, const std::vector<Body>& bodies, double step);

  // The line through the centre of mass of each dynamic body on which all its joints pull; see Body::untouchedAxis.
  void markUntouchedAxes(std::vector<Body>& bodies) const;

  // A joint has a node for what is locked and one for what happens on its free axes, either only if there is any.
  int nodes() const { return static_cast<int>(nodes_.size()); }
  JointId jointOf(int node) const { return nodes_[node].joint; }
  const std::vector<BodyId>& dynamicBodies() const { return dynamicBodies_; }

  // Before a frame: takes down what the axes are up to, of what most do nothing.
  void noteAxes();

  // --- One substep, in this order ---

  // Motors come to their speeds of `time` later.
  void speedUp(double time);
  // Moves the stops of winches on to where they are at the substep's end. To be called with the speeds of its middle.
  void wind(double h);

  // Rows at the present poses, into the fresh set.
  void evaluate(const std::vector<Body>& bodies);
  // How far the fresh rows are from C + alpha lambda = 0, less the offset, with impulses that are the part `share` of a
  // full substep's: what correct() is to make up for.
  RowErrors lack(double h, double share);
  // Makes the fresh set the current one.
  void adopt();
  // Makes the current set, which is that of the present poses, the fresh one, too.
  void renew() { fresh_ = rows_, riderFresh_ = riderRows_; }
  // Whether something is near what it holds. Then it is known to the tolerance of contacts only on which side of its
  // edge a drive is.
  void mayTouch(bool near) { near_ = near; }
  // Builds and factors the system for step h from the current rows and the bodies' response, for impulses that stand
  // for forces over `share` of the step.
  void factor(std::vector<Body>& bodies, double h, double share);
  // Notes the rates of sprung axes before the kick. With `opening` the velocities belong to the poses, and the half
  // kick that brought them there was the first half of this substep's.
  void noteRates(const std::vector<Body>& bodies, bool opening);
  // As if it had not been called with `opening`.
  void takeBackRates();
  // Before a solution whose work is asked for.
  void notePresentRates(const std::vector<Body>& bodies) { notePresentRates(bodies, rateNow_); }
  // Notes the rates of sprung axes as a half kick of `span` closed the frame.
  void noteRatesAtRest(const std::vector<Body>& bodies, double span);
  // Asks for velocities that bring the errors to zero over h, bent as over the last substep, by impulses that are the
  // part `share` of a full substep's.
  void aimAtPosition(double h, double share);
  // Asks for velocities that shrink the errors by the fraction `rate` over h.
  void aimAtVelocity(double h, double rate);
  // Asks for no relative velocity: the on-step velocities at the end of a frame, by impulses over half of h. Where rows
  // are redundant these lean on the last accepted forces.
  void aimAtRest(double h);
  // How the rows would bend over time if nothing held them, d2C/dt2 of free motion, for pivots and what is kept at
  // right angles alone (exact: with dw/dt of the free body). Returns false if there are others.
  bool bendOfLocks(const std::vector<Body>& bodies, std::vector<double>& bend) const;
  // Solves for the forces that keep the rows closed, with velocities that hold accelerations: bend = d2C/dt2 of free
  // motion. Springs push with what their law says at the noted rates. The impulses are forces then.
  void solveAccelerations(std::vector<Body>& bodies, const std::vector<double>& bend, double h);
  // Applies what drives at their caps push with over `time`. Once, before the first relax().
  void pushAtCaps(std::vector<Body>& bodies, double time);
  // Solves for what the rows still lack, and applies it.
  void relax(std::vector<Body>& bodies);
  // Adds J v, for three pairs of velocity and spin (columns) that only the given body has, to rows() times three
  // numbers, rows `stride` apart; finishHalf() makes L^-1 J v of them, with L L^T the factored system, for all columns
  // of such a row. Dot products of two such columns tell how much the joints take from the bodies' responses. Does
  // nothing for bodies that the assembly does not hold.
  int rows() const { return cholesky_.size(); }
  void finishHalf(double* rows, int columns) const { cholesky_.solveHalf(rows, columns); }
  void respondHalf(BodyId body, const Mat3& velocities, const Mat3& spins, double* into, int stride) const;
  // Which of those in a wrong state change: all, the first alone, or, where contacts answer in between and may call for
  // the same changes over and over, all but what has changed too often.
  enum class Revision { all, first, untired };
  // Whether each stop and drive is in its right state at the present velocities, reached by impulses over `time`. If
  // not, changes states, and with them the system: call relax() again. Returns whether it did.
  bool revise(std::vector<Body>& bodies, double h, double time, Revision which);
  // The same for all that hold or push with bounded impulses, at once, where many of them depend on one another: by an
  // interior point. What it changes is right but for what only comes to its bounds by it. Returns whether it did any.
  bool settleBounds(std::vector<Body>& bodies, double h, double time);
  // Holds the stops that were missed on the way, because coordinates bend within a step. Returns whether there were
  // any; the fresh errors are to be taken again then.
  bool catchOvershoot(const std::vector<Body>& bodies, double h);
  // Whether a stop pulls at what it holds, or a drive holds its speed with more than its cap, with impulses over
  // `time`, so that the speed would be another without that; and lets go of all that do.
  bool holdsTooHard(const std::vector<Body>& bodies, double time) const;
  void letGoWhereTooHard(std::vector<Body>& bodies, double h, double time);
  // Newton correction of what the last lack() has found, to be applied to velocities at the substep's start.
  void correct(std::vector<Body>& bodies) { apply(bodies); }
  // Lets what is about to strike stops do so at the instant of touch and come back from them, at velocities that belong
  // to the poses. Returns whether anything did. With `firstOnly`, only what strikes first. `step` as of openImpact().
  bool reflectAtStops(std::vector<Body>& bodies, double h, double step, bool firstOnly);
  // From here to there impacts are solved, which take no time: drives and springs push nothing then, only what yields
  // far within a whole step does so, and what rests at a stop may only be pushed by it. relaxImpact() takes the place
  // of relax().
  void openImpact(const std::vector<Body>& bodies, double step);
  // Returns whether stops came to hold or let go.
  bool relaxImpact(std::vector<Body>& bodies);
  void closeImpact();
  // Leaves stops that were reached only as the last substep ended out of its closing: what came to them is yet to be
  // sent back.
  void letStrike(const std::vector<Body>& bodies, double h);
  // Just before the next such strike, s from now; infinite if there is none.
  double nextStop(const std::vector<Body>& bodies) const;
  bool wouldStrikeStops(const std::vector<Body>& bodies, double h) const;
  // The substep stands: notes the forces impulse/time and, from the fresh errors, how the rows bent over the drift h.
  void accept(const std::vector<Body>& bodies, double h, double time);
  // The same after a step at velocity level, whose left-over errors are not to turn into speed: they become an offset
  // that fades away.
  void acceptLoose(double time);
  // Takes the present errors as an offset that fades away: a rig put together with a misfit closes gently. What yields
  // by its loads is only forgiven it in new joints.
  void forgiveMisfit(const std::function<bool(JointId)>& isNew);
  // Forgets everything but the joints: forces, states, curvature. Windings and winches are taken from what the world
  // has kept. To be followed by evaluate() and forgiveMisfit().
  void reset(const std::array<Winding, kMaxAxes>& windings, const std::array<AxisDef, kMaxAxes>& axes, int node);
  void forget();
  // What outlives a substep: to be kept and taken back.
  using AssemblyParts::Memory;
  void remember(Memory& memory) const;
  void recall(const Memory& memory);
  // J, kept in springs and soft stops at the fresh coordinates.
  double storedEnergy() const;
  // J, since openWork(): what drives did, and what all else took (below zero) that does not give it back.
  struct AxisWork {
    double driven = 0, taken = 0;
  };
  void openWork();
  AxisWork axisWork() const;
  // What springs, drives and friction do in a solve: mean rate times impulse, with the rates noted before it.
  void noteRatesForWork(const std::vector<Body>& bodies) { notePresentRates(bodies, workRates_); }
  double workOfSolve(const std::vector<Body>& bodies) const;
  // J, of the last solution: what bodies that are moved did through the joints to those that are not.
  double workOfMoved(const std::vector<Body>& bodies) const;
  // Counts work that was done on its bodies with that of its drives.
  void addDriven(double work) { driven_ += work; }
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
  // What it has gained in all, whatever the cause, and its largest kinetic energy so far, J.
  double& surplus() { return surplus_; }
  double& liveliest() { return liveliest_; }

  // Adds the geometric stiffness of the forces impulse/time to the bodies.
  void addStiffness(std::vector<Body>& bodies, double time) const;

  // Impulse and angular impulse about the pivot of this substep on body b of the node.
  void impulseOf(int node, Vec3& linear, Vec3& angular) const;
  // Impulses of the last solution, row by row; and what lies by `share` on the way from them to others.
  const std::vector<double>& impulses() const { return impulse_; }
  void mixImpulses(const std::vector<double>& others, double share) {
    for (std::size_t i = 0; i < impulse_.size(); ++i) impulse_[i] += share * (others[i] - impulse_[i]);
  }
  // Errors of one node in the fresh set: lengths of the linear and angular parts.
  RowErrors errorsOf(int node) const;
  bool isCompliant(int node) const { return nodes_[node].compliant; }
  // The same without what the compliance that it was given makes of its loads.
  RowErrors missesOf(int node) const;
  // From now on the node carries nothing (a joint that has parted), until the assembly is rebuilt.
  void release(int node) { nodes_[node].released = true, rowsChosen_ = false; }
  // Whether the node is the first of its joint's.
  bool isFirst(int node) const { return nodes_[node].first; }
  // What the frame has come to so far, by nodes: impulse and angular impulse about the pivot on b, largest errors.
  struct Account {
    Vec3 impulse = Vec3::Zero(), moment = Vec3::Zero();
    RowErrors peak;
  };
  std::vector<Account>& accounts() { return accounts_; }
  const std::vector<Account>& accounts() const { return accounts_; }
  // Whether the joint could part, were it armed.
  bool isBreakable(int node) const { return nodes_[node].breakable; }
  // Whether the joint's loads are wanted substep by substep.
  bool watched(int node) const { return nodes_[node].watched; }
  void watch(int node, bool on) { nodes_[node].watched = on; }
  // Adds what each axis of the node's joint did in the last solution to the reading (impulses, until the frame closes),
  // and sets what is active.
  void readAxes(int node, JointReading& reading) const;
  // Takes down the work of the last solution on each axis, impulse times the mean of the rates before and after it:
  // what the parts gain by it, exactly. The spin is that of the bodies where the solution left them.
  void noteWork(const std::vector<Body>& bodies, Vec3 Body::*spin);
  // Adds it to the reading.
  void addWork(int node, JointReading& reading) const;
  // Hands back what outlives the assembly: windings, the stops of winches, and motors' speeds that have grown; what
  // they grew by is over with the frame.
  void storeAxes(int node, std::array<Winding, kMaxAxes>& windings, std::array<AxisDef, kMaxAxes>& axes);
  // Stops, drives and springs: they bring and take energy of their own.
  bool hasAxes() const { return hasAxes_; }
  bool hasSprings() const { return !springsOn_.empty() || isCompliant(); }
  bool isCompliant() const;  // some joint was given a compliance
  // Whether a soft stop has pushed since openWork() that is slow against the step h.
  bool isOnSlowStop(double h) const;
  // J, without signs: what soft stops took and gave since openWork() that are too fast for the step h to follow.
  double workAtHardStops(double h) const;
  // Whether some stop does so with what strikes it.
  bool sendsBack() const;
  void visitState(StateArchive& state);
  bool released(int node) const { return nodes_[node].released; }

 private:
  RowBlock block(const std::vector<double>& memory, const Node& n) const {
    return {const_cast<double*>(&memory[n.memory]), n.rows, n.kept};
  }
  BodyId bodyOf(const Node& n, int side) const {
    return side == 0 ? n.a : side == 1 ? n.b : parts_[n.index].geometry.riders[side - 2];
  }
  // The i-th of the node's rows that are in the system.
  int usedRow(const Node& n, int i) const { return usedRows_[n.offset + i]; }
  // Of one side's body.
  Jacobian jacobianOf(const Node& n, int r, int side) const;
  // dC/dt of all rows in the system.
  void ratesOf(const Node& n, const std::vector<Body>& bodies, Vec3 Body::*spin, double* rates) const;
  bool held(int row) const { return state_[row] == State::locked || state_[row] >= State::atLow; }
  // The rate that a row keeps: that of a running drive or winch.
  double speedOf(int row) const {
    if (state_[row] != State::drive && state_[row] != State::atHigh) return 0;
    const AxisDef& def = axis_[row].def;
    if (axis_[row].kind == Kind::winch) return def.speed < 0 && def.high <= shortestRope(row) ? 0 : def.speed;
    return state_[row] == State::drive ? def.speed : 0;
  }
  // To which a winch takes its rope in.
  double shortestRope(int row) const { return std::max(0.0, axis_[row].def.low); }
  // Whether the row may bring energy of its own.
  bool bringsEnergy(int row) const {
    const Axis& axis = axis_[row];
    return (axis.kind == Kind::stop && axis.def.cap > 0 && !held(row)) ||
           (axis.kind == Kind::winch && axis.def.speed != 0);
  }
  // Whether it may take energy for good.
  bool takesEnergy(int row) const;
  double storedIn(const Node& n, int r) const;
  // What of an axis's settings concerns its row of this kind, where its hard stops yield so.
  static AxisDef defOf(Kind kind, const AxisDef& axis, double yields);
  void noteSpring(const Node& n, bool angular, double stiffness);
  // Whether the row is a free axis's, or yields as a spring.
  bool isRuled(const Node& n, int r) const { return n.axes || axis_[n.offset + r].kind == Kind::spring; }
  bool inSystem(int row) const { return state_[row] != State::set; }
  // C of a held row, from the coordinate or error in the given storage.
  double errorOf(const std::vector<double>& memory, const Node& n, int r) const;
  void evaluateNode(const Node& n, const std::vector<Body>& bodies, RowBlock& rows);
  struct Range {
    double low, high;
  };
  SpringLaw lawOf(int row) const;
  double stretchOf(const Node& n, int r) const;
  // What a kick of the part `share` of h sees of a spring: its mean stretch, and for what part of the kick it is there.
  struct Reach {
    double stretch, share;
  };
  Reach reachOf(const Node& n, int r, double h, double share) const;
  // (omega h)^2 of a soft stop with the two parts alone.
  double hardnessOf(const Node& n, int r, double h) const;
  // Whether a kick sees when in it the stop is met.
  bool followsStop(const Node& n, int r, double h) const;
  // Where its coordinate goes during such a kick.
  Range passedIn(const Node& n, int r, double h, double share) const;
  // dC/dt of one row.
  double rateOf(const Node& n, int r, const std::vector<Body>& bodies, Vec3 Body::*spin = &Body::spin) const;
  double stiffnessOn(BodyId body, bool angular) const;
  void aimSpring(const Node& n, int r, double h, double share);
  // Where a row's stops let it be at the end of a step of h.
  Range rangeWithin(const Node& n, int r, double h) const;
  // Of a row that has come to be held.
  void holdWithin(int row, const Range& range);
  // By how much its impulse over `time` goes beyond what stop and drive together can push with, >= 0: a stop only
  // pushes, and a drive towards its own speed, with all it has.
  double pullOfStop(int row, double time) const;
  double driveAtStop(int row, double time) const;
  bool drivesUp(int row) const;
  // What a drive that was to keep its speed pushes with if it cannot: the side of its cap (0: it can), and the impulse.
  struct Slip {
    int sign;
    double impulse;
  };
  Slip slipOf(const Node& n, int r, double h, double time);
  // How much faster than its speed a drive came that slid.
  double excessOf(const Node& n, int r, double h, double time) const;
  // Change of a row's rate by a unit impulse of its own, with all others in the system held. Spends delta_.
  double mobilityAmongHeld(const Node& n, int r);
  // Of one row: whether it would be felt.
  bool holdsTooHard(const std::vector<Body>& bodies, const Node& n, int r, double time) const;
  void letGo(std::vector<Body>& bodies, const Node& n, int row, double time);
  // The steps of settleBounds().
  std::vector<Bounded> takeBounded(double h, double time);
  void settle(std::vector<Body>& bodies, double h, std::vector<Bounded>& rows);
  bool turnBounds(const std::vector<Body>& bodies, double h, double time, std::vector<Bounded>& rows);
  std::vector<double> mobilitiesAmongHeld(const std::vector<Bounded*>& rows) const;
  void leaveBounded(std::vector<Body>& bodies, const Bounded& bounded);
  int placeOf(const Bounded& bounded) const;
  // Where an axis will be at the end of the step, and the part of that which is the bend of its coordinate.
  double aheadOf(const Node& n, int r, double rate) const {
    return rows_[n.memory + r] + lookAhead_ * rate + bendAhead(n.offset + r);
  }
  double bendAhead(int row) const { return lookAhead_ * lookAhead_ / 2 * bendOf(row); }
  bool reviseStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  // Whether a drive at its cap, or what is held at a stop, has changed too often to do so again.
  bool isTired(int row) const;
  // Part of its cap by which it may be beyond it, and m/s or rad/s by which it may be past its speed.
  double leewayOf(int row) const;
  bool reviseSoftStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  bool reviseSpring(const Node& n, int r, double rate, double time, std::vector<Body>& bodies);
  bool reviseWinch(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies);
  // Whether what strikes a stop of the axis does so at the instant of touch: it is sent back, or joints are so few that
  // it is worth it.
  bool isStruckAtTouch(const Axis& axis) const;
  // When an axis strikes such a stop, s from now (infinite: never), and what its rate gathers until then.
  struct StopTouch {
    double after, gained;
  };
  // d2C/dt2 of a row where nothing pushes, as over the last substep.
  double bendOf(int row) const { return 2 * curvature_[row] / (curvatureStep_ * curvatureStep_); }
  StopTouch touchOfStop(const Node& n, int r, double rate) const;
  struct BodyMotion {
    Vec3 velocity, spin;
  };
  // Of the dynamic bodies.
  std::vector<BodyMotion> motionsOf(const std::vector<Body>& bodies) const;
  // a + share b.
  static std::vector<BodyMotion> sum(std::vector<BodyMotion> a, double share, const std::vector<BodyMotion>& b);
  // A row that comes back from its stop, what its rate gathers until then, and to which rate it is then sent.
  struct Strike {
    int row;
    double gained, back;
  };
  bool strikeStops(std::vector<Body>& bodies, const std::vector<Strike>& strikes, double first);
  bool reviseImpact(std::vector<Body>& bodies, bool one);
  // The side of the stop that a row rests at: 1 high, -1 low, 0 none.
  int sideRestedAt(const Node& n, int r) const;
  void notePresentRates(const std::vector<Body>& bodies, std::vector<double>& rates) const;
  void become(std::vector<Body>& bodies, const Node& n, int row, State state, int sign, double impulse);
  void chooseRows();
  void build(const std::vector<Body>& bodies, double h);
  template <int N>
  void gatherTurns(const Node& n, int side, RowVectors<N>& turns) const;
  // How the node's rows in the system turn one side's body, and how those move it that do: the first `count` ones.
  std::array<Vec3, kMaxRows> turnsOf(const Node& n, int side) const;
  struct Moves {
    int count = 0;
    std::array<Vec3, kMaxRows> by;
  };
  Moves movesOf(const Node& n, int side) const;
  void addMoves(const Node& n, int side, const Node& other, int otherSide, double mobility, double* into) const;
  template <int N>
  void buildNode(const std::vector<Body>& bodies, const Node& n);
  void buildBlocks(const std::vector<Body>& bodies, double h);
  void buildBlocksNarrow(const std::vector<Body>& bodies, double h);
  void buildBlocksWide(const std::vector<Body>& bodies, double h);
  // J W J^T of one row: what one side's body adds to it, and all.
  double mobilityOn(const Body& body, const Node& n, int r, int side) const;
  double ownMobility(const std::vector<Body>& bodies, const Node& n, int r) const;
  // Adds to the diagonal of a row what it yields by itself.
  void yield(const std::vector<Body>& bodies, const Node& n, int r, double h, double& diagonal);
  void yieldAll(const std::vector<Body>& bodies, const Node& n, double h);
  void yieldAtLock(const Node& n, double h, double* diagonals);
  double compliantIn(int row, double h, double diagonal) const;
  // As the frame begins, with all that is locked held: of springs and soft stops that are fast against the step on
  // their bodies alone, how they move these; of what spins fast, how far its axis is held.
  void measureAmongLocks(std::vector<Body>& bodies, double h);
  double mobilityAmongLocks(const std::vector<Body>& bodies, const Node& n, int r, double own);
  Mat3 turningAmongLocks(const std::vector<Body>& bodies, BodyId id);
  // Adds to the rates, in delta_, that an impulse on a body gives the rows in the system.
  void addRatesBy(const Body& body, BodyId id, const Jacobian& impulse, NodeRange& reached);
  // How much of its mobility the locks take from what gave them these rates, which are forgotten.
  double takenByLocks(const NodeRange& reached) {
    return reached.last < 0 ? 0 : cholesky_.squaredHalf(delta_.data(), reached.first, reached.last);
  }
  double violenceAt(const std::vector<Body>& bodies, const Node& n, int r, double h) const;
  void yieldAsSpring(const std::vector<Body>& bodies, const Node& n, int r, double h, double& diagonal);
  void setImpulse(std::vector<Body>& bodies, const Node& n, int row, double impulse);
  void aimSprings(double h, double share);
  void addStruck(double share);
  // What the rows in the system lack of their targets, into delta_.
  void noteLack(const std::vector<Body>& bodies);
  void apply(std::vector<Body>& bodies);  // solves for delta_, and
  void push(std::vector<Body>& bodies);   // adds it to velocities and impulses
  // Pushes the node's bodies by all its rows in the system, or by one.
  void push(std::vector<Body>& bodies, const Node& n, const double* impulses) const;
  void push(std::vector<Body>& bodies, const Node& n, int r, double impulse) const;

  std::vector<Node> nodes_;  // in elimination order
  std::vector<Part> parts_;  // of each node
  std::vector<Account> accounts_;
  std::vector<Coupling> couplings_;
  std::vector<BodyId> dynamicBodies_;
  std::map<BodyId, std::vector<std::pair<int, int>>> nodesOn_;  // of each dynamic body: node and side
  bool looped_ = false;
  double curvatureStep_ = 1;  // s, over which curvature_ was seen
  BlockCholesky cholesky_;
  std::vector<double> rows_, fresh_;  // row storage
  std::vector<double> riderRows_, riderFresh_;
  std::vector<double> compliance_, gamma_;  // of each row: true, and as it stands on the diagonal
  std::vector<double> mobility_;            // of soft stops: J W J^T
  std::vector<double> amongLocks_;          // of measureAmongLocks(); infinite: not asked for
  bool measured_ = false;                   // since noteAxes()
  int springs_ = 0;                         // rows of springs, of noteAxes()
  std::vector<double> barrier_;             // what is added there while bounds are settled; else empty
  // Whether drives give way by a trace, from when bounds were settled until nothing has changed in a solution, or the
  // frame has ended: where many slip, what those push with that hold hardly moves anything, and would be lost in
  // round-off.
  bool creeps_ = false, revised_ = false;
  bool near_ = false;
  std::vector<unsigned char> turns_;  // of each row: how often it has changed in the present solution with contacts
  std::vector<double> target_, impulse_, curvature_, force_, offset_;
  // The rows in the system, node by node, and what a solution changes them by.
  std::vector<signed char> usedRows_;
  std::vector<int> usedCounts_;
  bool rowsChosen_ = false;
  std::vector<double> delta_;
  std::vector<State> state_;
  // Of rows that carry a set force: 1 the most, -1 the least of their drive, 0 none; of a soft stop the side.
  std::vector<signed char> sign_;
  std::vector<signed char> slidFrom_;  // the sign of a drive as the solution began
  std::vector<double> heldMobility_;   // of drives that turn round, where it is not to change any more; else 0
  std::vector<char> grazed_;           // of each row: a stop that sends back, and was reached in the last substep
  std::vector<Axis> axis_;             // of each row; locks have none
  std::vector<double> rateBefore_;     // springs: before the substep's kicks,
  std::vector<double> rateEarlier_;    // and before those of the last one
  std::vector<double> rateNow_;        // before the present kick
  std::vector<double> rateAtRest_;     // springs: as the frame closed ...
  double closingSpan_ = 0;             // ... by a half kick of this span, s
  std::vector<double> work_;           // J, of the last solution
  std::vector<SpringStep> springStep_;
  bool hasAxes_ = false;
  // Of noteAxes(): whether some axis speeds up, winds a rope, is sprung or softly stopped, or strikes a stop at the
  // instant of touch; and whether there are so few joints that all stops are struck so.
  bool speedsUp_ = false, winds_ = false, sprung_ = false, struck_ = false, fewStops_ = false;
  double kickShare_ = 1;  // of the step that the impulses stand for
  double lookAhead_ = 0;  // s, within which stops are met: the step, or nothing when velocities are closed
  std::map<BodyId, std::array<double, 2>> springsOn_;  // summed stiffness: along, about
  int fallback_ = 0;
  double budget_ = 0, surplus_ = 0, liveliest_ = 0;
  // J, since openWork(): what drives did; of each other row, what it did, and had in store then.
  double driven_ = 0;
  std::vector<double> passive_, storedBefore_;
  std::vector<double> workRates_, revisedRates_;
  // During an impact: the states before it, and the side of the stop that a row rests at or strikes (1 high, -1 low, 0
  // none).
  std::vector<State> statesBefore_;
  std::vector<signed char> signsBefore_, impactSide_;
  double impactStep_ = 0;
};

}  // namespace calm
