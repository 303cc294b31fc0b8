// SPDX-License-Identifier: GPL-3.0-or-later
// Where two shapes touch, or would within a margin: the manifold that the contact solver works on.
#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

#include "engine/contact/core.h"

namespace calm {

class StateArchive;

struct ManifoldPoint {
  Vec3 position;     // world, midway between the two surfaces
  double gap;        // m, along the normal; negative when the shapes overlap
  std::uint32_t id;  // names the features that meet; the same from step to step while they do

  void visitState(StateArchive& state);
};

struct Manifold {
  // Which of the two the normal turns with: the one whose face is touched. Neither for what is round.
  enum class Owner : std::uint8_t { neither, a, b };

  Vec3 normal = Vec3::UnitY();  // unit, from shape a to shape b
  std::vector<ManifoldPoint> points;
  Owner normalOn = Owner::neither;
  double clearance = 0;  // m, the least distance between the shapes, where there are no points
  double touchTime = 0;  // s, from now: when the two are where points and normal have them
  double roundA = 0,
         roundB = 0;  // m, radii about their cores: there, the same place of a surface is not touched for long
  // The share of the points' distance from their middle at which friction acts against twisting about the normal, as an
  // even pressure on the face or line between them does: 2/3 of a round end's rim, 1/2 of a line's ends. Of so many
  // points: those that touch together.
  static constexpr double kRoundShare = 2.0 / 3;
  double twistShare = 1;
  int together = 0;

  // Whether all of a round end touches.
  bool isRound() const { return twistShare == kRoundShare; }
  double leastGap() const {
    double least = 1e300;
    for (const ManifoldPoint& p : points) least = std::min(least, p.gap);
    return least;
  }
  // The gap up to which points touch together with the nearest one.
  double gapTogether() const {
    constexpr double kTogether = 1e-5;  // m
    return leastGap() + kTogether;
  }
  void dropBeyond(double margin) {
    points.erase(std::remove_if(points.begin(), points.end(), [&](const ManifoldPoint& p) { return p.gap >= margin; }),
                 points.end());
  }
};

// How far beyond its present speed a shape may get by what pushes it and what drives its joints.
struct Hastening {
  double pushed = 0;                 // m/s^2
  double driven = 0, drivenFor = 0;  // m/s^2, and the way after which that ends, m
  double carried = 0;                // m/s, by a moved part that its joints hold it to

  // Within a time, twice as far as steady pushes and speeds take it.
  double wayIn(double time) const {
    return pushed * time * time + std::min(driven * time * time, drivenFor) + 2 * carried * time;
  }
};

// A shape made ready: the plane of a half space, or a convex core. Meshes are met triangle by triangle instead.
struct Collider {
  double extent = 0;  // m, the furthest that it reaches from its body's centre of mass
  double struck = 0;  // m/s, that something faster may give it within the frame; 0: nothing is
  Hastening hastening;
  double way = 0;      // m, that no point of it has gone farther than, in all, up to where it was last seen
  int number = 0;      // among the shapes of its island that move
  bool ready = false;  // is where its body is, in the present search
  bool halfSpace = false;
  Vec3 planePoint = Vec3::Zero();
  Vec3 planeNormal = Vec3::UnitY();
  Pose seen;  // its body's, then
  ConvexCore core;

  void visitState(StateArchive& state);
};
void buildCollider(const Shape& shape, const Pose& pose, Collider& collider);

// What is needed of a mesh's triangle to know which touches on it are real. Points into the mesh.
struct TriangleTouch {
  const MeshData* mesh;
  int triangle;
  Pose pose;
};
// A convex shape against one triangle of a mesh, which is always the second: touches on edges inside a plane or a
// hollow are left out, because neighbouring triangles have the true ones, and so are those from behind, but for sheets.
void collideWithTriangle(const ConvexCore& a, const TriangleTouch& triangle, double margin, Manifold& out);

// Fills `out` with the points of a and b that are closer than `margin` (m); at most five for convex pairs.
// Polytopes are treated by the separating-axis test and by clipping the incident face (Ericson 2005, chapter 5;
// Gregorius, "The separating axis test", GDC 2013); rounded cores by their closest points. Empty if the shapes are
// apart, or both half spaces.
void collide(const Collider& a, const Collider& b, double margin, Manifold& out);

}  // namespace calm
