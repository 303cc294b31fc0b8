// SPDX-License-Identifier: GPL-3.0-or-later
// The integrator: advances parts that may influence one another over one frame.
//
// A substep is one of SHAKE with impulses (Ryckaert, Ciccotti and Berendsen 1977; symplectic and second order,
// Leimkuhler and Skeel 1994): kick, constraint impulses along the Jacobian of its start such that the joints close at
// its end, free drift. A frame opens and closes with half kicks (RATTLE; Andersen 1983), so that the poses and
// velocities between frames belong to the same instant and satisfy the constraints and their rates.
#pragma once

#include <chrono>
#include <deque>
#include <optional>
#include <utility>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/solve/assembly.h"
#include "engine/solve/contact_solver.h"
#include "engine/solve/field.h"

namespace calm {

struct Meeting;

constexpr int kMostEffort = 32;

// What separation steps at velocity level leave, and what a rig was put together with, is closed in this time (s, to
// 1/e).
constexpr double kOffsetFade = 0.1;

// Seconds of computing by kind of work.
struct WorkTime {
  double finding = 0;   // contacts
  double contacts = 0;  // solving them
  double joints = 0;    // solving joints, their stops and drives
  double rest = 0;      // moving parts, readings, broad phase

  double total() const { return finding + contacts + joints + rest; }
  void include(const WorkTime& other);
};

// Adds the time of its life to an account.
class Stopwatch {
 public:
  explicit Stopwatch(double& account) : account_(account) {}
  ~Stopwatch() { account_ += since(start_); }
  Stopwatch(const Stopwatch&) = delete;
  Stopwatch& operator=(const Stopwatch&) = delete;
  using Clock = std::chrono::steady_clock;
  static double since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

 private:
  double& account_;
  Clock::time_point start_ = Clock::now();
};

struct StepSettings {
  Vec3 gravity = Vec3(0, -9.81, 0);  // m/s^2
  double frame = 1.0 / 60;           // s
  int substeps = 8;
  // What rests for so long together is not computed until something touches it; its readings stay. 0 s: never.
  double sleepAfter = 0;
  // Joint errors (m) that no frame may pass: what a frame misses is computed again with twice the substeps, up to
  // kMostEffort times their number. 0: no budget.
  double separationBudget = 0;
  // Whether every joint keeps the loads and errors of the last frame's substeps.
  bool traced = false;
};

// A shape in its body's principal frame.
struct BodyShape {
  BodyId body;
  Shape shape;
  Pose pose;
  double friction, restitution;
  int material = 0, layer = 0;
};

// A joint in the run.
struct JointState {
  JointDef def;
  JointGeometry geometry;
  JointReading reading;
  std::array<Winding, kMaxAxes> windings;
  // Impulses (linear, angular) of the last frame's worth of substeps, newest last; kept for joints that can part, and
  // where loads are traced.
  std::deque<std::pair<Vec3, Vec3>> window;
  std::vector<double> errors;  // m, of the frame's substeps, where they are traced
  // What the joint has pushed with in the present frame so far.
  struct Load {
    Vec3 impulse = Vec3::Zero(), moment = Vec3::Zero();  // N s, N m s, of the substep that is open
    double impulses = 0, moments = 0;                    // sizes of those before, altogether

    void add(const Vec3& linear, const Vec3& angular) { impulse += linear, moment += angular; }
    void endSubstep() {
      impulses += impulse.norm(), moments += moment.norm();
      impulse = moment = Vec3::Zero();
    }
  } load;
  bool open = false;          // not made yet
  double fade = kOffsetFade;  // s, in which a misfit closes to 1/e

