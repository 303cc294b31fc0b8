// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/contact/even_pressure.h"

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

namespace calm {

namespace {

using Points = std::vector<Vec3>;

Points pointsTogether(const Manifold& m) {
  Points all;
  const double furthest = m.gapTogether();
  for (const ManifoldPoint& p : m.points)
    if (p.gap <= furthest) all.push_back(p.position);
  return all;
}

// Whether all of a cylinder's end lies on the other: the points are around its rim.
bool standsOnRoundEnd(const ConvexCore& core, const Vec3& normal, const Points& points) {
  constexpr double kFlat = 1 - 1e-6, kRim = 0.98, kOffCentre = 0.1;
  const double radius = core.discRadius;
  if (radius == 0 || points.size() < 3) return false;
  const Vec3 axis = core.discAxis.normalized();
  if (std::abs(axis.dot(normal)) < kFlat) return false;
  Vec3 middle = Vec3::Zero();
  for (const Vec3& p : points) {
    const Vec3 fromCentre = p - core.center, across = fromCentre - axis * axis.dot(fromCentre);
    if (across.norm() < kRim * radius) return false;
    middle += across / static_cast<double>(points.size());
  }
  return middle.norm() < kOffCentre * radius;
}

// The integral of the distance from the origin over the triangle that it has with an edge; negative where that goes
// around it clockwise.
double distanceUnder(const Eigen::Vector2d& from, const Eigen::Vector2d& to) {
  const Eigen::Vector2d edge = to - from;
  const double length = edge.norm();
  if (length == 0) return 0;
  const double high = (from.x() * to.y() - from.y() * to.x()) / length;  // over the edge
  if (high == 0) return 0;
  // Of the triangle under the edge from s = -infinity; s along it from its foot.
  const auto upTo = [&](double s) {
    return high / 6 * (s * std::hypot(s, high) + high * high * std::asinh(s / std::abs(high)));
  };
  return upTo(to.dot(edge) / length) - upTo(from.dot(edge) / length);
}

void share(const Points& points, bool round, Manifold& m) {
  m.together = static_cast<int>(points.size());
  m.twistShare = round ? Manifold::kRoundShare : evenPressureOn(m.normal, points).share;
}

}  // namespace

EvenPressure evenPressureOn(const Vec3& normal, const Points& points) {
  constexpr double kLine = 0.5, kThin = 1e-9;
  EvenPressure even;
  if (points.size() < 2) return even;
  const auto count = static_cast<double>(points.size());
  Vec3 middle = Vec3::Zero();
  for (const Vec3& p : points) middle += p / count;
  const Vec3 u = anyPerpendicular(normal), v = normal.cross(u);
  using Corner = std::pair<double, Eigen::Vector2d>;  // by its direction
  std::vector<Corner> corners;
  double own = 0;
  for (const Vec3& p : points) {
    const Eigen::Vector2d at(u.dot(p - middle), v.dot(p - middle));
    corners.emplace_back(std::atan2(at.y(), at.x()), at);
    own += at.norm() / count;
  }
  std::sort(corners.begin(), corners.end(), [](const Corner& x, const Corner& y) { return x.first < y.first; });
  double moment = 0;  // of the distance, triangle by triangle about the middle
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Eigen::Vector2d &from = corners[i].second, &to = corners[(i + 1) % corners.size()].second;
    const double twice = from.x() * to.y() - from.y() * to.x();
    if (twice <= kThin * own * (to - from).norm()) continue;
    even.area += twice / 2;
    moment += distanceUnder(from, to);
  }
  if (even.area > kThin * own * own) {
    even.share = moment / (even.area * own);
  } else {
    even = {kLine, 0, 0};
    for (const Corner& x : corners)
      for (const Corner& y : corners) even.length = std::max(even.length, (x.second - y.second).norm());
  }
  return even;
}

double distanceOver(const Points& polygon, const Vec3& place, const Vec3& normal) {
  const Vec3 u = anyPerpendicular(normal), v = normal.cross(u);
  double sum = 0;
  for (std::size_t i = 0; i < polygon.size(); ++i) {
    const Vec3 from = polygon[i] - place, to = polygon[(i + 1) % polygon.size()] - place;
    sum += distanceUnder({u.dot(from), v.dot(from)}, {u.dot(to), v.dot(to)});
  }
  return std::abs(sum);
}

void shareEvenPressure(const ConvexCore& a, const ConvexCore& b, Manifold& m) {
  const Points points = pointsTogether(m);
  share(points, standsOnRoundEnd(a, m.normal, points) || standsOnRoundEnd(b, m.normal, points), m);
}

void shareEvenPressure(Manifold& m) {
  share(pointsTogether(m), false, m);
}

}  // namespace calm
