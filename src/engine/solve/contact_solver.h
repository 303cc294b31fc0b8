// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts of one island: unilateral normal rows and friction with a true cone, by projected Gauss-Seidel.
//
// Follows Moreau's time stepping on velocities (Moreau 1988; Jean, "The non-smooth contact dynamics method", 1999): per
// point, the end velocity along the normal is at least -gap/h, and the friction impulse lies in the disc of radius
// mu times the normal impulse, opposing the slip.
#pragma once

#include <functional>
#include <vector>

#include "engine/math/lanes.h"
#include "engine/solve/contact_pair.h"

namespace calm {

class Assembly;

class ContactSolver {
 public:
  // Takes the manifolds of the pairs at the present poses. With `closing`, only contacts that pushed in the last
  // substep take part, and none bounces.
  void build(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, const Vec3& gravity, double h,
             bool closing);
  bool empty() const { return points_.empty(); }
  // Whether bodies with restitution would meet within the substep h.
  bool wouldBounce(const std::vector<Body>& bodies, double h) const;
  // Lets them bounce; velocities must belong to the poses. Impacts are taken in stages (Newton's law on the approach
  // speed of each stage), so that they run through a row of balls; `solveJoints` closes the joints between sweeps.
  // Bodies without joints meet at the instant at which they touch, under their steady acceleration: their velocities
  // and poses are set so that the substep takes them there and back. Returns whether anything bounced. To be called
  // between build() and warmStart().
  bool bounce(std::vector<Body>& bodies, double h, const Vec3& gravity, const std::function<void()>& solveJoints);
  // Applies the last forces over `time`.
  void warmStart(std::vector<Body>& bodies, double time);
  // Sweeps over each set of bodies that hang together by touches, by itself, until its largest change is below `enough`
  // or, after the first, below `reduction` of the first one's. For islands without joints, whose sets know nothing of
  // each other. Returns the largest last change.
  double relaxApart(std::vector<Body>& bodies, int sweeps, double enough, double reduction);
  // One sweep over all points; returns the largest change of a contact velocity, m/s. Sweeps are strung together by the
  // non-smooth non-linear conjugate gradient method (Silcowitz-Hansen, Niebe and Erleben, The Visual Computer 26,
  // 2010), which turns the crawl of Gauss-Seidel through a stack into superlinear convergence.
  double sweep(std::vector<Body>& bodies);
  // Lets the sweeps of relaxCoupled() see the joints: how each point answers each other through them, as a dense matrix
  // (Delassus 1917). The assemblies must be factored and in the states that they will have.
  void couple(const std::vector<Body>& bodies, const std::vector<Assembly*>& assemblies);
  // Sweeps until the largest change is below `enough` or, after the first, below `reduction` of the first one's. The
  // joints are to be relaxed after it. Returns the last change.
  double relaxCoupled(std::vector<Body>& bodies, int sweeps, double enough, double reduction);
  int size() const { return static_cast<int>(points_.size()); }
  // Hands the forces, impulses over `time`, back to the pairs.
  void store(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, double time);

  // Adds the accelerations of the stored forces to the velocities.
  void pushAtLastForce(std::vector<Body>& bodies) const;

 private:
  // As a fraction of the contact's mobility: micrometres under any load that gravity makes, and it gives redundant
  // contacts one answer.
  static constexpr double kSoftness = 0.003;

  // What sweeps read of a point and write to it, close together in memory.
  struct Contact {
    Padded armA, armB;
    Padded lever;        // of each direction for twisting about the normal, beyond what the arms give
    Padded mobility;     // velocity along each direction per unit impulse along the normal
    double tangents[3];  // the same between the tangents: first, mixed, second
    double stopSlip[3];  // its inverse
    double slipRate;     // the inverse of the mobility's larger eigenvalue
    double softness;     // normal compliance over h^2
    double perSpeed;     // impulse along the normal per lacking speed
    double target;       // least end velocity along the normal
    double friction;
    Padded impulse;    // along each direction
    Padded change;     // by the last sweep
    Padded direction;  // of the conjugate gradients
  };
  // The points of a pair, side by side.
  struct Patch {
    Padded directions[3];  // normal (from a to b) and tangents
    Padded across[3];      // the same, transposed
    int placeA, placeB;    // of the bodies in motions_
    int first, end;        // points
    int a, b;
    ContactPair* pair;
    bool withNext = false;  // is swept together with the next one
    bool twists = false;    // its contacts have levers
    Padded twistA, twistB;  // spins by a unit angular impulse about the normal

