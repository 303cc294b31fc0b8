// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts of one island: unilateral normal rows and friction with a true cone, by projected Gauss-Seidel.
//
// Follows Moreau's time stepping on velocities (Moreau 1988; Jean, "The non-smooth contact dynamics method", 1999): per
// point, the end velocity along the normal is at least -gap/h, and the friction impulse lies in the disc of radius
// mu times the normal impulse, opposing the slip.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "engine/solve/contact_cells.h"
#include "engine/solve/contact_lanes.h"
#include "engine/solve/contact_law.h"
#include "engine/solve/contact_newton.h"

namespace calm {

class Assembly;

class ContactSolver {
 public:
  // Points up to which those of jointed bodies are best solved with the joints' own answer known: sweeps are cheap
  // then.
  static constexpr int kCoupled = 80;

  // Of all pairs, notes those that pushed in the last substep. Once, before the first begin().
  void takeOver(const std::vector<ContactPair*>& pairs);
  // In a crowd, edges and faces that do not bounce stop at the step's end, not at the instant of touch. So it is, too,
  // from where bounce() comes to no end.
  void setCrowd(bool crowd) { crowd_ = crowd; }
  bool crowd() const { return crowd_; }
  // The step that contacts are sought for, s.
  struct Span {
    double whole;  // substep, of which it may be a part
    double step;
    double left;  // of it, still to come at the present poses
    double now;   // their instant
  };
  // Forgets the contacts of the last substep. With `closing`, only those that pushed in the last one are taken now, and
  // none bounces.
  void begin(const Vec3& gravity, const Span& span, bool closing);
  // Takes the manifold of a pair that touches at the present poses. Where it is a part of a face with cells, that
  // face's number and the cells that are its own: they carry nearly all.
  void add(ContactPair& pair, const std::vector<Body>& bodies, int face = -1,
           const std::vector<ContactCell>& cells = {});
  // A patch, by its number in the order of add(), carries what falls on it (m/s^2, along the normal) for only so long
  // (s) of what is left of the step.
  void endTouch(int patch, double after, double falling);
  // After the last of them.
  void arrange(const std::vector<Body>& bodies);
  // Whether bodies that touch have masses so different that sweeps crawl.
  bool areUnequal(const std::vector<Body>& bodies) const;
  // Whether some face slides and turns at once.
  bool hasCells() const;
  bool empty() const { return touches_.points.empty(); }
  int size() const { return touches_.size(); }
  bool touchesNow() const;
  // Whether something would strike within the substep h that bounce() takes.
  bool wouldBounce(const std::vector<Body>& bodies, double h) const;
  // Just before a body that rests on something or is jointed strikes (with another point), s from the instant of its
  // pose, to which the velocities must belong; below zero if none does within the substep h. To be called between
  // arrange() and warmStart().
  double nextStrike(const std::vector<Body>& bodies, double h) const;
  // When two that slide come to a stop against each other, s from the instant of their poses, if they are few;
  // infinite: none does. Friction may turn round then. The velocities belong to the instant `at`, which may be half of
  // h earlier; so may the stop. To be called between arrange() and warmStart().
  double nextTurn(const std::vector<Body>& bodies, double h, double at) const;
  // Lets them bounce within `span`, s from the instant of their poses, to which the velocities must belong. Impacts are
  // taken in stages (Newton's law on the approach speed of each stage), so that they run through a row of balls, each
  // body's first touch first; joints, whose impact is to be open, close between sweeps. Bodies without joints meet at
  // the instant at which they touch, under their steady acceleration: their velocities and poses are set so that the
  // span takes them there and back. Returns when the first touch is, -1 if there is none; with `firstOnly`, only what
  // touches then bounces. To be called between arrange() and warmStart().
  double bounce(std::vector<Body>& bodies, double span, bool firstOnly, const std::vector<Assembly*>& assemblies);
  // Applies the last forces over `time`.
  void warmStart(std::vector<Body>& bodies, double time);

  // When to stop: when a sweep's largest change of a contact velocity is below `enough`, m/s, or, after the first,
  // below `reduction` of the first one's. Each of these returns the last sweep's.
  struct Goal {
    int sweeps;
    double enough, reduction;
  };
  // For islands without joints: each set of bodies that hang together by touches by itself.
  double relaxApart(std::vector<Body>& bodies, const Goal& goal);
  // `solveJoints` closes the joints after each sweep.
  double relaxInTurn(std::vector<Body>& bodies, const Goal& goal, const std::function<void()>& solveJoints);
  // Where patches that have only come to touch, or touch anew, turn out to be pressed elsewhere than was thought, lets
  // their friction act there, and says so: all is to be relaxed again.
  bool followPressure(std::vector<Body>& bodies);
  // With the joints' answer known, by couple(). They are to be closed after it. Also for few contacts without joints.
  // `momentum`, kg m/s, is all that there is and that weights bring, taken without signs.
  double relaxCoupled(std::vector<Body>& bodies, const Goal& goal, double momentum);
  // Lets relaxCoupled() see the joints: how each point answers each other through them, as a dense matrix (Delassus
  // 1917). The assemblies must be factored and in the states that they will have.
  void couple(const std::vector<Body>& bodies, const std::vector<Assembly*>& assemblies);

