// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/collide.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>
#include <vector>

#include "engine/contact/even_pressure.h"
#include "engine/shape/mesh.h"

namespace calm {

namespace {

// The part of a core that faces a direction: a point, an edge or a face, with vertex indices as names.
struct Feature {
  std::vector<std::pair<Vec3, std::uint32_t>> points;
  const CoreFace* face = nullptr;
};

Feature facingFeature(const ConvexCore& core, const Vec3& direction) {
  Feature feature;
  if (!core.faces.empty()) {
    for (const CoreFace& f : core.faces)
      if (!feature.face || f.normal.dot(direction) > feature.face->normal.dot(direction)) feature.face = &f;
    for (int v : feature.face->vertices) feature.points.emplace_back(core.vertices[v], v);
    return feature;
  }
  for (std::uint32_t v = 0; v < core.vertices.size(); ++v) feature.points.emplace_back(core.vertices[v], v);
  return feature;
}

// Sutherland-Hodgman: the part of the polygon (or segment) on the inner side of the plane. New points are named
// after the edge they came from and the clipping plane.
void clip(std::vector<std::pair<Vec3, std::uint32_t>>& polygon, const Vec3& point, const Vec3& outward,
          std::uint32_t planeName) {
  std::vector<std::pair<Vec3, std::uint32_t>> kept;
  const std::size_t n = polygon.size();
  const std::size_t edges = n == 2 ? 1 : n;
  if (n == 1) return;
  for (std::size_t i = 0; i < edges; ++i) {
    const auto& [p, pName] = polygon[i];
    const auto& [q, qName] = polygon[(i + 1) % n];
    const double dp = (p - point).dot(outward), dq = (q - point).dot(outward);
    if (dp <= 0) kept.emplace_back(p, pName);
    if ((dp <= 0) != (dq <= 0))
      kept.emplace_back(p + (q - p) * (dp / (dp - dq)), 64 + (pName * 31 + qName * 17 + planeName * 7) % 4096);
    if (n == 2 && dq <= 0) kept.emplace_back(q, qName);
  }
  polygon.swap(kept);
}

// Points count as equally near when their gaps differ by less than this, m or share of the margin.
constexpr double kSameHeight = 5e-4, kSameHeightShare = 0.05;

// Keeps the four points that span the manifold best: the deepest, the one furthest from it, and the two furthest to
// either side of the line between them. Of those alone that may come to carry something: a margin may be wider than
// what moves fast is thick. Of its far side only the furthest point has a say, which comes down when the others have.
void reduceToFew(Manifold& m, double margin) {
  if (m.points.size() <= 4) return;
  auto& p = m.points;
  std::vector<double> gaps;
  for (const ManifoldPoint& q : p) gaps.push_back(q.gap);
  std::nth_element(gaps.begin(), gaps.begin() + 3, gaps.end());
  const double near = gaps[3] + std::max(kSameHeight, kSameHeightShare * margin);
  // Of equals the first, not what round-off prefers.
  const auto swapBest = [&](std::size_t slot, const auto& score) {
    constexpr double kAlike = 1e-6;
    std::size_t best = slot;
    for (std::size_t i = slot + 1; i < p.size(); ++i)
      if (const double most = score(p[best]); score(p[i]) > most + kAlike * std::abs(most)) best = i;
    std::swap(p[slot], p[best]);
  };
  const auto fromDeepest = [&](const ManifoldPoint& q) { return (q.position - p[0].position).squaredNorm(); };
  // Depth counts only when it differs by more than round-off, so that a resting face keeps its corners.
  swapBest(0, [&](const ManifoldPoint& q) { return -std::round(q.gap * 1e7); });
  swapBest(1, fromDeepest);
  const ManifoldPoint furthest = p[1];
  m.dropBeyond(near);
  if (p.size() > 4) {
    swapBest(1, fromDeepest);
    const Vec3 side = m.normal.cross(p[1].position - p[0].position);
    swapBest(2, [&](const ManifoldPoint& q) { return side.dot(q.position - p[0].position); });
    swapBest(3, [&](const ManifoldPoint& q) { return -side.dot(q.position - p[0].position); });
    p.resize(4);
  }
  if (furthest.gap >= near) p.push_back(furthest);
}

// A cylinder touches with its round side as long as its axis is as square to the normal as this.
constexpr double kSquare = 1e-3;

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

void addPoint(const Vec3& onA, const Vec3& onB, const Vec3& normal, double radii, double margin, std::uint32_t id,
              double radiusA, Manifold& out) {
  const double gap = (onB - onA).dot(normal) - radii;
  if (gap < margin) out.points.push_back({onA + normal * (radiusA + gap / 2), gap, id});
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

struct Axis {
  double separation = -std::numeric_limits<double>::max();
  Vec3 direction = Vec3::UnitY();  // from a to b
  const CoreFace* face = nullptr;
};

// Largest separation of the other core from the faces of `core`.
Axis bestFace(const ConvexCore& core, const ConvexCore& other) {
  Axis best;
  for (const CoreFace& f : core.faces) {
    const double s = (other.vertices[other.support(-f.normal)] - core.vertices[f.vertices[0]]).dot(f.normal);
    if (s > best.separation) best = {s, f.normal, &f};
  }
  return best;
}

Axis bestEdgePair(const ConvexCore& a, const ConvexCore& b) {
  Axis best;
  for (const Vec3& ea : a.edgeDirections)
    for (const Vec3& eb : b.edgeDirections) {
      Vec3 n = ea.cross(eb);
      const double length = n.norm();
      if (length < 1e-6) continue;
      n /= length;
      for (const double sign : {1.0, -1.0}) {
        const Vec3 direction = sign * n;
        if (direction.dot(b.center - a.center) < 0) continue;
        const double s = (b.vertices[b.support(-direction)] - a.vertices[a.support(direction)]).dot(direction);
        if (s > best.separation) best = {s, direction, nullptr};
      }
    }
  return best;
}

// Edges give way so far, m and share of a face's shortest edge: what slides from one block onto the next of the same
// height does not run against its side.
constexpr double kRoundedEdge = 2e-5, kRoundedShare = 0.01;

// Whether all of the points are within that of an edge of the face.
bool onlyMeetsEdge(const ConvexCore& core, const CoreFace& face, const Feature& feature) {
  const std::size_t n = face.vertices.size();
  const auto edge = [&](std::size_t i) {
    return Vec3(core.vertices[face.vertices[(i + 1) % n]] - core.vertices[face.vertices[i]]);
  };
  double round = kRoundedEdge;
  for (std::size_t i = 0; i < n; ++i) round = std::min(round, kRoundedShare * edge(i).norm());
  for (std::size_t i = 0; i < n; ++i) {
    const Vec3& p = core.vertices[face.vertices[i]];
    const Vec3 inward = face.normal.cross(edge(i)).normalized();
    const auto isNear = [&](const auto& point) { return (point.first - p).dot(inward) < round; };
    if (std::all_of(feature.points.begin(), feature.points.end(), isNear)) return true;
  }
  return false;
}

// Of a polyhedron also the corners over the face that its feature does not have: beside a sharp edge some other face
// may look at it more than those that meet there, but not reach to both ends of that edge.
void addCornersOver(const ConvexCore& reference, const CoreFace& face, const ConvexCore& incident, double within,
                    Feature& feature) {
  if (!feature.face || incident.discRadius > 0) return;
  const std::size_t n = face.vertices.size();
  const auto isOver = [&](const Vec3& corner) {
    if ((corner - reference.vertices[face.vertices[0]]).dot(face.normal) >= within) return false;
    for (std::size_t i = 0; i < n; ++i) {
      const Vec3& p = reference.vertices[face.vertices[i]];
      const Vec3& q = reference.vertices[face.vertices[(i + 1) % n]];
      if ((corner - p).dot((q - p).cross(face.normal)) > 0) return false;
    }
    return true;
  };
  const std::vector<int>& known = feature.face->vertices;
  for (int v = 0; v < static_cast<int>(incident.vertices.size()); ++v)
    if (std::find(known.begin(), known.end(), v) == known.end() && isOver(incident.vertices[v]))
      feature.points.emplace_back(incident.vertices[v], v);
}

// The face of `reference` clips the feature of `incident` that looks at it.
void faceManifold(const ConvexCore& reference, const CoreFace& face, const ConvexCore& incident, bool referenceIsA,
                  double margin, Manifold& out) {
  Feature feature = facingFeature(incident, -face.normal);
  const std::size_t n = face.vertices.size();
  for (std::size_t i = 0; i < n && !feature.points.empty(); ++i) {
    const Vec3& p = reference.vertices[face.vertices[i]];
    const Vec3& q = reference.vertices[face.vertices[(i + 1) % n]];
    clip(feature.points, p, (q - p).cross(face.normal), static_cast<std::uint32_t>(i + 1));
  }
  const double radii = reference.radius + incident.radius;
  addCornersOver(reference, face, incident, margin + radii, feature);
  if (onlyMeetsEdge(reference, face, feature)) return;
  out.normal = referenceIsA ? face.normal : Vec3(-face.normal);
  if (radii == 0) out.normalOn = referenceIsA ? Manifold::Owner::a : Manifold::Owner::b;
  for (const auto& [p, name] : feature.points) {
    const double coreGap = (p - reference.vertices[face.vertices[0]]).dot(face.normal);
    const Vec3 onReference = p - face.normal * coreGap;
    if (referenceIsA)
      addPoint(onReference, p, out.normal, radii, margin, name, reference.radius, out);
    else
      addPoint(p, onReference, out.normal, radii, margin, name, incident.radius, out);
  }
  reduceToFew(out, margin);
}

void edgeManifold(const ConvexCore& a, const ConvexCore& b, const Axis& axis, double margin, Manifold& out) {
  out.normal = axis.direction;
  // The two supporting edges: each runs through the support vertex, along the direction most square to the axis.
  const auto edgeThrough = [](const ConvexCore& core, const Vec3& towards, Vec3& point, Vec3& direction) {
    point = core.vertices[core.support(towards)];
    double least = 2;
    for (const Vec3& e : core.edgeDirections)
      if (const double d = std::abs(e.dot(towards)); d < least) least = d, direction = e;
  };
  Vec3 pa, pb, da = Vec3::UnitX(), db = da;
  edgeThrough(a, axis.direction, pa, da);
  edgeThrough(b, -axis.direction, pb, db);
  const Vec3 r = pa - pb;
  const double mixed = da.dot(db), denominator = 1 - mixed * mixed;
  if (denominator < 1e-12) return;
  const double s = (mixed * db.dot(r) - da.dot(r)) / denominator;
  const double t = (db.dot(r) - mixed * da.dot(r)) / denominator;
  addPoint(pa + s * da, pb + t * db, out.normal, a.radius + b.radius, margin, 8192, a.radius, out);
}

void polytopeManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  const double radii = a.radius + b.radius;
  const auto apart = [&](const Axis& axis) {
    out.clearance = axis.separation - radii;
    return out.clearance > margin;
  };
  const Axis faceA = bestFace(a, b);
  if (apart(faceA)) return;
  const Axis faceB = bestFace(b, a);
  if (apart(faceB)) return;
  const Axis edges = bestEdgePair(a, b);
  if (apart(edges)) return;
  // Faces are preferred by a hair, so that the choice does not flicker between features that tie.
  constexpr double kPreference = 1e-5;
  const double faceSeparation = std::max(faceA.separation, faceB.separation);
  if (edges.separation > faceSeparation + kPreference) return edgeManifold(a, b, edges, margin, out);
  if (faceA.face && faceA.separation + kPreference >= faceB.separation)
    faceManifold(a, *faceA.face, b, true, margin, out);
  else if (faceB.face)
    faceManifold(b, *faceB.face, a, false, margin, out);
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

// Cylinders that touch with their ends or rims: as prisms, turned so that the touch is on one of their edges.
void rolledManifold(const ConvexCore& a, const ConvexCore& b, double margin, Manifold& out) {
  constexpr double kSame = 1 - 1e-12;
  constexpr int kRounds = 4;
  const double sagitta = a.sagitta() + b.sagitta();
  convexManifold(a, b, margin + sagitta, out);
  ConvexCore rolledA = a, rolledB = b;
  // Turned for another normal than that which comes out, an edge is not where the cylinder is lowest.
  Vec3 rolledFor = Vec3::Zero();
  for (int i = 0; i < kRounds && !out.points.empty() && out.normal.dot(rolledFor) < kSame; ++i) {
    rolledFor = out.normal;
    out.points.clear();
    if (a.discRadius > 0) rollPrism(rolledA, rolledFor);
    if (b.discRadius > 0) rollPrism(rolledB, -rolledFor);
    convexManifold(rolledA, rolledB, margin, out);
  }
  if (out.points.empty()) out.clearance = std::min(margin, out.clearance - sagitta);
  out.normalOn = Manifold::Owner::neither;
}

void findManifold(const Collider& a, const Collider& b, double margin, Manifold& out) {
  if (a.halfSpace && b.halfSpace) return;
  if (a.halfSpace) return againstHalfSpace(a, b.core, margin, true, out);
  if (b.halfSpace) return againstHalfSpace(b, a.core, margin, false, out);
  if (onRoundSides(a.core, b.core, margin, out)) return;
  if (a.core.discRadius > 0 || b.core.discRadius > 0) return rolledManifold(a.core, b.core, margin, out);
  convexManifold(a.core, b.core, margin, out);
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
  out.points.clear();
  out.normalOn = Manifold::Owner::neither;
  out.touchTime = 0;
  out.roundA = a.halfSpace ? 0 : a.core.radius;
  out.roundB = b.halfSpace ? 0 : b.core.radius;
  out.clearance = margin;
  findManifold(a, b, margin, out);
  shareEvenPressure(a, b, out);
}

void collideWithTriangle(const ConvexCore& a, const TriangleTouch& touch, double margin, Manifold& out) {
  Collider first, second;
  first.core = a;
  buildTriangle(*touch.mesh, touch.triangle, touch.pose, second.core);
  collide(first, second, margin, out);
  if (out.points.empty()) return;
  const MeshData::Triangle& t = touch.mesh->triangles[touch.triangle];
  const Vec3 up = second.core.faces[0].normal;
  // Out of the face as seen from the triangle; the manifold's normal points into it.
  const double facing = -out.normal.dot(up);
  constexpr double kFlat = 1 - 1e-6;
  const bool round = a.discRadius > 0 && std::abs(a.discAxis.normalized().dot(up)) < 0.5;
  const bool mayStand = !a.faces.empty() && !round;
  const auto standOnFace = [&] {
    out.points.clear();
    faceManifold(second.core, second.core.faces[0], a, false, margin, out);
  };
  if (facing > kFlat) {
    // What all but lies on it may have been met at an edge or in a face of its own, at few points.
    if (mayStand && a.discRadius == 0 && out.normalOn != Manifold::Owner::b) standOnFace();
    return;
  }
  if (facing <= 0) return out.points.clear();
  // The touch is on an edge or a corner: on the one nearest to its first point.
  const Vec3 at = out.points[0].position;
  double nearest = 1e300;
  bool sharp = true;
  for (int e = 0; e < 3; ++e) {
    const Vec3 &from = second.core.vertices[e], &to = second.core.vertices[(e + 1) % 3];
    const double share = std::clamp((at - from).dot(to - from) / (to - from).squaredNorm(), 0.0, 1.0);
    const double distance = (at - from - share * (to - from)).norm();
    if (distance < nearest) nearest = distance, sharp = t.sharp[e];
  }
  if (sharp) return;
  // What has faces may well stand on this one; round things touch a neighbour's face instead.
  if (mayStand)
    standOnFace();
  else
    out.points.clear();
}

}  // namespace calm
