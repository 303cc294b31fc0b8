// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_cells.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace calm {

namespace {

constexpr int kAcross = 4;                      // cells
constexpr int kInnerRing = 4, kOuterRing = 12;  // of a disc, in two rings alike in area by cell
static_assert(kAcross * kAcross <= kMostCells && kInnerRing + kOuterRing <= kMostCells);

struct Cell {
  ManifoldPoint middle;
  double size;  // m^2
};

// Corners in their order around.
std::vector<ManifoldPoint> around(std::vector<ManifoldPoint> points, const Vec3& normal, const Vec3& middle) {
  const Vec3 u = anyPerpendicular(normal), v = normal.cross(u);
  const auto angle = [&](const ManifoldPoint& p) {
    return std::atan2(v.dot(p.position - middle), u.dot(p.position - middle));
  };
  std::sort(points.begin(), points.end(),
            [&](const ManifoldPoint& x, const ManifoldPoint& y) { return angle(x) < angle(y); });
  return points;
}

ManifoldPoint between(const ManifoldPoint& from, const ManifoldPoint& to, double share) {
  return {from.position + share * (to.position - from.position), from.gap + share * (to.gap - from.gap), 0};
}

// Of four corners, or of three, the last of which is taken twice.
void addQuadrangle(const std::vector<ManifoldPoint>& c, std::vector<Cell>& cells) {
  const auto at = [&](double x, double y) { return between(between(c[0], c[1], x), between(c.back(), c[2], x), y); };
  constexpr double kSide = 1.0 / kAcross;
  for (int i = 0; i < kAcross; ++i)
    for (int k = 0; k < kAcross; ++k) {
      const double x = i * kSide, y = k * kSide;
      const Vec3 one = at(x + kSide, y + kSide).position - at(x, y).position,
                 other = at(x, y + kSide).position - at(x + kSide, y).position;
      cells.push_back({at(x + kSide / 2, y + kSide / 2), one.cross(other).norm() / 2});
    }
}

// The gap over a disc is that of the plane through its rim's points.
void addDisc(const std::vector<ManifoldPoint>& rim, const Vec3& normal, const Vec3& middle, std::vector<Cell>& cells) {
  double radius = 0, gap = 0;
  Vec3 slope = Vec3::Zero();
  const auto count = static_cast<double>(rim.size());
  for (const ManifoldPoint& p : rim) radius += (p.position - middle).norm() / count, gap += p.gap / count;
  for (const ManifoldPoint& p : rim) slope += 2 * (p.gap - gap) / (count * radius * radius) * (p.position - middle);
  const Vec3 u = anyPerpendicular(normal), v = normal.cross(u);
  // The mean distances of an inner disc of half the radius, and of the ring around it.
  constexpr double kInner = 1.0 / 3, kOuter = 7.0 / 9;
  const double size = std::numbers::pi * radius * radius / (kInnerRing + kOuterRing);
  for (const auto& [number, out] : {std::pair(kInnerRing, kInner), std::pair(kOuterRing, kOuter)})
    for (int i = 0; i < number; ++i) {
      const double angle = (i + 0.5) * 2 * std::numbers::pi / number;
      const Vec3 from = out * radius * (std::cos(angle) * u + std::sin(angle) * v);
      cells.push_back({{middle + from, gap + slope.dot(from), 0}, size});
    }
}

}  // namespace

bool pullsBothWays(const ContactPair& pair) {
  constexpr double kSlides = 0.99, kMuch = 0.3, kOneWay = 0.999, kAround = 0.02;
  Eigen::Vector2d sum = Eigen::Vector2d::Zero();
  double all = 0, whole = 0;
  bool slides = false, hasCells = false;
  for (const ContactImpulse& last : pair.last) {
    const Eigen::Vector2d rubs = last.force.tail<2>();
    const double limit = pair.friction * last.force[0];
    sum += rubs, all += rubs.norm(), whole += limit;
    slides |= limit > 0 && rubs.norm() >= kSlides * limit;
    hasCells |= last.id >= kFirstCell;
  }
  return (slides || hasCells) && all > kMuch * whole && sum.norm() < kOneWay * all && sum.norm() > kAround * all;
}

bool addCells(const Manifold& manifold, std::vector<ContactCell>& points, double& twist) {
  constexpr double kCorner = 30, kSmall = 30;  // softer than the mean
  std::vector<ManifoldPoint> corners;
  Vec3 middle = Vec3::Zero();
  const double together = manifold.gapTogether();
  for (const ManifoldPoint& p : manifold.points)
    if (p.gap <= together) corners.push_back(p), middle += p.position;
  const auto count = static_cast<double>(corners.size());
  middle /= count;
  std::vector<Cell> cells;
  if (manifold.isRound() && corners.size() > 2)
    addDisc(corners, manifold.normal, middle, cells);
  else if (corners.size() == 3 || corners.size() == 4)
    addQuadrangle(around(corners, manifold.normal, middle), cells);
  double whole = 0, out = 0, cornersOut = 0;
  for (const Cell& cell : cells) whole += cell.size, out += cell.size * (cell.middle.position - middle).norm();
  for (const ManifoldPoint& p : corners) cornersOut += (p.position - middle).norm() / count;
  if (whole <= 0 || out <= 0) return false;
  twist = manifold.twistShare * cornersOut / (out / whole) - 1;
  for (ContactCell& corner : points) corner.softer = kCorner;
  const double mean = whole / static_cast<double>(cells.size());
  std::uint32_t id = kFirstCell;
  for (Cell& cell : cells) {
    cell.middle.id = id++;
    points.push_back({cell.middle, std::min(mean / std::max(cell.size, mean / kSmall), kSmall)});
  }
  return true;
}

}  // namespace calm
