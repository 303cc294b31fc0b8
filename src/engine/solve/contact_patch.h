// SPDX-License-Identifier: GPL-3.0-or-later
// What touches in a substep: the points of a pair side by side, and sets of pairs that hang together.
#pragma once

#include <cstdint>

#include "engine/solve/contact_pair.h"

namespace calm {

// What is further from touching than this meets as it will be at the instant of touch.
constexpr double kNearTouch = 1e-5;  // m

struct ContactPoint {
  int patch;
  std::uint32_t id;
  Vec3 position;    // world
  Vec3 armA, armB;  // from the centres of mass
  Vec3 impulse;     // along each direction
  double gap;       // m
  double target;    // m/s, least end velocity along the normal; where the two overlap, that of pushing them out
  // Along the tangents, m/s: by how much the slip in the middle of the step differs from that at the present arms,
  // since these turn with their bodies; and, of what slid, the slip before the kick.
  Eigen::Vector2d carried = Eigen::Vector2d::Zero(), came = Eigen::Vector2d::Zero();
};

struct ContactPatch {
  ContactPair* pair;
  int a, b;            // bodies
  int placeA, placeB;  // of them among those that are touched
  int first, end;      // points
  Mat3 directions;     // normal (from a to b) and tangents, columns
  double together;     // m, the gap up to which its points touch together
  Vec3 middle;         // of those
  double friction;     // coefficient
  double twist;        // share of their distances from it that friction has against twisting, beyond the arms'
  Vec3 wandering;      // m/s, that the two move more against each other in the middle of the step, at a point or line
  bool bounces;        // an impact is taken by bounce(), at the instant of touch if it can be
  double slowest;      // m/s; impacts slower than that do not bounce

  int size() const { return end - first; }
  Vec3 normal() const { return directions.col(0); }
  // m, of each direction at a point for twisting about the normal, beyond what the arms give.
  Vec3 leverOf(const ContactPoint& p) const {
    if (twist == 0 || p.gap > together) return Vec3::Zero();
    const Vec3 from = twist * (p.position - middle);
    return {0, -from.dot(directions.col(2)), from.dot(directions.col(1))};
  }
};

// Patches whose moving bodies touch no others', one after another in the order of sets, as are their bodies among those
// that are touched.
struct ContactSet {
  int firstPatch, endPatch, firstPlace, endPlace;
  double stir = 0;  // m/s, largest change of a contact velocity by the first sweep

  int size() const { return endPatch - firstPatch; }
};

// All that touches in an island.
struct Touches {
  std::vector<ContactPatch> patches;
  std::vector<ContactPoint> points;
  std::vector<int> order;  // of patches, those of one set after those of another
  std::vector<ContactSet> sets;
  std::vector<int> bodies;  // in the order of the patches' places

  int size() const { return static_cast<int>(points.size()); }
  void clear() {
    patches.clear();
    points.clear();
  }
  // Finds sets, order and places of the patches.
  void arrange(const std::vector<Body>& all);
};

}  // namespace calm