  bool holds() const { return !open && !reading.parted; }
  bool canPart() const { return def.armed && (def.breakForce < kUnbreakable || def.breakTorque < kUnbreakable); }
  // All that take part: a, b, and what a rope runs over.
  std::vector<BodyId> bodies() const {
    std::vector<BodyId> all{def.a, def.b};
    all.insert(all.end(), geometry.riders.begin(), geometry.riders.end());
    return all;
  }
  void visitState(StateArchive& state);
};

// How well an island's equations were met over a frame.
struct Residual {
  double linear = 0;        // m, largest joint error
  double angular = 0;       // rad
  double contactSpeed = 0;  // m/s, largest change in the last contact sweep
  int corrections = 0;      // Newton corrections, in all substeps
  int substeps = 0;         // with which the frame was computed
  bool overBudget = false;  // the separation asked for could not be reached
  int refined = 0;          // times that a frame was done again with more substeps, because it was too hard
  int redone = 0;           // frames done again by projections alone, because they ran away
  WorkTime time;            // spent; not part of the result
  int fallbacks = 0;        // substeps taken at velocity level because the joints could not be closed at their end

  void include(const Residual& other);
};

// What an island works on; all by reference into the world.
struct Scene {
  const StepSettings& settings;
  std::vector<Body>& bodies;
  const std::vector<BodyShape>& shapes;
  std::vector<Collider>& colliders;  // one a shape
  std::vector<JointState>& joints;
  const std::vector<Field>& fields;
  const std::vector<Push>& pushes;
  double time;  // at the frame's start, s

  TimeSpan frame() const { return {time, time + settings.frame}; }
};

// Substeps that stay at velocity level after one that could not be solved, since the trouble lasts.
constexpr int kFallbackStay = 30;

class Island {
 public:
  std::vector<BodyId> bodies;  // all that move, ascending
  std::vector<Assembly*> assemblies;
  std::vector<ContactPair*> pairs;

  void clear() {
    bodies.clear();
    assemblies.clear();
    pairs.clear();
  }
  // Advances by one frame. `fresh`: the joint forces are not known yet.
  Residual advance(const Scene& scene, bool fresh);

 private:
  void prime(const Scene& scene);
  // How far what spins fast on a point, and hangs on no joint, is held by that; see Body::held.
  void holdTops(const Scene& scene, double h);
  // In how many pieces fields, and what turns fast, ask for each substep to be taken.
  int piecesForFields(const Scene& scene) const;
  int piecesForTurns(const Scene& scene) const;
  // The frame, with each substep in so many equal pieces.
  void takeSubsteps(const Scene& scene, int pieces);
  // Of motors and winches: at the start of a substep, and speedUp(h / 2) after it.
  void wind(double h);
  void speedUp(double time);
  void forgiveMisfits(const Scene& scene);
  // Whether a frame that was hard may be done again with each substep in so many pieces.
  bool canBeRefined(int pieces) const;
  bool isTopHeavy(const Scene& scene) const;
  // One substep; takes it back and returns false if the joints cannot be closed at its end.
  bool trySubstep(const Scene& scene, double h);
  // The same span in two steps that end and begin at an impact.
  void cutSubstep(const Scene& scene, double h, double first);
  // A substep in which something struck that could not be seen coming, in two halves: in shorter steps it can.
  void halveSubstep(const Scene& scene, double h);
  // When within the substep that would help; -1: it would not.
  double nextStrike(const Scene& scene, double h) const;
  // The same for friction that turns round with its slip; at 0 it does so as the substep begins.
  struct Turn {
    bool comes = false;
    double after = 0;
  };
  Turn nextTurn(const Scene& scene, double h) const;
  // The same span in smaller steps at velocity level: first order, never gains energy, always possible.
  void fallbackSubstep(const Scene& scene, double h);
  // Everything again from where the frame began, by projections that cannot gain energy.
  void redoSafely(const Scene& scene);
  void keepEnergy(const Scene& scene, double step);
  // J, of a frame: what was gained beyond what was given, and what may be.
  struct Account {
    double gain = 0, allowed = 0;
    bool good = true;        // it may stand, if more substeps did not make it exact
    bool exact = true;       // as far as can be seen
    bool plain = false;      // joints only, that nothing drives
    bool keeps = false;      // nor damps
    bool conserves = false;  // joints, stops and motors, of which none took any, and no springs

