// SPDX-License-Identifier: GPL-3.0-or-later
// World: bodies, joints and contacts in motion; the one door to the engine.
//
//   World world({.gravity = {0, -9.81, 0}});
//   BodyId bob = world.addBody({.role = Role::dynamic, .pose = {{1, 0, 0}}, .shapes = {{{Sphere{0.1}}}}, ...});
//   world.addJoint({.type = JointType::ball, .a = kWorld, .b = bob, ...});
//   for (int frame = 0; frame < 600; ++frame) world.step();
//
// The same calls give the same bits, every time. A World is a value: a copy is a saved state that steps on identically.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <stdexcept>
#include <string>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/shape/shape.h"
#include "engine/solve/island.h"

namespace calm {

struct BodyDef {
  Role role = Role::dynamic;
  Pose pose;                            // part frame to world
  Vec3 velocity = Vec3::Zero();         // of the centre of mass, m/s
  Vec3 angularVelocity = Vec3::Zero();  // rad/s, world axes
  MassProperties mass;                  // read for dynamic bodies only
  std::vector<PlacedShape> shapes;
  double friction = 0.5;     // Coulomb; a pair has the geometric mean of the two
  double restitution = 0;    // a pair has the larger of the two
  double linearDamping = 0;  // 1/s
  double angularDamping = 0;
  double gravityScale = 1;
  // Of kinematic bodies; none: on at the given velocities. Sets the pose, too.
  std::optional<Motion> motion;
};

struct BodyState {
  Pose pose;  // part frame to world
  Vec3 velocity;
  Vec3 angularVelocity;
};

struct ContactReading {
  BodyId a, b;
  Vec3 position;  // m
  Vec3 normal;    // unit, from a to b
  Vec3 force;     // N, on b, over the last substep
  double gap;     // m
};

struct Energy {
  double kinetic = 0;    // J
  double potential = 0;  // J, of gravity, zero at the origin
  double springs = 0;    // J, of joints' axes
  double total() const { return kinetic + potential + springs; }
};

// What a bad definition throws; the message ends the sentence "<thing>: ...".
class WorldError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

class World {
 public:
  explicit World(const StepSettings& settings = {});

  // Both throw WorldError on bad values and leave the world as it was.
  BodyId addBody(const BodyDef& def);
  JointId addJoint(const JointDef& def);

  // Keeps the body from moving along and from turning about the marked world axes, through its centre of mass as it is
  // now: one joint to the world. With a single turn locked, the body cannot twist about that axis.
  void lockAxes(BodyId body, const std::array<bool, 3>& travel, const std::array<bool, 3>& turn);
  // Of a body that is kinematic, now or later.
  void setMotion(BodyId body, const Motion& motion);
  // Changes what moves the body; it keeps its velocities, unless it is to be fixed. What becomes kinematic without a
  // motion goes on at them.
  void setRole(BodyId body, Role role);

  // Advances by one frame.
  Residual step();

  double time() const { return frames_ * settings_.frame; }
  const StepSettings& settings() const { return settings_; }
  int bodyCount() const { return static_cast<int>(bodies_.size()); }
  int jointCount() const { return static_cast<int>(joints_.size()); }

  BodyState state(BodyId body) const;
  // Throws WorldError unless all numbers are finite.
  void setVelocity(BodyId body, const Vec3& velocity, const Vec3& angularVelocity);
  // A force (N, world axes) at a world point that acts from now on until cleared.
  void addForce(BodyId body, const Vec3& force, const Vec3& point);
  // A torque (N m, world axes) that acts likewise.
  void addTorque(BodyId body, const Vec3& torque);
  void clearForces();
  // An impulse (N s) at a world point, at once.
  void applyImpulse(BodyId body, const Vec3& impulse, const Vec3& point);

  const JointReading& reading(JointId joint) const { return joints_.at(joint).reading; }
  const JointDef& joint(JointId joint) const { return joints_.at(joint).def; }
  std::vector<ContactReading> contacts() const;
  Energy energy() const;
  Vec3 momentum() const;                          // kg m/s
  Vec3 angularMomentum(const Vec3& about) const;  // kg m^2/s

  struct Hit {
    BodyId body;
    double distance;
    Vec3 normal;
  };
  std::optional<Hit> castRay(const Ray& ray) const;

 private:
  void buildAssemblies();
  std::vector<Island> makeIslands();
  void refreshPairs();
  const Body& checked(BodyId body) const;
  void readAxes(JointState& joint) const;
  void completeForm(JointDef& def) const;
  void settleAxes(JointState& joint) const;
  double massSeenBy(const JointState& joint, int axis) const;

  StepSettings settings_;
  long frames_ = 0;
  std::vector<Body> bodies_;
  std::vector<BodyShape> shapes_;
  std::vector<Collider> colliders_;
  std::vector<JointState> joints_;
  std::vector<Assembly> assemblies_;
  std::map<std::pair<int, int>, ContactPair> pairs_;  // by shapes
  std::set<std::pair<BodyId, BodyId>> quiet_;         // joined neighbours that do not collide
  bool jointsChanged_ = false;
  bool fresh_ = true;
};

}  // namespace calm
