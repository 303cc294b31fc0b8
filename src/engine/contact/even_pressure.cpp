// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/even_pressure.h"

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

namespace calm {

namespace {

// Whether all of a cylinder's end lies on the other: the points are around its rim.
bool standsOnRoundEnd(const Collider& c, const Manifold& m) {
  constexpr double kFlat = 1 - 1e-6, kRim = 0.98, kOffCentre = 0.1;
  const double radius = c.core.discRadius;
  if (c.halfSpace || radius == 0 || m.points.size() < 3) return false;
  const Vec3 axis = c.core.discAxis.normalized();
  if (std::abs(axis.dot(m.normal)) < kFlat) return false;
  Vec3 middle = Vec3::Zero();
  for (const ManifoldPoint& p : m.points) {
    const Vec3 fromCentre = p.position - c.core.center, across = fromCentre - axis * axis.dot(fromCentre);
    if (across.norm() < kRim * radius) return false;
    middle += across / static_cast<double>(m.points.size());
  }
  return middle.norm() < kOffCentre * radius;
}

// The mean distance from the points' middle, over the face between them (over the line, of such as lie on one), as a
// share of the points' own: an even pressure on it acts against twisting so far out.
double shareOfEvenPressure(const Manifold& m) {
  constexpr double kLine = 0.5, kThin = 1e-9;
  const auto count = static_cast<double>(m.points.size());
  Vec3 middle = Vec3::Zero();
  for (const ManifoldPoint& p : m.points) middle += p.position / count;
  const Vec3 u = anyPerpendicular(m.normal), v = m.normal.cross(u);
  using Corner = std::pair<double, Eigen::Vector2d>;  // by its direction
  std::vector<Corner> corners;
  double own = 0;
  for (const ManifoldPoint& p : m.points) {
    const Eigen::Vector2d at(u.dot(p.position - middle), v.dot(p.position - middle));
    corners.emplace_back(std::atan2(at.y(), at.x()), at);
    own += at.norm() / count;
  }
  std::sort(corners.begin(), corners.end(), [](const Corner& x, const Corner& y) { return x.first < y.first; });
  double area = 0, moment = 0;  // of the distance, triangle by triangle about the middle
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Eigen::Vector2d from = corners[i].second, to = corners[(i + 1) % corners.size()].second, edge = to - from;
    const double length = edge.norm();
    if (length == 0) continue;
    const double high = (from.x() * to.y() - from.y() * to.x()) / length;  // over the edge
    if (high <= kThin * own) continue;
    // The integral of the distance over the triangle under the edge from s = -infinity; s along it from its foot.
    const auto upTo = [&](double s) {
      return high / 6 * (s * std::hypot(s, high) + high * high * std::asinh(s / high));
    };
    area += high * length / 2;
    moment += upTo(to.dot(edge) / length) - upTo(from.dot(edge) / length);
  }
  return area > kThin * own * own ? moment / (area * own) : kLine;
}

}  // namespace

double twistShareOf(const Collider& a, const Collider& b, const Manifold& m) {
  if (m.points.size() < 2) return 1;
  return standsOnRoundEnd(a, m) || standsOnRoundEnd(b, m) ? 2.0 / 3 : shareOfEvenPressure(m);
}

}  // namespace calm
