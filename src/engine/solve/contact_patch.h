// SPDX-License-Identifier: GPL-3.0-or-later
// What touches in a substep: the points of a pair side by side, and sets of pairs that hang together.
#pragma once

#include <cstdint>
#include <map>
#include <utility>
#include <vector>

#include "engine/solve/contact_law.h"
#include "engine/solve/contact_pair.h"

namespace calm {

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
  double softer = 1;  // than the mean of those with the same seam
};

struct ContactPatch {
  ContactPair* pair;
  int a, b;            // bodies
  int placeA, placeB;  // of them among those that are touched
  int first, end;      // points
  Mat3 directions;     // normal (from a to b) and tangents, columns
  double together;     // m, the gap up to which its points touch together
  Vec3 middle;         // of those
  Vec3 pressed;        // their mean by the normal forces of the last step, or the middle if they had none
  bool fresh;          // not all of these are known
  double friction;     // coefficient
  double twist;        // share of their distances from there that friction has against twisting, beyond the arms'
  int seam = -1;       // names the patches into which seams divide the face or line where its two bodies touch, and
                       // those of a face with cells
  Vec3 wandering;      // m/s, that the two move more against each other in the middle of the step, at a point or line
  bool bounces;        // an impact is taken by bounce(), at the instant of touch if it can be
  double slowest;      // m/s; impacts slower than that do not bounce

  int size() const { return end - first; }
  Vec3 normal() const { return directions.col(0); }
  // m, of each direction at a point for twisting about the normal, beyond what the arms give. About where the patch is
  // pressed: what slides straight is not turned, however the load lies.
  Vec3 leverOf(const ContactPoint& p) const {
    if (twist == 0 || p.gap > together) return Vec3::Zero();
    const Vec3 from = twist * (p.position - pressed);
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
  // Where seams divide the face on which two bodies touch, each part is to carry by its size.
  void shareAcrossSeams();

 private:
  // Of two bodies each, where more than one patch lies in the same plane.
  std::vector<std::vector<ContactPatch*>> facesInParts();
};

// What a point yields is a part of its own mobility, which is larger further out. On a face that seams divide all are
// to yield alike, for the size of their patch: else the pressure there would not be even. For patches with a seam and
// points, each of which answers by lawOf(point) and is to be softer by softerOf(point).
template <class Patches, class LawOf, class SofterOf>
void yieldAlikeAcrossSeams(const Patches& patches, const LawOf& lawOf, const SofterOf& softerOf) {
  std::map<int, std::pair<double, int>> yields;  // of each such face: sum, and of how many points
  const auto forEachPoint = [&](const auto& visit) {
    for (const auto& patch : patches)
      for (int i = patch.first; i < patch.end && patch.seam >= 0; ++i) visit(i, yields[patch.seam]);
  };
  forEachPoint([&](int i, auto& sum) { sum.first += lawOf(i).softness, ++sum.second; });
  forEachPoint([&](int i, const auto& sum) {
    ContactLaw<double>& law = lawOf(i);
    law.softness = softerOf(i) * sum.first / sum.second;
    law.perSpeed = 1 / (law.mobility[0] + law.softness);
  });
}

}  // namespace calm
