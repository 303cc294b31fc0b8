// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_cells.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <utility>

#include "engine/contact/even_pressure.h"
#include "engine/contact/polytopes.h"

namespace calm {

namespace {

// Cells lie on three rings around the middle of a face, at the nodes of Gauss and Legendre's rule along each ray: so
// the face of a disc resists spinning, and spinning fast while it slides slowly or the other way round, as it does
// whole.
struct Ring {
  int cells;
  double turned;  // of the angle of a cell
  double out;     // of a ray's length
  double weight;  // of what an even pressure has there
};
constexpr Ring kRings[] = {{4, 0, 0.11270166537925831, 0.06261203632181018},
                           {6, 0.5, 0.5, 4.0 / 9},
                           {6, 0, 0.88729833462074169, 0.49294351923374538}};
constexpr int kCells = kRings[0].cells + kRings[1].cells + kRings[2].cells;
static_assert(kCells <= kMostCells);

// What is between two rays from the origin, by two directions in the plane z = 0 that are less than half a turn apart.
NamedPoints between(NamedPoints polygon, const Vec3& from, const Vec3& to) {
  clip(polygon, Vec3::Zero(), from.cross(Vec3::UnitZ()), 0);
  clip(polygon, Vec3::Zero(), Vec3::UnitZ().cross(to), 0);
  return polygon;
}

// Of an even pressure on polygons in the plane z = 0: its size, and its moments of first and second order about the
// origin.
struct Spread {
  double size = 0;
  Vec3 first = Vec3::Zero();
  Mat3 second = Mat3::Zero();

  void add(const NamedPoints& polygon) {
    for (std::size_t i = 1; i + 1 < polygon.size(); ++i) {
      const Vec3 &a = polygon[0].first, &b = polygon[i].first, &c = polygon[i + 1].first, sum = a + b + c;
      const double triangle = std::abs((b - a).cross(c - a).z()) / 2;
      size += triangle;
      first += triangle / 3 * sum;
      second += triangle / 12 * (a * a.transpose() + b * b.transpose() + c * c.transpose() + sum * sum.transpose());
    }
  }
};

double distanceFromOrigin(const NamedPoints& polygon) {
  std::vector<Vec3> corners;
  for (const auto& [point, name] : polygon) corners.push_back(point);
  return distanceOver(corners, Vec3::Zero(), Vec3::UnitZ());
}

std::vector<NamedPoints> transformed(std::vector<NamedPoints> polygons, const Mat3& by, const Vec3& from) {
  for (NamedPoints& polygon : polygons)
    for (auto& [point, name] : polygon) point = by * (point - from);
  return polygons;
}

// How far a place is outside a polygon, or beyond the lines of its edges; negative inside.
double outsideBy(const NamedPoints& polygon, const Vec3& place) {
  double turn = 0, furthest = -std::numeric_limits<double>::max();
  for (std::size_t i = 1; i + 1 < polygon.size(); ++i)
    turn += (polygon[i].first - polygon[0].first).cross(polygon[i + 1].first - polygon[0].first).z();
  if (turn == 0) return -furthest;
  for (std::size_t i = 0; i < polygon.size(); ++i) {
    const Vec3 &from = polygon[i].first, edge = polygon[(i + 1) % polygon.size()].first - from;
    if (const double length = edge.norm(); length > 0)
      furthest = std::max(furthest, (place - from).cross(edge).z() / std::copysign(length, turn));
  }
  return furthest;
}

struct Place {
  Vec3 at;
  double size;  // as a share, of what is spread evenly
  int number;   // among all cells of the rings
};

// On the rings around the origin, which is the middle of the polygons. What is longer than wide has its rings so, too,
// and their cells from the longer of its two axes on: `second` are its moments about the middle. They lie so far out
// that their mean distance is that of an even pressure.
std::vector<Place> placesOn(const std::vector<NamedPoints>& outlines, const Mat3& second) {
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d> principal(second.topLeftCorner<2, 2>());
  std::vector<Place> places;
  if (principal.eigenvalues()[0] <= 0) return places;
  Mat3 stretch = Mat3::Identity();
  stretch.topLeftCorner<2, 2>() = principal.operatorSqrt();
  const std::vector<NamedPoints> round = transformed(outlines, stretch.inverse(), Vec3::Zero());
  constexpr double kLonger = 1.01;  // by more than round-off
  const double first = second(1, 1) > kLonger * second(0, 0) ? std::numbers::pi / 2 : 0;
  double own = 0, sum = 0, size = 0, even = 0;
  int number = 0;
  for (const Ring& ring : kRings)
    for (int i = 0; i < ring.cells; ++i, ++number) {
      const auto ray = [&](double cell) {
        const double angle = first + 2 * std::numbers::pi * (cell + ring.turned) / ring.cells;
        return Vec3(std::cos(angle), std::sin(angle), 0);
      };
      Spread sector;
      double distance = 0;
      for (const NamedPoints& outline : round) {
        const NamedPoints piece = between(outline, ray(i), ray(i + 1));
        sector.add(piece);
        distance += distanceFromOrigin(piece);
      }
      if (sector.size <= 0) continue;
      constexpr double kMean = 2.0 / 3;  // distance, of a sector's length
      const double length = distance / sector.size / kMean;
      places.push_back({stretch * (ring.out * length * sector.first.normalized()), ring.weight * sector.size, number});
      own += places.back().size * places.back().at.norm(), sum += places.back().size;
    }
  for (const NamedPoints& outline : outlines) {
    Spread part;
    part.add(outline);
    even += distanceFromOrigin(outline), size += part.size;
  }
  for (Place& place : places) place.at *= (even / size) / (own / sum), place.size /= sum;
  return places;
}

// Where the face lies: the plane nearest to the points that touch together, and their gaps.
class Level {
 public:
  Level(const std::vector<FacePart>& parts, const Vec3& u, const Vec3& v) : u_(u), v_(v) {
    constexpr double kFlat = 1e-6;  // m^2, of what is too thin to lean
    double least = parts.front().pair->manifold.gapTogether();
    for (const FacePart& part : parts) least = std::min(least, part.pair->manifold.gapTogether());
    const auto forEachTogether = [&](const auto& visit) {
      for (const FacePart& part : parts)
        for (const ManifoldPoint& p : part.pair->manifold.points)
          if (p.gap <= least) visit(p);
    };
    double count = 0;
    forEachTogether([&](const ManifoldPoint& p) { middle_ += p.position, gap_ += p.gap, ++count; });
    middle_ /= count, gap_ /= count;
    Eigen::Matrix2d spread = kFlat * Eigen::Matrix2d::Identity();
    Eigen::Vector2d lean = Eigen::Vector2d::Zero();
    forEachTogether([&](const ManifoldPoint& p) {
      const Eigen::Vector2d at = from(p.position);
      spread += at * at.transpose(), lean += (p.gap - gap_) * at;
    });
    slope_ = spread.ldlt().solve(lean);
  }

