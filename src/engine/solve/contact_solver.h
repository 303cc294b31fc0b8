// SPDX-License-Identifier: GPL-3.0-or-later
// Contacts of one island: unilateral normal rows and friction with a true cone, by projected Gauss-Seidel.
//
// Follows Moreau's time stepping on velocities (Moreau 1988; Jean, "The non-smooth contact dynamics method", 1999): per
// point, the end velocity along the normal is at least -gap/h, and the friction impulse lies in the disc of radius
// mu times the normal impulse, opposing the slip.
#pragma once

#include <cstdint>
#include <functional>
#include <vector>

#include "engine/contact/collide.h"
#include "engine/solve/body.h"

namespace calm {

struct ContactImpulse {
  std::uint32_t id;
  Vec3 onA;    // where, in body a's principal frame
  Vec3 force;  // N, along normal, first and second tangent

  void visitState(StateArchive& state);
};

// Two shapes that may meet during the frame, and what they last pushed with.
struct ContactPair {
  int bodyA, bodyB;
  int shapeA, shapeB;  // colliders
  int triangle = -1;   // of shape B, where that is a mesh
  double friction, restitution;
  Manifold manifold;
  std::vector<ContactImpulse> last;
  // Of the present frame, on b: impulse and its moment about the origin (world).
  Vec3 frameImpulse = Vec3::Zero(), frameMoment = Vec3::Zero();

  void visitState(StateArchive& state);
  // Names each point of the new manifold after the last one's point where it lies, if there was one: features flicker
  // when corners and edges coincide, places do not.
  void keepNames(const Body& a);
};

class Assembly;

class ContactSolver {
 public:
  // Takes the manifolds of the pairs at the present poses. `approach` velocities are the bodies' present ones, from
  // before the kick. With `closing`, only contacts that pushed in the last substep take part, and none bounces.
  void build(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies, double h, bool closing);
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

  struct Point {
    ContactPair* pair;
    int a, b;
    int placeA, placeB;  // of their velocities in the sweeps
    int index;           // among the points
    std::uint32_t id;
    Vec3 position;
    Mat3 directions;  // columns: normal (from a to b) and tangents
    Vec3 armA, armB;
    Mat3 angularA, angularB;  // columns: response of the spins to unit impulses
    double inverseMassA, inverseMassB;
    Mat3 mobility;        // velocity along each direction per unit impulse along each other
    Vec3 alone;           // of the two bodies without joints, along each direction
    double softness;      // normal compliance over h^2
    double stiffestSlip;  // the larger eigenvalue of the tangents' mobility
    double target;        // least end velocity along the normal
    double pushedOut;     // m/s, at which overlap is to be left; 0 if there is none
    double gap;
    double friction, restitution;
    Vec3 impulse;
    Vec3 change;     // by the last sweep
    Vec3 direction;  // of the conjugate gradients
  };
  const std::vector<Point>& points() const { return points_; }

 private:
  // Velocities of what the points touch, side by side in memory while sweeps run.
  struct Motion {
    Vec3 velocity, spin;
  };
  void load(const std::vector<Body>& bodies);
  void unload(std::vector<Body>& bodies) const;  // only what is dynamic; the rest is shared between islands
  Vec3 slip(const Point& p) const;               // relative velocity, along the point's directions
  void push(const Point& p, const Vec3& impulse);
  void pushBodies(const Point& p, const Vec3& impulse, std::vector<Body>& bodies) const;
  void setMobility(Point& p, const Mat3& mobility);
  void extrapolate();
  double sweepPoints(std::vector<Point>& points);
  double sweepPoint(Point& p);
  static void account(const Point& p);

  std::vector<Point> points_;
  std::vector<int> touched_;  // whose velocities motions_ holds
  std::vector<Motion> motions_;
  std::vector<int> placeOf_;  // of each body in them; -1: not yet
  bool coupled_ = false;
  Eigen::MatrixXd coupling_;  // velocities of all points' directions per unit impulse of each
  Eigen::VectorXd speeds_;    // of all points' directions, while coupled sweeps run
  double storedTime_ = 1;
  bool closing_ = false;
  double gradient_ = 0;  // squared length of the last sweep's change; 0 before the first
  double beta_ = 0;      // its ratio to the one before
};

}  // namespace calm
