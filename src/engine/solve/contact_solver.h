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
  bool fromTheStart = false;  // has not been looked at yet, in the world's first frame
  // Two parts of one assembly that were put into each other, as bars are where a pin holds them: they do not touch
  // until they have come apart.
  bool interlaced = false;
  Manifold manifold;
  std::vector<ContactImpulse> last;
  // As it was when the shapes were last looked at in this frame, for follow(). In the bodies' principal frames.
  struct Kept {
    struct Point {
      Vec3 onA, onB;
      std::uint32_t id;
    };
    bool known = false;
    Vec3 place, normal;  // of b as seen from a; of the body that owns the normal
    Mat3 turn;           // of b as seen from a
    double reach = 0;    // m, how far the shapes were looked for
    double slide = 0;    // m, that the points may follow
    double extent = 0;   // m, of b about its centre of mass
    std::vector<Point> points;
  } kept;
  // Of the present frame, on b: impulse and its moment about the origin (world).
  Vec3 frameImpulse = Vec3::Zero(), frameMoment = Vec3::Zero();

  void visitState(StateArchive& state);
  // Names each point of the new manifold after the last one's point where it lies, if there was one: features flicker
  // when corners and edges coincide, places do not.
  void keepNames(const Body& a);
  // Notes the manifold and how the bodies stand, for follow().
  void keep(const Body& a, const Body& b, double reach, double slide, double extent);
  // Forgets the manifold while the two are interlaced.
  void passInterlaced(const Body& a, const Body& b, double size);
  bool startsSet = false;  // in the solver's order, the first of bodies that hang together
  // Moves the manifold along with the bodies; false if they have moved too much against each other for that.
  bool follow(const Body& a, const Body& b, double margin);
};

class Assembly;

class ContactSolver {
 public:
  // Takes the manifolds of the pairs at the present poses. `approach` velocities are the bodies' present ones, from
  // before the kick. With `closing`, only contacts that pushed in the last substep take part, and none bounces.
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

  struct Point {
    // What sweeps read comes first.
    int placeA, placeB;  // of the bodies in motions_
    int index;           // among the points
    Mat3 directions;     // columns: normal (from a to b) and tangents
    Vec3 armA, armB;
    Vec3 mobility;                       // velocity along each direction per unit impulse along the normal
    Eigen::Matrix2d tangents, stopSlip;  // the same between the tangents, and its inverse
    double softness;                     // normal compliance over h^2
    double stiffestSlip;                 // the larger eigenvalue of the tangents' mobility
    double target;                       // least end velocity along the normal
    double friction;
    Vec3 impulse;
    Vec3 change;     // by the last sweep
    Vec3 direction;  // of the conjugate gradients

    ContactPair* pair;
    int a, b;
    std::uint32_t id;
    bool bounces;  // an impact is taken by bounce(), at the instant of touch if it can be
    Vec3 position;
    Vec3 alone;        // mobility of the two bodies without joints, along each direction
    double pushedOut;  // m/s, at which overlap is to be left; 0 if there is none
    double gap;
    double restitution;
  };

 private:
  // Velocities of what the points touch, side by side in memory while sweeps run.
  struct Motion {
    Vec3 velocity, spin;
    Mat3 response;
    double inverseMass;
    // What the last sweep changed, and the direction of the conjugate gradients: impulses' directions as velocities.
    Vec3 sweptVelocity = Vec3::Zero(), sweptSpin = Vec3::Zero();
    Vec3 headingVelocity = Vec3::Zero(), headingSpin = Vec3::Zero();
  };
  void load(const std::vector<Body>& bodies);
  void unload(std::vector<Body>& bodies) const;  // only what is dynamic; the rest is shared between islands
  Vec3 slip(const Point& p) const;               // relative velocity, along the point's directions
  void push(const Point& p, const Vec3& impulse);
  void pushBodies(const Point& p, const Vec3& impulse, std::vector<Body>& bodies) const;
  void setMobility(Point& p, const Mat3& mobility);
  // Points whose bodies touch no others', one after another, as are the bodies in motions_.
  struct Range {
    int firstPoint, endPoint, firstMotion, endMotion;
  };
  Range all() const { return {0, size(), 0, static_cast<int>(motions_.size())}; }
  std::vector<ContactPair*> inOrder(const std::vector<ContactPair*>& pairs, const std::vector<Body>& bodies);
  void extrapolate(const Range& range);
  double sweepOn(const Range& range);
  double sweepPoints(std::vector<Point>& points, int from, int to);
  double sweepPoint(Point& p);
  static void account(const Point& p);

  std::vector<Point> points_;
  std::vector<Range> ranges_;
  std::vector<int> touched_;  // whose velocities motions_ holds
  std::vector<Motion> motions_;
  std::vector<int> placeOf_;  // of each body in them; -1: not yet
  bool coupled_ = false;
  Eigen::MatrixXd coupling_;  // velocities of all points' directions per unit impulse of each
  // Of all points' directions, while coupled sweeps run; the same as Motion's.
  Eigen::VectorXd speeds_, sweptSpeeds_, headingSpeeds_;
  double storedTime_ = 1;
  bool closing_ = false;
  double slowest_ = 0;   // m/s; impacts slower than that do not bounce
  double gradient_ = 0;  // squared length of the last sweep's change; 0 before the first
  double beta_ = 0;      // its ratio to the one before
};

inline Vec3 ContactSolver::slip(const Point& p) const {
  if (coupled_) return speeds_.segment<3>(3 * p.index);
  const Motion &a = motions_[p.placeA], &b = motions_[p.placeB];
  const Vec3 relative = b.velocity - a.velocity + b.spin.cross(p.armB) - a.spin.cross(p.armA);
  return p.directions.transpose() * relative;
}

inline void ContactSolver::push(const Point& p, const Vec3& impulse) {
  if (coupled_) {
    speeds_.noalias() += coupling_.middleCols<3>(3 * p.index) * impulse;
    return;
  }
  Motion &a = motions_[p.placeA], &b = motions_[p.placeB];
  const Vec3 along = p.directions * impulse;
  a.velocity -= a.inverseMass * along;
  a.spin -= a.response * p.armA.cross(along);
  b.velocity += b.inverseMass * along;
  b.spin += b.response * p.armB.cross(along);
}

}  // namespace calm
