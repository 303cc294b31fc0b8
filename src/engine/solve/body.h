// SPDX-License-Identifier: GPL-3.0-or-later
// A part as the solver sees it: its frame sits in the centre of mass, along the principal axes.
#pragma once

#include <memory>

#include "engine/math/motion.h"
#include "engine/math/rotation.h"
#include "engine/math/types.h"

namespace calm {

class StateArchive;

// Fixed parts rest, kinematic ones follow a prescribed motion, dynamic ones obey forces.
enum class Role { fixed, kinematic, dynamic };

// In the order in which a substep asks for it, line of the cache by line: where there are many bodies, what they wait
// for is memory.
struct alignas(64) Body {
  // How it answers impulses: inverse mass and inertia that do so, with the damping over the step and the geometric
  // stiffness (world), and how it moves (world).
  double linearResponse = 0;
  Role role = Role::fixed;
  bool stiffened = false;
  Vec3 velocity = Vec3::Zero();
  Vec3 spin = Vec3::Zero();  // angular velocity
  Mat3 response = Mat3::Zero();
  Vec3 kickedSpin = Vec3::Zero();  // the spin with which the last drift began
  // Rates at which damping and drag slow it in the coming kick, 1/s; see Island::factor.
  double linearDecay = 0, angularDecay = 0;
  double gravityScale = 1;
  // s, of the last kick; see velocityBefore.
  double spanBefore = 0;

  // Where it is (world).
  Mat3 axes = Mat3::Identity();  // of the orientation
  Vec3 position = Vec3::Zero();
  Quat orientation = Quat::Identity();

  // Angular momentum, valid while the spin is momentumSpin.
  Vec3 momentum = Vec3::Zero(), momentumSpin = Vec3::Zero();
  double mass = 0, inverseMass = 0;  // kg; the inverse is 0 unless dynamic

  // The substep's start, to return to.
  struct Mark {
    Vec3 position, velocity, spin;
    Quat orientation;
    Mat3 axes;
  } mark;

  PrincipalInertia inertia;
  double linearDamping = 0, angularDamping = 0;  // 1/s
  // How far joints hold the axis of what spins fast to a plane in the frame, 0 to 1; see carryAxis().
  double held = 0;
  // Geometric stiffness of the joint forces on it, N m/rad (world).
  Mat3 stiffness = Mat3::Zero();
  // Where all joints pull at points of one line through the centre of mass, that line (principal frame); else zero. No
  // joint can turn the body about it, so the geometric stiffness may not either.
  Vec3 untouchedAxis = Vec3::Zero();

  // What acts on it over the coming frame (world, about the centre of mass).
  Vec3 force = Vec3::Zero();
  Vec3 torque = Vec3::Zero();
  Vec3 windPull = Vec3::Zero();  // m/s^2, of winds beside their drag
  // The velocities before the last kick, whose span is 0 if there was none, or they have changed since by other means.
  // Tells how drag will change, and what accelerates a body until it strikes something.
  Vec3 velocityBefore = Vec3::Zero(), spinBefore = Vec3::Zero();
  // What fields and pushes give it in the coming kick, m/s^2 and rad/s^2.
  Vec3 given = Vec3::Zero(), givenSpin = Vec3::Zero();
  // Of what is not dynamic: its velocities over the last step, or at its end where that closed a frame.
  Vec3 lastVelocity = Vec3::Zero(), lastSpin = Vec3::Zero();

  // What else it is.
  Pose inPart;                           // the principal frame in the part's frame
  bool jointed = false;                  // some joint holds it
  bool atJoints = false;                 // in the present frame: so, or it may touch what is, be it through others
  bool asleep = false;                   // at rest, and not computed
  bool collides = true;                  // its shapes touch others
  bool weighed = false;                  // its mass properties are known, so that it can be dynamic
  int assembly = -1;                     // in which of the world's assemblies it then is
  double restTime = 0;                   // s, since when it rests ...
  Pose restPose;                         // ... and where
  std::shared_ptr<const Motion> motion;  // of a kinematic body; none: on at its velocity

