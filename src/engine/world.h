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

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <stdexcept>
#include <string>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/shape/box_tree.h"
#include "engine/shape/shape.h"
#include "engine/solve/island.h"
#include "engine/solve/pair_table.h"

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
  int material = 0;  // for World::setMaterialPair
  int layer = 0;     // 0 to 31, for World::setLayersTouch
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

// What two bodies did to each other over the last frame.
struct TouchReading {
  BodyId a, b;
  Vec3 force;   // N, on b, mean of the frame
  Vec3 moment;  // N m, on b, about the world's origin
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

inline void require(bool condition, const std::string& fault) {
  if (!condition) throw WorldError(fault);
}

class World {
 public:
  explicit World(const StepSettings& settings = {});

  // Both throw WorldError on bad values and leave the world as it was.
  BodyId addBody(const BodyDef& def);
  JointId addJoint(const JointDef& def);

  // What two materials have between them, in place of the means of their own values.
  void setMaterialPair(int material, int other, double friction, double restitution);
  // Whether shapes of two layers touch each other; all do unless told otherwise.
  void setLayersTouch(int layer, int other, bool touch);

  // Keeps the body from moving along and from turning about the marked world axes, through its centre of mass as it is
  // now: one joint to the world. With a single turn locked, the body cannot twist about that axis.
  void lockAxes(BodyId body, const std::array<bool, 3>& travel, const std::array<bool, 3>& turn);
  // Of a body that is kinematic, now or later.
  void setMotion(BodyId body, const Motion& motion);
  // Changes what moves the body; it keeps its velocities, unless it is to be fixed. What becomes kinematic without a
  // motion goes on at them.
  void setRole(BodyId body, Role role);

  // A field, from now on; its number. Throws on nonsense.
  int addField(const Field& field);
  void setField(int number, const Field& field);
  const Field& field(int number) const { return fields_.at(static_cast<std::size_t>(number)); }
  // A force (N) at a point of the body's part frame and a torque (N m), in world axes or, if they follow, in the
  // part's.
  struct PushDef {
    BodyId body = kWorld;
    Vec3 at = Vec3::Zero(), force = Vec3::Zero(), torque = Vec3::Zero();
    bool follows = false;
    double from = 0, until = 1e300;  // s
  };
  void addPush(const PushDef& def);
  void setGravity(const Vec3& gravity);
  // Changes what happens on an axis of a joint, from now on.
  void setAxis(JointId joint, int axis, const AxisDef& def);
  // Arms or disarms a joint's break strengths. Cutting parts it at once.
  void setArmed(JointId joint, bool armed);
  void cut(JointId joint);
  // Makes a joint that was not made yet, or has parted. What its sides are apart closes to 1/e in `fade` seconds.
  void make(JointId joint, double fade = kOffsetFade);
  // Whether the body's shapes touch others.
  void setCollides(BodyId body, bool collides);
  // Whether joints keep the loads and errors of each substep for substepsOf().
  void setTraced(bool traced) { settings_.traced = traced; }

  // Advances by one frame.
  Residual step();

  // All that changes while the world runs, as bytes, for a world built by the same calls: restored, it steps on to the
  // same bits. restoreState throws WorldError on bytes of another kind, and leaves the world as it was.
  std::vector<std::uint8_t> saveState() const;
  void restoreState(const std::vector<std::uint8_t>& bytes);

  double time() const { return frames_ * settings_.frame; }
  const StepSettings& settings() const { return settings_; }
  int bodyCount() const { return static_cast<int>(bodies_.size()); }
  int jointCount() const { return static_cast<int>(joints_.size()); }

  BodyState state(BodyId body) const;
  bool isDynamic(BodyId body) const { return bodies_.at(static_cast<std::size_t>(body)).dynamic(); }
  // Throws WorldError unless all numbers are finite.
  void setVelocity(BodyId body, const Vec3& velocity, const Vec3& angularVelocity);
  // A force (N, world axes) at a world point that acts from now on until cleared.
  void addForce(BodyId body, const Vec3& force, const Vec3& point);
  // A torque (N m, world axes) that acts likewise.
  void addTorque(BodyId body, const Vec3& torque);
  void clearForces();
  // Of the body's point that is there now, m/s.
  Vec3 velocityAt(BodyId body, const Vec3& point) const;
  // kg: what the free body answers an impulse at a world point with, in the direction in which that is least. Infinite
  // unless it is dynamic.
  double massAt(BodyId body, const Vec3& point) const;
  // An impulse (N s) at a world point, at once.
  void applyImpulse(BodyId body, const Vec3& impulse, const Vec3& point);

