// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/collide.h"

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

#include "engine/contact/even_pressure.h"
#include "engine/contact/polytopes.h"
#include "engine/shape/mesh.h"

namespace calm {

namespace {

// A cylinder touches with its round side as long as its axis is as square to the normal as this.
constexpr double kSquare = 1e-3;

// m, by which equal gaps may differ.
constexpr double kRoundOff = 1e-6;

void againstHalfSpace(const Collider& plane, const ConvexCore& core, double margin, bool planeIsA, Manifold& out) {
  out.normal = planeIsA ? plane.planeNormal : -plane.planeNormal;
  if (core.radius == 0 && core.discRadius == 0) out.normalOn = planeIsA ? Manifold::Owner::a : Manifold::Owner::b;
  out.clearance = 1e300;
  const auto consider = [&](const Vec3& point, std::uint32_t name) {
    const double gap = (point - plane.planePoint).dot(plane.planeNormal) - core.radius;
    out.clearance = std::min(out.clearance, gap);
    if (gap < margin) out.points.push_back({point - plane.planeNormal * (core.radius + gap / 2), gap, name});
  };
  if (core.discRadius > 0) {
    // The lowest point of each end's rim, and the rim's three other quarters, which count when it stands.
    const Vec3 axis = core.discAxis.normalized();
    const Vec3 down = -plane.planeNormal + axis * plane.planeNormal.dot(axis);
    const Vec3 first = down.norm() > 1e-6 ? Vec3(down.normalized()) : anyPerpendicular(axis);
    const Vec3 second = axis.cross(first);
    std::uint32_t name = 0;
    for (const double side : {-1.0, 1.0})
      for (const Vec3& direction : {first, second, Vec3(-first), Vec3(-second)})
        consider(core.center + side * core.discAxis + core.discRadius * direction, name++);
    if (std::abs(axis.dot(plane.planeNormal)) < kSquare) (planeIsA ? out.roundB : out.roundA) = core.discRadius;
    reduceToFew(out, margin);
    return;
  }
  for (std::uint32_t v = 0; v < core.vertices.size(); ++v) consider(core.vertices[v], v);
  reduceToFew(out, margin);
}

// Two rounded cores, at least one a point or a segment, that do not overlap.
void roundedManifold(const ConvexCore& a, const ConvexCore& b, const ClosestPoints& closest, double margin,
                     Manifold& out) {
  const double radii = a.radius + b.radius;
  out.normal = (closest.onB - closest.onA) / closest.distance;
  addPoint(closest.onA, closest.onB, out.normal, radii, margin, 0, a.radius, out);
  // A capsule lying along a face or another capsule touches at two ends, not at one point in between. One that leans
  // over a face may come down on its other end.
  const bool aIsSegment = a.vertices.size() == 2, bIsSegment = b.vertices.size() == 2;
  if (!aIsSegment && !bIsSegment) return;
  const ConvexCore& segment = aIsSegment ? a : b;
  const ConvexCore& other = aIsSegment ? b : a;
  if (other.vertices.size() < 2) return;
  const Vec3 towards = aIsSegment ? out.normal : Vec3(-out.normal);  // from the segment to the other
  constexpr double kParallel = 0.02;
  const bool leans = std::abs(segment.edgeDirections[0].dot(towards)) > kParallel;
  if (leans && other.faces.empty()) return;
  Feature edge = facingFeature(segment, towards);
  Vec3 facePoint, faceNormal;
  const auto alongEdge = [&](const Vec3& from, const Vec3& to) {
    const Vec3 direction = (to - from).normalized();
    if (direction.cross(segment.edgeDirections[0]).norm() > kParallel) return false;
    clip(edge.points, from, -direction, 1);
    if (edge.points.size() == 2) clip(edge.points, to, direction, 2);
    facePoint = from;
    faceNormal = -towards;
    return true;
  };
  const auto onFace = [&](const Feature& face) {
    if (face.face->normal.dot(-towards) <= 1 - 1e-6) return false;
    const std::size_t n = face.points.size();
    for (std::size_t i = 0; i < n && edge.points.size() == 2; ++i) {
      const Vec3 along = face.points[(i + 1) % n].first - face.points[i].first;
      clip(edge.points, face.points[i].first, along.cross(face.face->normal), static_cast<std::uint32_t>(i + 1));
    }
    facePoint = face.points[0].first;
    faceNormal = face.face->normal;
    return edge.points.size() == 2;
  };
  // The one of the facing face's edges that is furthest out.
  const auto onEdge = [&](const Feature& face) {
    const std::size_t n = face.points.size();
    std::size_t furthest = 0;
    const auto reach = [&](std::size_t i) {
      return -towards.dot(face.points[i].first + face.points[(i + 1) % n].first);
    };
    for (std::size_t i = 1; i < n; ++i)
      if (reach(i) > reach(furthest)) furthest = i;
    edge = facingFeature(segment, towards);
    return alongEdge(face.points[furthest].first, face.points[(furthest + 1) % n].first);
  };
  if (other.faces.empty()) {
    if (!alongEdge(other.vertices[0], other.vertices[1])) return;
  } else if (const Feature face = facingFeature(other, -towards); !onFace(face) && (leans || !onEdge(face))) {
    return;
  }
  if (edge.points.size() != 2) return;
  const auto isNearer = [&](const auto& p, const auto& q) { return p.first.dot(towards) > q.first.dot(towards); };
  if (leans)
    edge.points.erase(std::min_element(edge.points.begin(), edge.points.end(), isNearer));
  else
    out.points.clear();
  constexpr std::uint32_t kOtherEnd = 16384;
  for (const auto& [p, name] : edge.points) {
    const Vec3 onOther = p - faceNormal * (p - facePoint).dot(faceNormal);
    const std::uint32_t id = leans ? kOtherEnd : name;
    if (aIsSegment)
      addPoint(p, onOther, out.normal, radii, margin, id, a.radius, out);
    else
      addPoint(onOther, p, out.normal, radii, margin, id, a.radius, out);
  }
}

// Points and segments that cross one another have no closest direction; any will do to part them.
void crossedManifold(const ConvexCore& a, const ConvexCore& b, Manifold& out) {
  Vec3 n = b.center - a.center;
  if (!a.edgeDirections.empty() && !b.edgeDirections.empty()) {
    Vec3 across = a.edgeDirections[0].cross(b.edgeDirections[0]);
    if (across.norm() > 1e-9) n = across.dot(n) < 0 ? Vec3(-across) : across;
  } else if (!a.edgeDirections.empty() || !b.edgeDirections.empty()) {
    n = anyPerpendicular(a.edgeDirections.empty() ? b.edgeDirections[0] : a.edgeDirections[0]);
  }
  out.normal = n.norm() > 1e-12 ? Vec3(n.normalized()) : Vec3::UnitY();
  out.points.push_back({(a.center + b.center) / 2, -(a.radius + b.radius), 0});
}

void convexManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  out.points.clear();
  const bool bothPolytopes = !a.faces.empty() && !b.faces.empty();
  if (bothPolytopes) return polytopeManifold(a, b, margin, out);
  const ClosestPoints closest = closestPoints(a, b);
  out.clearance = closest.distance - a.radius - b.radius;
  if (out.clearance > margin) return;
  if (closest.distance > 1e-9) return roundedManifold(a, b, closest, margin, out);
  if (a.faces.empty() && b.faces.empty()) return crossedManifold(a, b, out);
  polytopeManifold(a, b, margin, out);
}

// A cylinder's side is the same as that of a ball swept along its axis.
ConvexCore axisOf(const ConvexCore& cylinder) {
  ConvexCore axis;
  axis.center = cylinder.center;
  axis.vertices = {cylinder.center - cylinder.discAxis, cylinder.center + cylinder.discAxis};
  axis.edgeDirections = {cylinder.discAxis.normalized()};
  axis.radius = cylinder.discRadius;
  return axis;
}

// How far a core is beyond the nearer end of a cylinder, m; negative within its length.
double beyondEnds(const ConvexCore& cylinder, const ConvexCore& other) {
  const double half = cylinder.discAxis.norm();
  const Vec3 axis = cylinder.discAxis / half;
  const auto beyond = [&](const Vec3& outward) {
    return (other.vertices[other.support(-outward)] - cylinder.center).dot(outward) - other.radius - half;
  };
  return std::max(beyond(axis), beyond(-axis));
}

// Where cylinders touch with their round sides, exactly. False if none does.
bool onRoundSides(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  const bool discA = a.discRadius > 0, discB = b.discRadius > 0;
  for (const auto& [sideA, sideB] : {std::pair(discA, discB), std::pair(discA, false), std::pair(false, discB)}) {
    if (!sideA && !sideB) continue;
    const ConvexCore coreA = sideA ? axisOf(a) : a, coreB = sideB ? axisOf(b) : b;
    const ClosestPoints closest = closestPoints(coreA, coreB);
    if (closest.distance < 1e-9) continue;
    const Vec3 normal = (closest.onB - closest.onA) / closest.distance;
    const bool squareA = !sideA || std::abs(coreA.edgeDirections[0].dot(normal)) < kSquare;
    const bool squareB = !sideB || std::abs(coreB.edgeDirections[0].dot(normal)) < kSquare;
    if (!squareA || !squareB) continue;
    // What lies on an end is nearer to parting there than across the round side.
    const double gap = closest.distance - coreA.radius - coreB.radius;
    const double within = std::min(gap, -kRoundedEdge);
    if ((sideA && beyondEnds(a, b) > within) || (sideB && beyondEnds(b, a) > within)) continue;
    if (gap > margin) return true;
    out.roundA = coreA.radius, out.roundB = coreB.radius;
    roundedManifold(coreA, coreB, closest, margin, out);
    return true;
  }
  return false;
}

// Where a cylinder's prism is to have an edge: in the direction of a face that it touches, or else (`byPlace`) towards
// what its rim meets: an edge, or something round.
Vec3 towardsTouch(const ConvexCore& cylinder, const ConvexCore& other, const Vec3& outward, const ManifoldPoint& touch,
                  bool byPlace) {
  if (!other.faces.empty() && touch.id != kCrossedEdges && !byPlace) return outward;
  return (touch.position + (touch.gap / 2 + other.radius) * outward - cylinder.center).normalized();
}

// `to`, but no further from where the edge was: where two cross all but in line, their touch may seem to be far away.
Vec3 turnedTowards(const Vec3& from, const Vec3& to) {
  constexpr double kFurthest = 0.1;  // rad
  const double way = (to - from).norm();
  return way <= kFurthest || from.isZero(0) ? to : (from + kFurthest / way * (to - from)).normalized();
}

// Cylinders that touch with their ends or rims: as prisms, turned so that the touch is on one of their edges.
void rolledManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  constexpr double kSame = 1 - 1e-12;
  constexpr int kRounds = 16;
  const double sagitta = a.sagitta() + b.sagitta();
  convexManifold(a, b, margin + sagitta, out);
  // One of each for each thread: there is much in a prism.
  thread_local ConvexCore rolledA, rolledB;
  thread_local Manifold last;
  rolledA = a, rolledB = b;
  // Turned for another touch than that which comes out, an edge is not where the cylinder is met.
  Vec3 laidA = Vec3::Zero(), laidB = Vec3::Zero();
  bool byPlace = false;
  for (int i = 0; i < kRounds && !out.points.empty(); ++i) {
    const Vec3 toA = towardsTouch(a, b, out.normal, out.points[0], byPlace),
               toB = towardsTouch(b, a, -out.normal, out.points[0], byPlace);
    if ((a.discRadius == 0 || toA.dot(laidA) >= kSame) && (b.discRadius == 0 || toB.dot(laidB) >= kSame)) break;
    laidA = turnedTowards(laidA, toA), laidB = turnedTowards(laidB, toB);
    last = out;
    out.points.clear();
    if (a.discRadius > 0) rollPrism(rolledA, laidA);
    if (b.discRadius > 0) rollPrism(rolledB, laidB);
    convexManifold(rolledA, rolledB, margin, out);
    // It meets an edge of the face that it seemed to meet.
    if (out.points.empty() && out.clearance <= margin) {
      std::swap(out, last);
      if (std::exchange(byPlace, true)) break;
    }
  }
  if (out.points.empty()) out.clearance = std::min(margin, out.clearance - sagitta);
  out.normalOn = Manifold::Owner::neither;
}

void findManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  if (onRoundSides(a, b, margin, out)) return;
  if (a.discRadius > 0 || b.discRadius > 0) return rolledManifold(a, b, margin, out);
  convexManifold(a, b, margin, out);
}

void clear(double roundA, double roundB, double margin, Manifold& out) {
  out.points.clear();
  out.normalOn = Manifold::Owner::neither;
  out.touchTime = 0;
  out.roundA = roundA, out.roundB = roundB;
  out.clearance = margin;
}

// How far from its centre a core reaches, m.
double reachOf(const ConvexCore& core) {
  if (core.discRadius > 0) return std::hypot(core.discAxis.norm(), core.discRadius);
  double furthest = 0;
  for (const Vec3& v : core.vertices) furthest = std::max(furthest, (v - core.center).norm());
  return furthest + core.radius;
}

// Of a triangle that is touched on an edge or a corner: the edge nearest to all points. At a corner, the one that the
// normal is most square to.
int touchedEdge(const ConvexCore& triangle, const Manifold& touch) {
  double nearest = 1e300, slant = 1;
  int edge = 0;
  for (int e = 0; e < 3; ++e) {
    const Vec3 &from = triangle.vertices[e], &to = triangle.vertices[(e + 1) % 3];
    double furthest = 0;
    for (const ManifoldPoint& p : touch.points) {
      const double share = std::clamp((p.position - from).dot(to - from) / (to - from).squaredNorm(), 0.0, 1.0);
      furthest = std::max(furthest, (p.position - from - share * (to - from)).norm());
    }
    const double own = std::abs(triangle.edgeDirections[e].dot(touch.normal));
    if (furthest < nearest - kRoundOff || (furthest < nearest + kRoundOff && own < slant))
      nearest = furthest, slant = own, edge = e;
  }
  return edge;
}

