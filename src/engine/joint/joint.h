// SPDX-License-Identifier: GPL-3.0-or-later
// Joints: what is asked for (JointDef), what comes back (JointReading), and the equations of each type.
#pragma once

#include <array>
#include <cmath>
#include <limits>
#include <vector>

#include "engine/joint/axis.h"
#include "engine/joint/rows.h"
#include "engine/math/types.h"
#include "engine/solve/body.h"

namespace calm {

using BodyId = int;
using JointId = int;
constexpr BodyId kWorld = 0;  // the fixed body that every world has

enum class JointType {
  fixed,
  ball,
  hinge,
  slider,
  cylinder,
  universal,
  planar,
  limb,
  wheel,
  screw,
  sixAxis,
  distance,
  spring,
  pulley,
  winch,
  gear,
  rack
};
constexpr int kMaxAxes = 6;

// A point over which a rope runs without friction: of the world, of a or b, or of another part.
enum class RouteOn { world, a, b, part };
struct RoutePoint {
  RouteOn on = RouteOn::world;
  Vec3 at = Vec3::Zero();  // m, in that part's frame
  int part = kWorld;       // where it is on another
};

// What only some types have.
struct JointForm {
  // gear: turns of b for one of a, seen from the line of centres (negative for outer teeth). pulley and winch: how much
  // a metre of rope beyond the last world point counts.
  double ratio = 1;
  double radius = 0.1;  // m; rack: of the pinion's pitch circle
  double lead = 0.01;   // m; screw: travel in one turn
  // limb: how far b's axis may lean about a's y and z axes, rad; 0: no cone. The rim between them is an ellipse.
  double coneY = 0, coneZ = 0;
  std::vector<RoutePoint> route;  // pulley and winch: from a's pivot to b's
};

constexpr double kUnbreakable = std::numeric_limits<double>::infinity();

struct JointDef {
  JointType type = JointType::ball;
  BodyId a = kWorld, b = kWorld;
  // The joint's frame in each part's frame. Pivot at its origin; a hinge turns about its x axis, a slider moves along
  // it.
  Pose frameA, frameB;
  // What happens on the free axes, in the order of axesOf(type).
  std::array<AxisDef, kMaxAxes> axes;
  JointForm form;
  // Compliance of every row, m/N; angular rows have it over the square of the pin radius. 0: the engine's own, which is
  // nothing in a tree and 1e-12 m/N where loops could make joints redundant.
  double compliance = 0;
  double pinRadius = 0.02;  // m
  // The joint parts when the size of the force or torque that it carries, averaged over one frame's time, passes these.
  double breakForce = kUnbreakable;   // N
  double breakTorque = kUnbreakable;  // N m
  bool armed = true;                  // whether it can part
  bool neighboursCollide = false;
  bool made = true;  // otherwise it holds nothing until World::make
};

// Readings of one frame. Forces and torques act on part b, in world axes, torques about the pivot on b.
struct JointReading {
  Vec3 force = Vec3::Zero();      // N, the frame's impulse over its time
  Vec3 torque = Vec3::Zero();     // N m
  Vec3 forceNow = Vec3::Zero();   // N, at the end of the frame
  Vec3 torqueNow = Vec3::Zero();  // N m
  // Their sizes, means of the frame: of a load that turns, its mean has less.
  double forceSize = 0, torqueSize = 0;  // N, N m
  double separation = 0;                 // m, at the end of the frame
  double separationPeak = 0;             // m, the largest of the frame's substeps
  double misalignment = 0;               // rad, of the locked axes
  double misalignmentPeak = 0;           // rad
  // Of the free axes. At the end of the frame: position (m or rad; angles go on counting beyond a turn) and rate (m/s
  // or rad/s). Effort is what stops, drive and spring push with along the axis, mean of the frame (N or N m), work what
  // they have put into the parts since the start (J), activity the AxisActivity bits.
  std::array<double, kMaxAxes> position{}, rate{}, effort{}, work{};
  std::array<unsigned, kMaxAxes> activity{};
  bool parted = false;
  double partedAt = 0;  // s

  void visitState(StateArchive& state);
};

// A joint's frames in the two bodies' principal frames; the route's points are in those of their own, whose numbers are
// then places among the riders.
struct JointGeometry {
  Vec3 anchorA, anchorB;
  Mat3 axesA, axesB;
  JointForm form = {};
  double zero = 0;                  // where meshes and threads count from
  std::vector<BodyId> riders = {};  // other bodies that a rope runs over
};

// Angles are known up to whole turns; a coordinate takes the turn nearest to where it was. Most have one angle, gears
// two.
struct Winding {
  std::array<double, 2> before{}, now{};

  void visitState(StateArchive& state);
  double unwrap(double angle, int which = 0) {
    constexpr double kTurn = 6.283185307179586476925;
    return now[which] = angle + kTurn * std::round((before[which] - angle) / kTurn);
  }
};

// How many rows the type has, how many of them are angular, and how many keep a pivot together: three or none.
struct RowCount {
  int rows, angular, pivot = 0;
};
RowCount rowCount(JointType type);

// Writes errors and Jacobians at the bodies' present poses.
void evaluateRows(JointType type, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);

// The types, one file each: the rows of what is locked.
void evaluateFixed(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateBall(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateHinge(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateSlider(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateCylinder(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateUniversal(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluatePlanar(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void evaluateWheel(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);

// The free axes that can be limited, driven and sprung; along (m) first, then about (rad).
struct AxisCount {
  int along, about;
  int all() const { return along + about; }
};
AxisCount axesOf(JointType type);

// Of the axes, those that a joint has locked (low = high = 0) unless stops, drive or spring are asked for: the mesh of
// a gear, the steering of a wheel.
bool isLockedByNature(JointType type, int axis);

// Empty if a joint of this type can have such an axis; otherwise what is wrong, as the end of a sentence.
std::string faultOf(JointType type, const AxisDef& axis);

// Writes one row whose error is the coordinate of free axis k itself. See joint/coordinates.cpp for each type's.
void evaluateCoordinate(JointType type, int k, const JointGeometry& g, const Body& a, const Body& b, Winding& winding,
                        RowBlock& rows);

// The coordinates, by what they measure.
void travelAlong(int column, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void turnAboutX(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void turnAboutYOfB(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void twist(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void swing(int column, const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void leanBeyondCone(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void steerOfWheel(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void spinOfWheel(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void lengthOf(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void ropeLength(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows);
void meshOfGear(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void meshOfRack(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);
void threadOfScrew(const JointGeometry& g, const Body& a, const Body& b, Winding& winding, RowBlock& rows);

// Three rows at the pivot, which most types begin with.
inline void pivotRows(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 armA = a.axes * g.anchorA, armB = b.axes * g.anchorB;
  rows.meetAt(armA, armB);
  rows.coincide(b.position + armB - a.position - armA);
}

// The arms of rows along directions fixed in a: both reach to the pivot on b. Returns the gap from a's pivot to b's.
inline Vec3 reachToB(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  const Vec3 armB = b.axes * g.anchorB, onB = b.position + armB;
  rows.meetAt(onB - a.position, armB);
  return onB - a.position - a.axes * g.anchorA;
}

}  // namespace calm