  void visitState(StateArchive& state);
  bool dynamic() const { return role == Role::dynamic; }
  bool moves() const { return role != Role::fixed; }
  // By something that is not computed.
  bool isMoved() const { return role == Role::kinematic && (motion || !velocity.isZero(0) || !spin.isZero(0)); }
  Pose pose() const { return {position, orientation}; }
  Pose partPose() const { return pose() * inPart.inverse(); }
  void placePart(const Pose& part) {
    const Pose p = part * inPart;
    position = p.position;
    orientation = p.rotation;
    axes = orientation.toRotationMatrix();
  }
  Vec3 velocityAt(const Vec3& arm) const { return velocity + spin.cross(arm); }
  // rad/s^2, by a moment about its centre of mass (N m, world).
  Vec3 turnedBy(const Vec3& moment) const { return axes * inertia.inverse().cwiseProduct(axes.transpose() * moment); }
  Mat3 worldInertia() const { return axes * inertia.moments().asDiagonal() * axes.transpose(); }
  double kineticEnergy() const { return kineticEnergyAt(velocity, spin); }
  double kineticEnergyAt(const Vec3& v, const Vec3& w) const {
    return 0.5 * mass * v.squaredNorm() + 0.5 * (axes.transpose() * w).cwiseAbs2().dot(inertia.moments());
  }

  void setMark() { mark = {position, velocity, spin, orientation, axes}; }
  void returnToMark() {
    position = mark.position;
    orientation = mark.orientation;
    axes = mark.axes;
    velocity = mark.velocity;
    spin = mark.spin;
  }
  // Free motion over h from the marked pose; a kinematic body keeps its velocities.
  void drift(double h) {
    kickedSpin = spin;
    position = mark.position + velocity * h;
    orientation = mark.orientation;
    if (!dynamic()) {
      orientation = (rotationFromVector(spin * h) * orientation).normalized();
      axes = orientation.toRotationMatrix();
      return;
    }
    // Taken over from drift to drift while nothing turns the body, so that no round-off builds up in it.
    Vec3 inBody;
    if (spin != momentumSpin) {
      inBody = inertia.moments().cwiseProduct(mark.axes.transpose() * spin);
      momentum = mark.axes * inBody;
    } else {
      inBody = mark.axes.transpose() * momentum;
    }
    inertia.driftFree(orientation, momentum, inBody, h, held);
    axes = orientation.toRotationMatrix();
    spin = axes * inertia.inverse().cwiseProduct(inBody);
    momentumSpin = spin;
  }
  // Velocities that take a kinematic body to where its motion is at `time`, in h seconds.
  void steerTo(double time, double h) {
    if (!motion) return;
    const Pose goal = motion->poseAt(time) * inPart;
    velocity = (goal.position - position) / h;
    spin = vectorFromRotation(goal.rotation * orientation.conjugate()) / h;
  }
  // The velocities of its motion at an instant, by central differences over as much to either side, s.
  void steerAt(double time, double side = 1e-5) {
    if (!motion) return;
    const Pose before = motion->poseAt(time - side) * inPart, after = motion->poseAt(time + side) * inPart;
    velocity = (after.position - before.position) / (2 * side);
    spin = vectorFromRotation(after.rotation * before.rotation.conjugate()) / (2 * side);
  }
  // For a step to `time`, in h seconds, of a kinematic body: how its velocities change over it. A motion may have bends
  // where the step begins and ends; what counts is what lies between.
  void noteGathering(double time, double h) {
    if (!motion || dynamic()) return;
    constexpr double kShare = 1e-3;  // of the step
    const double little = kShare * h;
    Body start = *this, end = *this;
    start.steerAt(time - h + little, little);
    end.steerAt(time - little, little);
    const double share = 1 / (1 - 2 * kShare);
    velocityBefore = velocity - share * (end.velocity - start.velocity);
    spinBefore = spin - share * (end.spin - start.spin);
    spanBefore = h;
  }
  // How its spin changes where nothing turns it, rad/s^2.
  Vec3 freeTurning() const { return freeTurning(spin); }
  Vec3 freeTurning(const Vec3& atSpin) const {
    if (!dynamic()) return Vec3::Zero();
    const Vec3 turning = axes.transpose() * atSpin;
    return axes * inertia.inverse().cwiseProduct(inertia.moments().cwiseProduct(turning).cross(turning));
  }
  // Takes the velocities back to before the last drift, so that there can be another; what was added to them then
  // stays.
  void undrift() { spin = kickedSpin; }
};

}  // namespace calm