    Mat3 axes() const { return (Mat3() << directions[0].vec(), directions[1].vec(), directions[2].vec()).finished(); }
  };
  // What else is known of a point.
  struct Point {
    int patch;
    std::uint32_t id;
    bool bounces;  // an impact is taken by bounce(), at the instant of touch if it can be
    Vec3 position;
    Vec3 alone;        // mobility of the two bodies without joints, along each direction
    double pushedOut;  // m/s, at which overlap is to be left; 0 if there is none
    double gap;
    double restitution;
  };
  // Velocities of what the points touch, side by side in memory while sweeps run.
  struct Motion {
    Padded velocity, spin;
    Padded response[3];  // columns
    double inverseMass;
    // What the last sweep changed, and the direction of the conjugate gradients: impulses' directions as velocities.
    Padded sweptVelocity, sweptSpin;
    Padded headingVelocity, headingSpin;
  };
  // Patches whose bodies touch no others', one after another, as are their points and the bodies in motions_.
  struct Range {
    int firstPatch, endPatch, firstMotion, endMotion;
  };
  // The pairs that touch, those of one set of bodies after those of another; each with whether it is a set's first.
  std::vector<std::pair<ContactPair*, bool>> inOrder(const std::vector<ContactPair*>& pairs,
                                                     const std::vector<Body>& bodies);
  void addPatch(ContactPair& pair, const std::vector<Body>& bodies, double h);
  // Puts patches that share no moving body side by side, two by two.
  void pairUp(const Range& range);
  void load(const std::vector<Body>& bodies);
  void unload(std::vector<Body>& bodies) const;  // only what is dynamic; the rest is shared between islands
  void pushBodies(int point, const Vec3& impulse, std::vector<Body>& bodies) const;
  static void setMobility(Contact& c, const Mat3& mobility);
  // m/s, at which the two bodies part at a point, along its normal.
  double partingSpeed(int point, const std::vector<Body>& bodies) const;
  void account(int point, const Vec3& impulse);

  // How the next sweep begins: by going on this share of the last sweeps' direction, which then follows the last one.
  struct Step {
    double share = 0;
    bool follows = false;
  };
  Step nextStep() const;
  void noteGradient(double gradient);
  // What came of a sweep.
  struct Swept {
    double largest = 0;   // m/s, change of a contact's velocity
    double gradient = 0;  // squared length of all changes
  };
  struct Visit;
  Swept sweepPatches(const Patch* patches, int count, Contact* contacts, const Step& step);
  double sweepOn(const Range& range);
  double sweepCoupled();

  std::vector<Patch> patches_;
  std::vector<Contact> contacts_;
  std::vector<Point> points_;  // of each contact
  std::vector<Range> ranges_;
  std::vector<int> touched_;  // whose velocities motions_ holds
  std::vector<Motion> motions_;
  std::vector<int> placeOf_;  // of each body in them; -1: not yet
  Eigen::MatrixXd coupling_;  // velocities of all points' directions per unit impulse of each
  // Of all points' directions, while coupled sweeps run; the same as Motion's.
  Eigen::VectorXd speeds_, sweptSpeeds_, headingSpeeds_;
  double storedTime_ = 1;
  bool closing_ = false;
  double slowest_ = 0;   // m/s; impacts slower than that do not bounce
  double gradient_ = 0;  // squared length of the last sweep's change; 0 before the first
  double beta_ = 0;      // its ratio to the one before
};

}  // namespace calm