  ManifoldPoint at(const Vec3& place, std::uint32_t id) const {
    const Eigen::Vector2d at = from(place);
    return {middle_ + at.x() * u_ + at.y() * v_, gap_ + slope_.dot(at), id};
  }

 private:
  Eigen::Vector2d from(const Vec3& place) const { return {u_.dot(place - middle_), v_.dot(place - middle_)}; }

  Vec3 u_, v_, middle_ = Vec3::Zero();
  double gap_ = 0;
  Eigen::Vector2d slope_;
};

Vec3 lastForce(const std::vector<FacePart>& parts, std::uint32_t id) {
  for (const FacePart& part : parts)
    for (const ContactImpulse& last : part.pair->last)
      if (last.id == id) return last.force;
  return Vec3::Zero();
}

}  // namespace

bool pullsBothWays(const std::vector<FacePart>& parts) {
  constexpr double kSlides = 0.99, kMuch = 0.3, kOneWay = 0.999, kAround = 0.02;
  Eigen::Vector2d sum = Eigen::Vector2d::Zero();
  double all = 0, whole = 0;
  bool slides = false, hasCells = false;
  for (const FacePart& part : parts)
    for (const ContactImpulse& last : part.pair->last) {
      const Eigen::Vector2d rubs = last.force.tail<2>();
      const double limit = part.pair->friction * last.force[0];
      sum += rubs, all += rubs.norm(), whole += limit;
      slides |= limit > 0 && rubs.norm() >= kSlides * limit;
      hasCells |= last.id >= kFirstCell;
    }
  return (slides || hasCells) && all > kMuch * whole && sum.norm() < kOneWay * all && sum.norm() > kAround * all;
}

bool divideIntoCells(std::vector<FacePart>& parts, const Mat3& axes) {
  constexpr double kSmall = 30;  // softer than the mean
  const Vec3 normal = parts.front().pair->manifold.normal;
  int up = 0;
  (axes.transpose() * normal).cwiseAbs().maxCoeff(&up);
  Mat3 frame;
  frame.col(1) = normal.cross(axes.col((up + 1) % 3)).normalized();
  frame.col(0) = frame.col(1).cross(normal), frame.col(2) = normal;
  const Vec3 origin = parts.front().pair->manifold.points[0].position;
  std::vector<NamedPoints> outlines;
  Spread whole;
  for (const FacePart& part : parts) {
    NamedPoints& outline = outlines.emplace_back();
    for (const Vec3& p : part.outline) outline.emplace_back(frame.transpose() * (p - origin), 0);
    for (auto& [point, name] : outline) point.z() = 0;
    whole.add(outline);
  }
  if (whole.size <= 0) return false;
  const Vec3 middle = whole.first / whole.size;
  outlines = transformed(std::move(outlines), Mat3::Identity(), middle);
  const std::vector<Place> places = placesOn(outlines, whole.second / whole.size - middle * middle.transpose());
  const Level level(parts, frame.col(0), frame.col(1));
  for (const Place& place : places) {
    const auto isCloser = [&](const NamedPoints& one, const NamedPoints& other) {
      return outsideBy(one, place.at) < outsideBy(other, place.at);
    };
    const auto nearest = std::min_element(outlines.begin(), outlines.end(), isCloser) - outlines.begin();
    const std::uint32_t name = kFirstCell + static_cast<std::uint32_t>(place.number);
    parts[nearest].cells.push_back({level.at(origin + frame * (middle + place.at), name),
                                    std::min(1 / (place.size * static_cast<double>(places.size())), kSmall),
                                    lastForce(parts, name)});
  }
  return !places.empty();
}

}  // namespace calm
