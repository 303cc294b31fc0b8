// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/hull.h"

#include <libqhullcpp/Qhull.h>
#include <libqhullcpp/QhullFacetList.h>
#include <libqhullcpp/QhullVertexSet.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <stdexcept>

namespace calm {

namespace {

// Volume, centre and inertia from the tetrahedra between the origin and each face's triangles.
void weigh(HullData& hull) {
  // Integral of x x^T over a tetrahedron with one corner at the origin, for the others as columns: |det| / 120 V (I +
  // 1) V^T (Blow and Binstock, Game Developer 2004; from the canonical tetrahedron's covariance).
  Mat3 canonical = Mat3::Constant(1.0 / 120);
  canonical.diagonal().setConstant(1.0 / 60);
  const Vec3 inside = [&] {
    Vec3 sum = Vec3::Zero();
    for (const Vec3& v : hull.vertices) sum += v;
    return Vec3(sum / static_cast<double>(hull.vertices.size()));
  }();
  Mat3 covariance = Mat3::Zero();
  Vec3 moment = Vec3::Zero();
  for (const HullData::Face& f : hull.faces)
    for (std::size_t i = 1; i + 1 < f.vertices.size(); ++i) {
      Mat3 corners;
      corners << hull.vertices[f.vertices[0]] - inside, hull.vertices[f.vertices[i]] - inside,
          hull.vertices[f.vertices[i + 1]] - inside;
      const double det = corners.determinant();
      hull.volume += det / 6;
      moment += det / 24 * corners.rowwise().sum();
      covariance += det * corners * canonical * corners.transpose();
    }
  if (!(hull.volume > 0)) return;
  const Vec3 offset = moment / hull.volume;
  hull.center = inside + offset;
  covariance -= hull.volume * offset * offset.transpose();
  hull.inertia = covariance.trace() * Mat3::Identity() - covariance;
}

void addEdge(HullData& hull, const Vec3& along) {
  const Vec3 e = along.normalized();
  const bool known = std::any_of(hull.edgeDirections.begin(), hull.edgeDirections.end(),
                                 [&](const Vec3& d) { return d.cross(e).norm() < 1e-6; });
  if (!known) hull.edgeDirections.push_back(e);
}

}  // namespace

HullData makeHull(const std::vector<Vec3>& points) {
  if (points.size() < 4) throw std::invalid_argument("a hull needs at least four points");
  Vec3 low = points[0], high = points[0];
  for (const Vec3& p : points) {
    if (!p.allFinite()) throw std::invalid_argument("the points of a hull must be finite");
    low = low.cwiseMin(p), high = high.cwiseMax(p);
  }
  const double size = (high - low).norm();
  if (!(size > 0)) throw std::invalid_argument("the points of a hull all coincide");
  std::vector<double> numbers;
  for (const Vec3& p : points)
    for (int i = 0; i < 3; ++i) numbers.push_back((p[i] - low[i]) / size);
  HullData hull;
  try {
    orgQhull::Qhull quickhull;
    quickhull.runQhull("", 3, static_cast<int>(points.size()), numbers.data(), "");
    std::map<int, int> index;  // of the point in the hull
    for (const orgQhull::QhullVertex& v : quickhull.vertexList()) index[v.point().id()] = 0;
    // In the order in which the points were given, so that a hull of its own corners keeps theirs.
    for (auto& [id, number] : index) {
      number = static_cast<int>(hull.vertices.size());
      hull.vertices.push_back(points[static_cast<std::size_t>(id)]);
    }
    for (const orgQhull::QhullFacet& facet : quickhull.facetList()) {
      if (!facet.isGood()) continue;
      const double* n = facet.hyperplane().coordinates();
      HullData::Face face{Vec3(n[0], n[1], n[2]).normalized(), {}};
      Vec3 middle = Vec3::Zero();
      for (const orgQhull::QhullVertex& v : facet.vertices()) {
        face.vertices.push_back(index.at(v.point().id()));
        middle += hull.vertices[face.vertices.back()];
      }
      middle /= static_cast<double>(face.vertices.size());
      // Quickhull hands the corners of a merged face over in no order.
      const Vec3 x = anyPerpendicular(face.normal), y = face.normal.cross(x);
      std::sort(face.vertices.begin(), face.vertices.end(), [&](int i, int j) {
        const Vec3 a = hull.vertices[i] - middle, b = hull.vertices[j] - middle;
        return std::atan2(a.dot(y), a.dot(x)) < std::atan2(b.dot(y), b.dot(x));
      });
      hull.faces.push_back(face);
    }
  } catch (const std::exception&) {
    throw std::invalid_argument("the points of a hull must not lie in one plane");
  }
  if (hull.vertices.size() > kMaxHullVertices)
    throw std::invalid_argument("a hull may have at most " + std::to_string(kMaxHullVertices) + " corners, not " +
                                std::to_string(hull.vertices.size()));
  for (const HullData::Face& f : hull.faces)
    for (std::size_t i = 0; i < f.vertices.size(); ++i)
      addEdge(hull, hull.vertices[f.vertices[(i + 1) % f.vertices.size()]] - hull.vertices[f.vertices[i]]);
  weigh(hull);
  if (!(hull.volume > 1e-9 * size * size * size))
    throw std::invalid_argument("the points of a hull must not lie in one plane");
  return hull;
}

}  // namespace calm