  // Whether something that should bounce came to touch in the step although wouldBounce() did not see it coming: joints
  // swung it there. After relax...(), of what noteSlips() saw before.
  bool struckUnawares() const;

  // Of pairs that pushed and do so no more, forgets with what; before any others store() theirs.
  void forgetPast();
  // Hands the forces, impulses over `time`, back to the pairs.
  void store(const std::vector<Body>& bodies, double time);
  // Before the bodies are kicked, whose velocities belong to the instant `at`, and before warmStart(): how what slid in
  // the last step slips, for the way of its friction in this one and for nextTurn().
  void noteSlides(const std::vector<Body>& bodies, double at);
  // Before the bodies are kicked: how the points slip, for the work of what then pushes there ...
  void noteSlips(const std::vector<Body>& bodies);
  // ... which is taken down when the step is solved, with the spins of its kick.
  void noteWork(const std::vector<Body>& bodies, Vec3 Body::*spin);
  // J, what bodies that are moved did to those that are not.
  double workOfMoved(const std::vector<Body>& bodies) const;
  // J, since the last forgetWork(): what all contacts did, and at most by how much overlaps that were pushed out raised
  // the energy.
  double work() const { return work_; }
  double pushedOut() const { return pushedOut_; }
  void forgetWork() { pushedOut_ = work_ = 0; }
  // Adds the accelerations of the stored forces to the velocities.
  void pushAtLastForce(std::vector<Body>& bodies) const;

 private:
  // As a fraction of the contact's mobility: micrometres under any load that gravity makes, and it gives redundant
  // contacts one answer.
  static constexpr double kSoftness = 0.003;
  // Impacts are settled to this part of the approach speed.
  static constexpr double kImpactSettled = 1e-9;
  static constexpr int kImpactSweeps = 300;

  void aimAtMiddle(ContactPatch& patch, const std::vector<Body>& bodies);
  void followBends(const ContactPatch& patch, const std::vector<Body>& bodies);

  // A point by itself, for what is not solved in lanes.
  struct Contact {
    ContactLaw<double> law;
    ContactPush<double> push;
    double friction;
  };
  // A point that is struck, in one stage of an impact.
  struct Impact {
    int point;
    Contact contact;
    Vec3 slip;          // before, along each direction; along the normal as at the touch
    double gained = 0;  // m/s, of parting, between now and the touch

