// SPDX-License-Identifier: GPL-3.0-or-later
// The rig: what the user builds. Plain values, no simulation state, no screen. SI units, world frame y up.
#pragma once

#include <array>
#include <optional>
#include <set>
#include <string>
#include <variant>
#include <vector>

#include "engine/joint/joint.h"
#include "engine/shape/shape.h"
#include "engine/solve/field.h"
#include "rig/cue.h"
#include "rig/expectation.h"
#include "rig/kits/forms.h"

namespace calm::rig {

// Identity of a part, joint or group: unique in its rig, never reused, independent of names and order.
using Id = int;
constexpr Id kNone = 0;  // as a joint's part: the world

// What two materials have between them.
struct MaterialPair {
  std::string a, b;
  double friction = 0.5, restitution = 0;
};

struct Stage {
  Vec3 gravity = Vec3(0, -9.81, 0);          // m/s^2
  double frameRate = 60;                     // Hz
  int substeps = 8;                          // a frame
  double duration = 8;                       // s, of a run
  std::optional<double> groundHeight = 0.0;  // m; none: no ground
  double groundFriction = 0.6;
  double groundRestitution = 0;
  std::string groundMaterial, groundLayer;
  double sleepAfter = 0;                                         // s; 0: nothing sleeps
  double separationBudget = 0;                                   // m; 0: none
  std::vector<std::pair<std::string, std::string>> layersApart;  // whose parts do not touch each other
  std::vector<MaterialPair> materialPairs;
};

// A steady force at a point of a part, and a torque.
struct Push {
  Vec3 at = Vec3::Zero();                            // m, in the part's frame
  Vec3 force = Vec3::Zero(), torque = Vec3::Zero();  // N, N m
  bool follows = false;                              // in the part's axes; otherwise in the world's
  double from = 0, until = 1e300;                    // s
};

// A part's mass: as it is, or from the volume of its shape.
struct Mass {
  double mass = 0;  // kg
};
struct Density {
  double density = 1000;  // kg/m^3
};

struct Part {
  Id id = kNone;
  std::string name;
  Role role = Role::dynamic;
  Shape shape = Box{};
  Pose pose;
  std::variant<Mass, Density> heft = Density{};
  Vec3 velocity = Vec3::Zero();         // m/s
  Vec3 angularVelocity = Vec3::Zero();  // rad/s
  double friction = 0.5;
  double restitution = 0;
  double linearDamping = 0;   // 1/s
  double angularDamping = 0;  // 1/s
  double gravityScale = 1;
  bool collides = true;
  Vec3 force = Vec3::Zero();   // N, world axes, steady, at the centre of mass
  Vec3 torque = Vec3::Zero();  // N m
  std::vector<Push> pushes;
  // About the centre of mass, in the part's axes, kg m^2; none: that of the solid shape.
  std::optional<Mat3> inertia;
  std::optional<Vec3> center;    // m, the centre of mass in the part's frame; none: the solid shape's
  std::string layer, material;   // names; empty: the common ones
  std::optional<Motion> motion;  // while kinematic
  std::array<bool, 3> lockedTravel{}, lockedTurn{};  // along and about the world's axes
  Id group = kNone;                                  // that it belongs to
  std::string slot;                                  // which member of a kit's group it is
  std::set<std::string> tags;

  double mass() const;  // kg
  MassProperties massProperties() const;
};

// One side of a joint, in its part's frame (the world's for kNone).
struct Side {
  Id part = kNone;
  Vec3 at = Vec3::Zero();       // m, the pivot
  Vec3 axis = Vec3::UnitX();    // unit; what a hinge turns about
  Vec3 across = Vec3::UnitY();  // unit, at right angles to it; zero angle
};

struct Joint {
  Id id = kNone;
  std::string name;
  JointType type = JointType::ball;
  Side a, b;
  std::array<AxisDef, kMaxAxes> axes;  // of the free axes, in the order of axesOf(type)
  std::optional<double> breakForce;    // N
  std::optional<double> breakTorque;   // N m
  JointForm form;
  bool armed = true;        // whether it can part
  double compliance = 0;    // m/N; 0: the engine's own
  double pinRadius = 0.02;  // m
  bool neighboursCollide = false;
  bool made = true;  // otherwise a cue makes it
  Id group = kNone;
  std::string slot;
  std::set<std::string> tags;

