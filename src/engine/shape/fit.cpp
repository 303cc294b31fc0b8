// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/fit.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <random>
#include <stdexcept>
#include <utility>

#include "engine/math/rotation.h"
#include "engine/shape/hull.h"

namespace calm {

namespace {

// The smallest ball (in 3 or, of the first two coordinates, 2 dimensions) around points, by Welzl's move to front.
template <int N>
struct Ball {
  using Point = Eigen::Matrix<double, N, 1>;
  Point center = Point::Zero();
  double squared = -1;

  bool holds(const Point& p) const { return (p - center).squaredNorm() <= squared * (1 + 1e-12) + 1e-24; }
};

// Through the points on its rim.
template <int N>
Ball<N> through(const std::vector<Eigen::Matrix<double, N, 1>>& rim) {
  Ball<N> ball;
  if (rim.empty()) return ball;
  const int n = static_cast<int>(rim.size()) - 1;
  Eigen::Matrix<double, N, Eigen::Dynamic> spokes(N, n);
  for (int i = 0; i < n; ++i) spokes.col(i) = rim[i + 1] - rim[0];
  const Eigen::MatrixXd gram = 2 * spokes.transpose() * spokes;
  const Eigen::VectorXd weights =
      n ? Eigen::VectorXd(gram.completeOrthogonalDecomposition().solve(Eigen::VectorXd(gram.diagonal() / 2)))
        : Eigen::VectorXd();
  ball.center = rim[0];
  if (n) ball.center += spokes * weights;
  ball.squared = (ball.center - rim[0]).squaredNorm();
  return ball;
}

template <int N>
Ball<N> smallestBall(std::vector<Eigen::Matrix<double, N, 1>>& points, std::size_t count,
                     std::vector<Eigen::Matrix<double, N, 1>>& rim) {
  Ball<N> ball = through<N>(rim);
  if (rim.size() == N + 1) return ball;
  for (std::size_t i = 0; i < count; ++i) {
    if (ball.squared >= 0 && ball.holds(points[i])) continue;
    rim.push_back(points[i]);
    ball = smallestBall<N>(points, i, rim);
    rim.pop_back();
    std::rotate(points.begin(), points.begin() + static_cast<std::ptrdiff_t>(i),
                points.begin() + static_cast<std::ptrdiff_t>(i) + 1);
  }
  return ball;
}

template <int N>
Ball<N> smallestBall(std::vector<Eigen::Matrix<double, N, 1>> points) {
  std::shuffle(points.begin(), points.end(), std::mt19937(7));
  std::vector<Eigen::Matrix<double, N, 1>> rim;
  return smallestBall<N>(points, points.size(), rim);
}

// Directions spread evenly over the sphere (Fibonacci's lattice).
std::vector<Vec3> spreadDirections(int count) {
  std::vector<Vec3> directions;
  for (int i = 0; i < count; ++i) {
    const double y = 1 - 2 * (i + 0.5) / count, r = std::sqrt(1 - y * y),
                 a = i * std::numbers::pi * (3 - std::sqrt(5.0));
    directions.emplace_back(r * std::cos(a), y, r * std::sin(a));
  }
  return directions;
}

std::vector<Vec3> extremesOf(const std::vector<Vec3>& points, int directions) {
  std::vector<char> taken(points.size(), 0);
  std::vector<Vec3> extremes;
  for (const Vec3& d : spreadDirections(directions)) {
    std::size_t best = 0;
    for (std::size_t i = 1; i < points.size(); ++i)
      if (points[i].dot(d) > points[best].dot(d)) best = i;
    if (!std::exchange(taken[best], 1)) extremes.push_back(points[best]);
  }
  return extremes;
}

HullData hullOf(const std::vector<Vec3>& points) {
  if (points.size() <= kMaxHullVertices) return makeHull(points);
  // A little below the bound, for Quickhull's own merging of faces.
  return makeHull(extremesOf(points, 4 * kMaxHullVertices / 5));
}

std::vector<Vec3> checkedPoints(const Surface& surface) {
  if (surface.vertices.empty()) throw std::invalid_argument("it has no points");
  for (const Vec3& v : surface.vertices)
    if (!v.allFinite()) throw std::invalid_argument("it has a point that is not finite");
  return surface.vertices;
}

std::pair<double, double> extent(const std::vector<Vec3>& points, const Vec3& axis) {
  double low = 1e300, high = -1e300;
  for (const Vec3& p : points) low = std::min(low, p.dot(axis)), high = std::max(high, p.dot(axis));
  return {low, high};
}

}  // namespace

bool Surface::isClosed() const {
  std::map<std::pair<int, int>, int> edges;
  for (const auto& t : triangles)
    for (int e = 0; e < 3; ++e) {
      const int a = t[e], b = t[(e + 1) % 3];
      edges[std::minmax(a, b)] += a < b ? 1 : -1;
    }
  return !edges.empty() && std::all_of(edges.begin(), edges.end(), [](const auto& e) { return e.second == 0; });
}

double Surface::volume() const {
  double six = 0;
  for (const auto& t : triangles) six += vertices[t[0]].dot(vertices[t[1]].cross(vertices[t[2]]));
  return six / 6;
}

PlacedShape fitSphere(const Surface& surface) {
  const Ball<3> ball = smallestBall<3>(checkedPoints(surface));
  if (!(ball.squared > 0)) throw std::invalid_argument("it has no extent");
  return {Sphere{std::sqrt(ball.squared)}, {ball.center, Quat::Identity()}};
}

PlacedShape fitBox(const Surface& surface) {
  const HullData hull = hullOf(checkedPoints(surface));
  double least = 1e300;
  Mat3 best = Mat3::Identity();
  for (const HullData::Face& face : hull.faces) {
    const Vec3& up = face.normal;
    const auto [low, high] = extent(hull.vertices, up);
    for (const Vec3& edge : hull.edgeDirections) {
      const Vec3 flat = edge - edge.dot(up) * up;
      if (flat.norm() < 1e-6) continue;
      const Vec3 along = flat.normalized(), beside = up.cross(along);
      const auto [a, b] = extent(hull.vertices, along);
      const auto [c, d] = extent(hull.vertices, beside);
      const double volume = (high - low) * (b - a) * (d - c);
      if (volume < least * (1 - 1e-9)) least = volume, best << along, up, beside * -1;
    }
  }
  best.col(2) = best.col(0).cross(best.col(1));
  Vec3 size, center;
  for (int k = 0; k < 3; ++k) {
    const auto [low, high] = extent(hull.vertices, best.col(k));
    size[k] = high - low, center[k] = (low + high) / 2;
  }
  return {Box{size}, {best * center, Quat(best).normalized()}};
}

PlacedShape fitCapsule(const Surface& surface) {
  const std::vector<Vec3> points = checkedPoints(surface);
  const PlacedShape box = fitBox(surface);
  PlacedShape best;
  double least = 1e300;
  for (int k = 0; k < 3; ++k) {
    const Vec3 axis = box.pose.rotation * Vec3::Unit(k), u = anyPerpendicular(axis), v = axis.cross(u);
    std::vector<Eigen::Vector2d> flat;
    for (const Vec3& p : points) flat.emplace_back(p.dot(u), p.dot(v));
    const Ball<2> circle = smallestBall<2>(flat);
    const double radius = std::sqrt(circle.squared) * (1 + 1e-9);
    // The caps' centres: as near to each other as the points allow.
    double low = 1e300, high = -1e300;
    for (std::size_t i = 0; i < points.size(); ++i) {
      const double cap = std::sqrt(std::max(0.0, radius * radius - (flat[i] - circle.center).squaredNorm()));
      low = std::min(low, points[i].dot(axis) + cap), high = std::max(high, points[i].dot(axis) - cap);
    }
    const double core = std::max(high - low, 0.0), middle = (low + high) / 2;
    const double volume = std::numbers::pi * radius * radius * (core + 4 * radius / 3);
    if (volume >= least) continue;
    least = volume;
    best.shape = Capsule{radius, core + 2 * radius};
    best.pose = {circle.center.x() * u + circle.center.y() * v + middle * axis, turnBetween(Vec3::UnitY(), axis)};
  }
  return best;
}

PlacedShape fitHull(const Surface& surface) {
  return {ConvexHull{std::make_shared<const HullData>(hullOf(checkedPoints(surface)))}, {}};
}

}  // namespace calm