    bool isSound() const { return gain <= allowed; }
  };
  // Of a frame whose substeps were taken in so many pieces.
  Account takeStock(const Scene& scene, double energyBefore, int pieces);
  // Does a frame that was too hard again with more substeps, of no fewer pieces each than `least`.
  void refine(const Scene& scene, double energyBefore, int least, Account& account);
  struct RigidMotion {
    Vec3 velocity = Vec3::Zero(), spin = Vec3::Zero(), about = Vec3::Zero();

    Vec3 at(const Vec3& position) const { return velocity + spin.cross(position - about); }
  };
  RigidMotion motionOfAll(const Scene& scene) const;
  std::optional<RigidMotion> commonMotion(const Scene& scene) const;
  bool giveBack(const Scene& scene, double gain);
  // Notes the gains of a frame that stands.
  void settle(const Scene& scene, const Account& account);
  // Keeps all that changes, where the frame may be refined.
  void save(const Scene& scene);
  void visitState(const Scene& scene, StateArchive& state);
  // Everything as when the frame began ...
  void returnToStart(const Scene& scene);
  void forgetResidual(const Scene& scene);
  // ... but for the forces, which are forgotten.
  void restart(const Scene& scene);
  void forgetForces(const Scene& scene);
  void forgetContacts();
  void recallWork(const Scene& scene);
  double kineticEnergy(const Scene& scene) const;
  double energy(const Scene& scene) const;
  void solveWithinBudget(const Scene& scene, double step);
  // The second half kick: velocities on the instant of the poses.
  void close(const Scene& scene, double h);
  void finishReadings(const Scene& scene);
  // Forces at the present instant from the balance of accelerations.
  void readPresentLoads(const Scene& scene, double h);
  void findBend(const Scene& scene, double h, std::vector<std::vector<double>>& bend);