  // All that it ties: the parts of a and b (the world, too), and those that its rope runs over.
  std::vector<Id> parts() const;
};

// Parts and joints that belong together: put together by hand, or made by a kit, whose form it keeps. Its members name
// it.
struct Group {
  Id id = kNone;
  std::string name;
  Form form;
};

// A wind or an attraction on some parts; none named: on all.
struct Field {
  std::variant<Wind, Attraction> law;
  std::vector<Id> parts;
};

struct Rig {
  std::string name = "Untitled";
  Stage stage;
  std::vector<Part> parts;
  std::vector<Joint> joints;
  std::vector<Group> groups;
  std::vector<Field> fields;
  std::vector<Cue> cues;
  std::vector<Expectation> expectations;
  Id nextId = 1;
  int newerVersion = 0;  // of the file, where that is newer than what is known here: not all of it may be here

  const Part* part(Id id) const;
  const Joint* joint(Id id) const;
  const Group* group(Id id) const;
  const Cue* cue(Id id) const;
  Part* part(Id id);
  Joint* joint(Id id);
  Group* group(Id id);
  Cue* cue(Id id);
  // "world" for kNone.
  std::string partName(Id id) const;
  // The base name, or the first of "name 2", "name 3", ... that no part, joint or group bears.
  std::string freeName(const std::string& base) const;
};

// Words for the types, as files and screens use them.
inline constexpr std::array kJointWords = {
    std::pair{JointType::fixed, "fixed"},       std::pair{JointType::ball, "ball"},
    std::pair{JointType::hinge, "hinge"},       std::pair{JointType::slider, "slider"},
    std::pair{JointType::cylinder, "cylinder"}, std::pair{JointType::universal, "universal"},
    std::pair{JointType::planar, "planar"},     std::pair{JointType::limb, "limb"},
    std::pair{JointType::wheel, "wheel"},       std::pair{JointType::screw, "screw"},
    std::pair{JointType::sixAxis, "six-axis"},  std::pair{JointType::distance, "distance"},
    std::pair{JointType::spring, "spring"},     std::pair{JointType::pulley, "pulley"},
    std::pair{JointType::winch, "winch"},       std::pair{JointType::gear, "gear"},
    std::pair{JointType::rack, "rack"}};
inline constexpr std::array kRoleWords = {std::pair{Role::fixed, "static"}, std::pair{Role::kinematic, "kinematic"},
                                          std::pair{Role::dynamic, "dynamic"}};
inline constexpr std::array kFormWords = {"group", "line", "ring", "ladder", "door"};
const char* word(JointType type);
const char* word(Role role);
// What a joint's free axis k does, in a word or two, and whether it is a turn. Axes that the type itself locks (the
// mesh of a gear) have no word.
const char* axisWord(JointType type, int k);
bool axisTurns(JointType type, int k);
const char* word(const Shape& shape);
// What a group is: "line", "door", ...; "group" where it was put together by hand.
const char* word(const Form& form);

// The world frame of a joint's side at rest: pivot, and axes as columns axis, across, axis x across.
Pose restFrame(const Rig& rig, const Side& side);
// The side with its pivot and axis at these world values at rest.
Side sideAt(const Rig& rig, Id part, const Vec3& pivot, const Vec3& axis);
Side sideAt(const Rig& rig, Id part, const Vec3& pivot, const Vec3& axis, const Vec3& across);
// Where the joint's sides meet at rest: midway between the two pivots.
Vec3 restPivot(const Rig& rig, const Joint& joint);

// Removes groups that no part is a member of; what still names them belongs to none.
void dropEmptyGroups(Rig& rig);

// What is wrong with a rig, and where ("joint \"Jib foot\"").
struct Fault {
  std::string place;
  std::string message;
  std::string text() const { return place + ": " + message; }
};
// Everything that would keep the rig from running: bad numbers, missing parts, doubled ids, and so on.
std::vector<Fault> faultsOf(const Rig& rig);

}  // namespace calm::rig