  // Of the last frame, traced: the load at the start of each substep (mean over one about it) and the error during it.
  struct SubstepReading {
    double force, torque, separation;  // N, N m, m
  };
  std::vector<SubstepReading> substepsOf(JointId joint) const;
  bool isOpen(JointId joint) const { return joints_.at(joint).open; }
  const JointReading& reading(JointId joint) const { return joints_.at(joint).reading; }
  const JointDef& joint(JointId joint) const { return joints_.at(joint).def; }
  // kg or kg m^2: the inertia along or about a free axis, of the two bodies as this joint alone holds them. Throws
  // std::invalid_argument if neither can move along it.
  double inertiaAlong(JointId joint, int axis) const { return massSeenBy(joints_.at(joint), axis); }
  // Of all bodies' shapes; empty (low above high) for one without, or with one that has no bounds.
  std::vector<Aabb> bounds() const;
  std::vector<ContactReading> contacts() const;
  std::vector<TouchReading> touches() const;
  double kineticEnergy(BodyId body) const;    // J
  double potentialEnergy(BodyId body) const;  // J, of gravity, zero at the origin
  Energy energy() const;
  Vec3 momentum() const;                          // kg m/s
  Vec3 angularMomentum(const Vec3& about) const;  // kg m^2/s

  struct Hit {
    BodyId body;
    double distance;
    Vec3 normal;
  };
  std::optional<Hit> castRay(const Ray& ray) const;
  // The bodies that the convex shape would touch, ascending.
  std::vector<BodyId> overlapping(const Shape& shape, const Pose& pose) const;
  bool isAsleep(BodyId body) const { return bodies_.at(body).asleep; }

 private:
  static constexpr std::uint64_t kStateVersion = 12;
  void visitState(StateArchive& state);
  Residual advanceFrame();
  void buildAssemblies();
  void makeIslands();
  struct NearSearch;
  void refreshPairs();
  bool mayTouch(const BodyShape& a, const BodyShape& b) const;
  ContactPair makePair(const PairTable::Key& key) const;
  double energyOfYield(const JointState& j) const;
  void wake(BodyId body);
  // What a push begins or ends to act on in the frame to come.
  void wakeForPushes();
  void settle(const std::vector<Island>& islands);
  const Body& checked(BodyId body) const;
  void readAxes(JointState& joint) const;
  void completeForm(JointDef& def) const;
  void settleAxes(JointState& joint) const;
  void stiffenByFrequency(JointState& joint, int axis) const;
  double massSeenBy(const JointState& joint, int axis) const;
  // A joint's axis, its two sides as if nothing held them: row of the coordinate, their inverse inertia, and what a
  // unit impulse changes the rate by, 1/kg or 1/(kg m^2).
  struct FreeAxis {
    Eigen::Matrix<double, kRowWidth, 1> row;
    Eigen::Matrix<double, kRowWidth, kRowWidth> inverse;
    double mobility;
  };
  FreeAxis freeAxis(const JointState& joint, int axis) const;

  // Of the present frame; kept for its memory alone, and no part of a copy.
  struct Islands {
    std::vector<Island> list;

    Islands() = default;
    Islands(const Islands&) {}
    Islands(Islands&&) = default;
    Islands& operator=(const Islands&) { return *this; }
    Islands& operator=(Islands&&) = default;
  };

  StepSettings settings_;
  long frames_ = 0;
  std::vector<Body> bodies_;
  std::vector<BodyShape> shapes_;
  std::vector<Collider> colliders_;
  std::vector<JointState> joints_;
  std::vector<Assembly> assemblies_;
  std::vector<Field> fields_;
  std::vector<Push> pushes_;
  PairTable pairs_;
  std::set<std::pair<BodyId, BodyId>> quiet_;    // joined neighbours that do not collide
  std::set<std::pair<BodyId, BodyId>> meeting_;  // and those that were asked to
  BoxTree tree_;                                 // of the shapes that have bounds
  std::vector<int> leaves_;                      // of each shape; -1: unbounded
  struct Between {
    double friction, restitution;
  };
  std::map<std::pair<int, int>, Between> materials_;
  Between touchOf(const BodyShape& a, const BodyShape& b) const;
  std::array<std::uint32_t, 32> untouched_{};  // of each layer: the layers that it does not touch
  int wanted_ = 0;                             // substeps that the settings ask for, while a budget may ask for more
  int easyFrames_ = 0;                         // in a row within the budget
  bool jointsChanged_ = false;
  bool fresh_ = true;
  Islands islands_;
};

}  // namespace calm