  void evaluate(const Scene& scene);
  // The same, with stops held that the substep has run past; returns how far the rows are from their equations.
  RowErrors evaluateWithStops(const Scene& scene, double h, double share);
  bool driftClosed(const Scene& scene, double h, double share);
  // The part of a substep that a kick is: all of it, or the half that opens or closes a frame; none where accelerations
  // are sought.
  enum class Kick { opening, full, closing, none };
  void factor(const Scene& scene, double h, double stiffnessShare, Kick kick);
  // What time its forces stand for: from half a substep before its poses to half a substep after, or of that what
  // belongs to the frame.
  TimeSpan spanOf(double h, Kick kick) const;
  // Once a frame: what of this island may touch something.
  void gatherShapes(const Scene& scene);
  // Of the substep h, `left` is still to come.
  void findContacts(const Scene& scene, double h, double left, bool closing);
  void followShapes(const Scene& scene, double h);
  // Hands what touches to those who solve it.
  void shareOut(const Scene& scene);
  // Gives cells to the faces that are to have them.
  void divideFaces(const Scene& scene);
  // The shape's collider where it is now.
  const Collider& readied(const Scene& scene, int shape) const;
  void findEnds(const Scene& scene, double left);
  bool wouldBounce(const Scene& scene, double h) const;
  bool wouldStrikeStops(const Scene& scene, double h) const;
  void openImpact(const Scene& scene);
  // What joints have a part in: returns whether anything did.
  bool bounceAtJoints(const Scene& scene, double h, bool firstOnly);
  // A blow from outside gives velocities that joints do not allow; they pass it on at once. Where something touches the
  // first substep has to solve for both.
  bool isStruck(const Scene& scene, bool fresh) const;
  bool touchesNow(const Scene& scene, double h);
  void passOnBlow(const Scene& scene);
  void returnVelocities(const Scene& scene);
  // Returns whether more may strike before the substep's end: not all that does has then been taken.
  bool bounce(const Scene& scene, double h, bool firstOnly);
  // Returns whether anything did.
  bool bounceInTurn(const Scene& scene, double h);
  // Also marks where each body is before it, to return to.
  void kick(const Scene& scene, double h, Kick kick);
  // The velocities of a dynamic body after a kick of `time`.
  struct Velocities {
    Vec3 linear, angular;
  };
  Velocities kicked(const Scene& scene, BodyId id, const Body& start, double time) const;
  // Sets the velocities of kinematic bodies: such that they are right at clock_ after h, or those of that instant.
  void steer(const Scene& scene, double h);
  void steerAtClock(const Scene& scene);
  // The step was taken at the velocities to which these were steered.
  void noteSteered(const Scene& scene);
  // While this does something, what is not dynamic has velocities so far between those of the last step and of this.
  template <class Do>
  void whileSteered(const Scene& scene, double share, const Do& act) const;
  void drift(const Scene& scene, double h);
  // The instant that the velocities belong to as the substep h begins.
  double velocitiesAt(double h) const { return clock_ - h - (onStep_ ? 0 : h / 2); }
  // Puts velocities on the instant of the poses in the midst of a frame, where a substep h would have begun.
  void closeBefore(const Scene& scene, double h);
  // Joints and contacts together, by impulses that stand for forces over `time`. With `unlessStruck`, returns false and
  // leaves it if something struck that should have been seen coming.
  bool solveVelocities(const Scene& scene, double h, double time, bool unlessStruck = false);
  // Contacts of what joints have a part in, and of what they have none in; each returns the last sweep's change, m/s.
  double solveAtJoints(const Scene& scene, double h, double time);
  double solveLoose(const Scene& scene, ContactSolver& contacts, double time);
  // kg m/s, of what is at joints, or of what is not.
  double momentumOf(const Scene& scene, bool atJoints, double time) const;
  // Returns whether stops or drives changed sides.
  bool solveJoints(const Scene& scene, double h, double time);
  // The same with one change of all that ask for it.
  bool reviseJoints(const Scene& scene, double h, double time);
  void relaxJoints(const Scene& scene);
  bool hasAxes() const;
  void refreshStiffness(const Scene& scene, double time);
  void openAccounts(const Scene& scene);
  void noteErrors(const Scene& scene);
  // Adds the last solve's impulses to the readings and parts what is overloaded. `startsSubstep`: the impulses are the
  // first of a substep's.
  void read(const Scene& scene, bool startsSubstep);
  // Takes down how fast axes move and contacts slip before a kick, when the velocities belong to the instant `at` ...
  void noteRates(const Scene& scene, bool opening, double at);
  // ... and, after a solve that followed on it or was an impact, what axes and contacts did in that, which it adds to
  // the readings, and what drove the parts from outside.
  void readWork(const Scene& scene, Vec3 Body::*spin, bool kicked = true);
  // J, that the last kick did beside weights and steady forces, with the velocities at which it was solved.
  double workOfKick(const Scene& scene, Vec3 Body::*spin) const;
  // The same with what moved parts do through joints.
  double workFromOutside(const Scene& scene, Vec3 Body::*spin) const;
  void addWork(const Scene& scene);
  void part(const Scene& scene, Assembly& assembly, int node);

  // What a frame began with.
  struct Start {
    Vec3 position, velocity, spin;
    Quat orientation;
  };
  void noteStart(const Scene& scene);

  // A pair, its shapes' places in ways_, their ways together before the frame, m, and those in it without which they
  // cannot touch.
  struct Look {
    ContactPair* pair;
    int a, b;
    double before, room;
  };
  // Sets the pair's manifold of what is within the margin; `past` is how far both have come in the frame. Returns
  // whether something is there, though maybe no point.
  bool meet(const Scene& scene, Look& look, const Meeting& meeting, double margin, double past);
  // Looks ahead to the touch that a manifold stands for, and returns whether it is to be solved.
  struct Sight {
    bool nearby, fast;  // something is within the margin; what moves might get there unseen
  };
  bool takesPart(const Scene& scene, ContactPair& pair, const Meeting& meeting, Sight sight, double left, bool closing);
  // A shape's way at the frame's start, how far no point of it has gone since, and how far it may go in a substep, m.
  struct Way {
    double start = 0, past = 0, ahead = 0;
  };