    Vec3 impulse() const { return Eigen::Map<const Vec3>(contact.push.impulse); }
  };
  // When a body touches, s from now, and how it moves then.
  struct Touch {
    double after;
    Vec3 velocity, spin;
  };
  void moveToTouch(const std::map<int, Touch>& touching, std::vector<Body>& bodies, double span);
  void forgetCourse(const std::vector<Impact>& struck, std::vector<Body>& bodies);
  Impact impactAt(int point, const std::vector<Body>& bodies) const;
  // Points, and when they are.
  void pressWhereStruck(const std::vector<std::pair<int, double>>& struck);
  bool pressAnew(const std::vector<Impact>& struck);
  void strikeAgain(Impact& impact, const std::vector<Body>& bodies) const;
  void addResting(std::vector<Impact>& struck, const std::vector<Body>& bodies) const;
  void settle(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
              const std::vector<Assembly*>& assemblies) const;
  // As sweeps do that know how joints answer.
  void settleWithJoints(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                        const std::vector<Assembly*>& assemblies) const;
  // How bodies move that an impact may change.
  struct Motion {
    int id;
    Vec3 velocity, spin;
  };
  using Motions = std::vector<Motion>;
  Motions motionsOf(const std::vector<Body>& bodies, const std::vector<Assembly*>& assemblies) const;
  void keepEnergy(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest) const;
  void keepEnergyWithJoints(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                            const std::vector<Assembly*>& assemblies, const Motions& before) const;
  std::vector<Vec3> settleDull(std::vector<Impact>& struck, std::vector<Body>& bodies, double fastest,
                               const std::vector<Assembly*>& assemblies) const;
  // J, that a body does by pushing with this impulse at a point if it is moved.
  double workOfMoved(int point, const Vec3& impulse, const std::vector<Body>& bodies) const;
  static double workBothWays(const std::vector<Impact>& struck);
  // The slip before plus that after, at the touch.
  Vec3 doubleMeanSlip(const Impact& impact, const std::vector<Body>& bodies) const;
  void setImpactLaw(const Mat3& mobility, ContactLaw<double>& law) const;
  Vec3 accelerationAt(const Body& b, const Vec3& arm) const;
  Vec3 pushOn(const Body& b, const Vec3& arm) const;
  // m/s^2, at which a point's gap bends where nothing pushes, because the two turn.
  double bendOf(int point, const std::vector<Body>& bodies) const;
  // Whether it matters when a point strikes, since it moves otherwise by then: round a centre of mass that turns.
  bool swings(int point, const std::vector<Body>& bodies) const;
  // s from now, at steady accelerations; infinite if it parts.
  double timeToTouch(int point, const std::vector<Body>& bodies) const;
  // m/s, by which the speed of parting at a point will differ from its present one when it touches.
  double partingGain(int point, const std::vector<Body>& bodies, double after) const;
  // The mean of its points that touch together, by their normal impulses; their middle if there are none.
  Vec3 pressedOf(const ContactPatch& patch) const;
  // Whether what carried the patch slid.
  bool slid(const ContactPatch& patch) const;
  // m/s, of b against a along the patch, in its middle; world.
  static Vec3 slipOf(const ContactPatch& patch, const std::vector<Body>& bodies);
  // At a point that slid, along each direction, at an instant before the kick.
  Vec3 slipBefore(int point, const std::vector<Body>& bodies, double at) const;
  // The slip at a point, along each direction.
  Vec3 slipAt(int point, const std::vector<Body>& bodies, Vec3 Body::*spin = &Body::spin) const;
  // Pushes a patch's bodies by what impulseOf() says of each of its points.
  template <class ImpulseOf>
  void pushBodies(const ContactPatch& patch, std::vector<Body>& bodies, const ImpulseOf& impulseOf) const;
  // Pushes by what the points' impulses change to.
  void pushByChanges(std::vector<Body>& bodies, const std::vector<Vec3>& impulses);
  void pushAt(int point, const Vec3& impulse, std::vector<Body>& bodies) const;
  // Angular impulses (columns) of unit impulses along the directions.
  static Mat3 turningBy(const Vec3& arm, const Vec3& lever, const Mat3& directions);
  void setMobility(ContactLaw<double>& law, const Mat3& mobility) const;
  // That of a point without joints.
  Mat3 ownMobility(int point, const std::vector<Body>& bodies) const;
  // m/s, at which the two bodies part at a point, along its normal.
  double partingSpeed(int point, const std::vector<Body>& bodies) const;
  // Adds an impulse at a point, and its moment about the origin (world), to the sums.
  static void addTo(const ContactPatch& patch, const ContactPoint& point, const Vec3& impulse, Vec3& sum, Vec3& moment);
  // How these points answer each other (see couple()), in whole panels, of which what no point has is zero; their own
  // diagonal without joints goes into `alone`.
  Eigen::MatrixXd couplingOf(const std::vector<int>& points, const std::vector<Body>& bodies,
                             const std::vector<Assembly*>& assemblies, Eigen::VectorXd& alone) const;
  static Mat3 mobilityOf(int place, const Eigen::MatrixXd& coupling, const Eigen::VectorXd& alone);
  double settleCoupled(const std::vector<Body>& bodies, const Goal& goal);
  // Raises what is enough by what is asked for against the first sweep.
  double settleByLaw(const std::vector<Body>& bodies, Goal& goal);
  // Whether some point slides otherwise than it came.
  bool turnsRound() const;
  bool isPressedAnew() const;
  bool easeJams(const std::vector<Body>& bodies, double momentum);
  double sweepCoupled(const ContactStep<double>& step, double& gradient);
  // What a point does.
  struct Grip {
    Hold hold = Hold::open;
    // Of what slides: the direction of its friction, and how it yields across that, m/s for each unit of impulse.
    Eigen::Vector2d along = Eigen::Vector2d::Zero();
    double yields = 0;
  };
  // Solves all by what each point does, at first this; false, and nothing changed, if that does not settle.
  bool solveActive(std::vector<Grip> grips, double enough);
  double hardestSoftness(const std::vector<Body>& bodies) const;
  bool isPressed(double softness) const;
  bool solveHarder(double softness, const std::vector<Grip>& grips, double enough);
  void keepWithinLaw();
  std::vector<Grip> gripsNow() const;
  std::vector<Grip> gripsAtStart() const;
  Grip gripOf(int point) const;
  Grip slideOf(int point, double normal, const Eigen::Vector2d& wanted) const;
  double differenceOf(int point, const Grip& now, const Grip& next) const;
  bool solveAt(const std::vector<Grip>& grips);

  std::vector<ContactPair*> pushing_;  // in the last substep
  Touches touches_;
  std::unique_ptr<ContactLanes> lanes_ = ContactLanes::make();
  ContactNewton newton_;
  std::vector<Contact> coupled_;  // one a point
  Eigen::MatrixXd coupling_;      // velocities of all points' directions per unit impulse of each
  // Of all points' directions, while coupled sweeps run: what the last one changed, and the direction of the conjugate
  // gradients.
  Eigen::VectorXd speeds_, sweptSpeeds_, headingSpeeds_;
  double storedTime_ = 1, pushedOut_ = 0, work_ = 0;
  std::vector<Vec3> slipsBefore_;  // the kick
  std::vector<double> given_;      // impulse along each point's normal that a closing solution began with
  Span span_{1, 1, 1, 0};
  Vec3 gravity_ = Vec3::Zero();
  double softness_ = kSoftness;
  bool closing_ = false, crowd_ = false, unequal_ = false;
};

}  // namespace calm
