// SPDX-License-Identifier: GPL-3.0-or-later
// Pulley and winch: a rope without mass or friction runs from a's pivot over points of the world, of a, of b or of
// other parts to b's pivot. Its length is the one axis: the sum of its stretches, those beyond the last world point
// times the ratio. A high stop makes it a rope that cannot stretch; a winch takes rope in or gives it out by moving
// that stop.
#include <algorithm>

#include "engine/joint/joint.h"

namespace calm {

void ropeLength(const JointGeometry& g, const Body& a, const Body& b, RowBlock& rows) {
  struct Point {
    Vec3 place, arm;
    RouteOn on;
    int rider = 0;
  };
  const auto pointOn = [](const Body& body, const Vec3& at, RouteOn on, int rider = 0) {
    const Vec3 arm = body.axes * at;
    return Point{body.position + arm, arm, on, rider};
  };
  std::vector<Point> points{pointOn(a, g.anchorA, RouteOn::a)};
  std::size_t lastInWorld = 0;
  for (const RoutePoint& p : g.form.route) {
    if (p.on == RouteOn::world) {
      lastInWorld = points.size();
      points.push_back({p.at, Vec3::Zero(), p.on});
    } else if (p.on == RouteOn::part) {
      points.push_back(pointOn((*rows.riders.bodies)[g.riders[p.part]], p.at, p.on, p.part));
    } else {
      points.push_back(pointOn(p.on == RouteOn::a ? a : b, p.at, p.on));
    }
  }
  points.push_back(pointOn(b, g.anchorB, RouteOn::b));

  rows.meetAt(points.front().arm, points.back().arm);
  double length = 0;
  Vec3 la = Vec3::Zero(), aa = Vec3::Zero(), lb = Vec3::Zero(), ab = Vec3::Zero();
  double* onRiders = rows.riders.jacobian;
  if (onRiders) std::fill_n(onRiders, 6 * g.riders.size(), 0.0);
  const auto pull = [&](const Point& p, const Vec3& n) {
    if (p.on == RouteOn::a) la += n, aa += p.arm.cross(n);
    if (p.on == RouteOn::b) lb += n, ab += p.arm.cross(n);
    if (p.on != RouteOn::part || !onRiders) return;
    Eigen::Map<Vec3>{onRiders + 6 * p.rider} += n;
    Eigen::Map<Vec3>{onRiders + 6 * p.rider + 3} += p.arm.cross(n);
  };
  for (std::size_t i = 0; i + 1 < points.size(); ++i) {
    const double weight = lastInWorld > 0 && i >= lastInWorld ? g.form.ratio : 1;
    const Vec3 gap = points[i + 1].place - points[i].place;
    const double stretch = gap.norm();
    const Vec3 n = stretch > 1e-12 ? Vec3(gap * (weight / stretch)) : Vec3::UnitY();
    length += weight * stretch;
    pull(points[i], -n);
    pull(points[i + 1], n);
  }
  rows.general(true, length, la, aa, lb, ab);
}

}  // namespace calm