  // All that changes.
  struct Saved {
    struct Contact {
      std::vector<ContactImpulse> last;
      ContactPair::Roll roll;
      ContactPair::Rubbing rubbing;
      bool fromTheStart, interlaced;
    };
    std::vector<Body> bodies;
    std::vector<Assembly::Memory> assemblies;
    std::vector<JointState> joints;  // of the nodes that are watched
    std::vector<Contact> contacts;
  };

  // A pair that touches, up to which distance it was looked for, m, and who solves it as which patch.
  struct Added {
    ContactPair* pair;
    double margin;
    ContactSolver* solver = nullptr;
    int patch = 0;
    int face = -1;  // with cells, that it is a part of
    std::vector<ContactCell> cells{};
  };
  // Of that face. Empty if it lies on none.
  std::vector<Vec3> outlineOf(const Scene& scene, const ContactPair& pair) const;

  // Of what joints have a part in; without joints of all. Where there are some, `loose_` has the rest, that goes on as
  // it would alone.
  ContactSolver contacts_, loose_;
  std::vector<Added> added_;                             // in the present search
  std::vector<Look> looks_;                              // at each pair
  std::vector<Way> ways_;                                // of the shapes that move, and of one that does not
  std::vector<int> shapes_;                              // that move and may touch something
  std::vector<Start> start_;                             // of each body
  std::vector<std::array<double, kMaxAxes>> startWork_;  // of each node's joint
  Saved saved_;                                          // where the frame can be refined ...
  bool canReturn_ = false;                               // ... which is so
  bool kicksWork_ = false;                               // by more than weights and steady forces, in the frame
  double fromOutside_ = 0;                               // J, of that and of what is moved, in the frame
  double safeEnergy_ = 0;                                // J, that a frame done again may not pass
  bool safe_ = false;                                    // the frame is being done again
  Residual residual_;
  int revisionsLeft_ = 0;   // of stops and drives, in the present solution
  bool onStep_ = true;      // velocities belong to the instant of the poses, not half a substep before it
  bool topHeavy_ = false;   // heavy loads hang on light links
  bool continues_ = false;  // in another piece of a substep than the first; for readings it is one
  bool cut_ = false;        // in the first part of a substep that is cut in two; for readings it goes on after that
  bool strained_ = false;   // some substep of the frame took many corrections
  bool parted_ = false;     // some joint did in the frame
  bool touched_ = false;    // there were contacts in the frame
  bool struck_ = false;     // the frame began with a blow from outside ...
  bool blow_ = false;       // ... that joints pass on before anything else
  bool bounced_ = false;    // something came back from others or from stops in the frame
  bool asOne_ = false;      // all impacts are taken in the order in which they come, whoever solves them
  bool moved_ = false;      // something that is not computed moves a part in the frame
  double clock_ = 0;        // s, the end of the present substep
  TimeSpan kickSpan_{};     // of the present kick
};

template <class Do>
void Island::whileSteered(const Scene& scene, double share, const Do& act) const {
  if (!moved_) return act();
  std::vector<Velocities> present;
  for (BodyId id : bodies) {
    Body& b = scene.bodies[id];
    if (b.dynamic()) continue;
    present.push_back({b.velocity, b.spin});
    b.velocity = b.lastVelocity + share * (b.velocity - b.lastVelocity);
    b.spin = b.lastSpin + share * (b.spin - b.lastSpin);
  }
  act();
  auto next = present.begin();
  for (BodyId id : bodies)
    if (Body& b = scene.bodies[id]; !b.dynamic()) b.velocity = next->linear, b.spin = next++->angular;
}

}  // namespace calm