// Whether a core is beyond all reach of a triangle: over its plane and beyond its edges, which are at right angles.
bool isFarFrom(const ConvexCore& triangle, const ConvexCore& core, double margin) {
  const Vec3& up = triangle.faces[0].normal;
  const double over = up.dot(core.center - triangle.vertices[0]);
  double beyond = 0;
  for (int e = 0; e < 3; ++e)
    beyond = std::max(beyond, triangle.edgeDirections[e].cross(up).dot(core.center - triangle.vertices[e]));
  return std::hypot(over, beyond) > reachOf(core) + margin;
}

}  // namespace

void buildCollider(const Shape& shape, const Pose& pose, Collider& collider) {
  collider.halfSpace = std::holds_alternative<HalfSpace>(shape);
  if (collider.halfSpace) {
    collider.planePoint = pose.position;
    collider.planeNormal = pose.rotation * Vec3::UnitY();
  } else if (!std::holds_alternative<TriangleMesh>(shape)) {
    buildCore(shape, pose, collider.core);
  }
}

void collide(const Collider& a, const Collider& b, double margin, Manifold& out) {
  clear(a.halfSpace ? 0 : a.core.radius, b.halfSpace ? 0 : b.core.radius, margin, out);
  if (a.halfSpace && b.halfSpace) return;
  if (a.halfSpace)
    againstHalfSpace(a, b.core, margin, true, out);
  else if (b.halfSpace)
    againstHalfSpace(b, a.core, margin, false, out);
  else
    findManifold(a.core, b.core, margin, out);
  shareEvenPressure(a.core, b.core, out);
}

