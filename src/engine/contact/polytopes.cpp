// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/polytopes.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace calm {

namespace {

// Points count as equally near when their gaps differ by less than this, m or share of the margin.
constexpr double kSameHeight = 5e-4, kSameHeightShare = 0.05;

// As a share of a face's shortest edge.
constexpr double kRoundedShare = 0.01;

struct Axis {
  double separation = -std::numeric_limits<double>::max();
  Vec3 direction = Vec3::UnitY();  // from a to b
  const CoreFace* face = nullptr;
};

// Largest separation of the other core from the faces of `core`.
Axis bestFace(const ConvexCore& core, const ConvexCore& other) {
  Axis best;
  for (const CoreFace& f : core.faces) {
    double s = (other.vertices[other.support(-f.normal)] - core.vertices[f.vertices[0]]).dot(f.normal);
    // A cylinder reaches beyond its prism's sides.
    if (core.discRadius > 0 && std::abs(f.normal.dot(core.discAxis)) < 0.5 * core.discAxis.norm()) s -= core.sagitta();
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
  addPoint(pa + s * da, pb + t * db, out.normal, a.radius + b.radius, margin, kCrossedEdges, a.radius, out);
}

}  // namespace

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

void clip(NamedPoints& polygon, const Vec3& point, const Vec3& outward, std::uint32_t planeName) {
  NamedPoints kept;
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

void addPoint(const Vec3& onA, const Vec3& onB, const Vec3& normal, double radii, double margin, std::uint32_t id,
              double radiusA, Manifold& out) {
  const double gap = (onB - onA).dot(normal) - radii;
  if (gap < margin) out.points.push_back({onA + normal * (radiusA + gap / 2), gap, id});
}

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

}  // namespace calm