void collideWithTriangle(const ConvexCore& a, const TriangleTouch& touch, double margin, Manifold& out) {
  // One for each thread: there are many triangles.
  thread_local ConvexCore core;
  buildTriangle(*touch.mesh, touch.triangle, touch.pose, core);
  clear(a.radius, 0, margin, out);
  if (isFarFrom(core, a, margin)) return;
  findManifold(a, core, margin, out);
  shareEvenPressure(a, core, out);
  if (out.points.empty()) return;
  const double gap = out.leastGap();
  // What is in it already is on the side where its middle is.
  const Vec3 inwards = gap < 0 ? Vec3(core.vertices[0] - a.center) : out.normal;
  const bool behind = touch.mesh->sheet && inwards.dot(core.faces[0].normal) > 0;
  const CoreFace& face = core.faces[behind ? 1 : 0];
  const Vec3 up = face.normal;
  // Out of the face as seen from the triangle; the manifold's normal points into it.
  const double facing = -out.normal.dot(up);
  constexpr double kFlat = 1 - 1e-6;
  const bool hasFaces = !a.faces.empty();
  const auto standOnFace = [&] {
    out.points.clear();
    out.roundA = a.radius;
    if (a.discRadius == 0) return faceManifold(core, face, a, false, margin, out);
    // With an edge where it is nearest to the face.
    thread_local ConvexCore rolled;
    rolled = a;
    rollPrism(rolled, -up);
    faceManifold(core, face, rolled, false, margin, out);
  };
  const auto leaveToOthers = [&] { out.points.clear(), out.clearance = gap; };
  // A capsule whose axis goes through the triangle leaves along its face, not by the nearest edge.
  if (!hasFaces && gap < -a.radius - kRoundOff) return standOnFace();
  if (facing > kFlat) {
    // What all but lies on it may have been met at an edge or in a face of its own, at few points.
    if (hasFaces && a.discRadius == 0 && out.normalOn != Manifold::Owner::b) standOnFace();
    return;
  }
  const MeshData::Triangle& t = touch.mesh->triangles[touch.triangle];
  const int edge = touchedEdge(core, out);
  const bool sharp = (behind ? t.sharpBehind : t.sharp)[edge], ridgeBelow = (behind ? t.sharp : t.sharpBehind)[edge];
  if (facing <= 0 && !(touch.mesh->sheet && sharp)) return leaveToOthers();
  if (sharp) return;
  // Balls and capsules touch a neighbour's face instead; what has faces may well stand on this one, as may a cylinder
  // with its side while an end lies on the neighbour.
  if (!hasFaces) return leaveToOthers();
  standOnFace();
  // What seems to be deep in a hollow of a sheet reaches over the ridge that this is on the other side.
  if (touch.mesh->sheet && ridgeBelow && out.leastGap() < std::min(gap, 0.0) - kRoundOff) leaveToOthers();
}

}  // namespace calm
