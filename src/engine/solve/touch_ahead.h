// SPDX-License-Identifier: GPL-3.0-or-later
// Where two shapes will touch within the step, if their bodies go on as they move now.
#pragma once

#include "engine/solve/contact_pair.h"

namespace calm {

// What may touch, and up to which distance that matters.
struct Meeting {
  const Body &a, &b;
  const Shape& shapeA;
  const Pose& placeA;  // in a's principal frame
  const Shape& shapeB;
  const Pose& placeB;
  int triangle;   // of shape B, where that is a mesh; else -1
  double margin;  // m
  double rim;     // m, radius of a cylinder that is one of them
  bool hasEdges;  // not all is seen at once of what may touch: see lookForOthers()
};

// The mesh that shape B is, where its body is at a pose.
TriangleTouch triangleOf(const Meeting& meeting, const Pose& body);

// How fast the two bodies part at a point of the manifold, along its normal, m/s.
double partingSpeed(const Manifold& m, const Vec3& at, const Body& a, const Body& b);

// Whether two convex shapes whose bodies nothing holds pass each other within the step h without touching, although the
// planes between them would be crossed: by conservative advancement along their present motion (Mirtich 1996).
bool fliesPast(const ContactPair& pair, const Body& a, const Body& b, const Collider& ca, const Collider& cb, double h,
               bool crowd);

// Where things that will meet within the step h touch depends on how they lie then: follows their present motion to
// that instant and takes normal and points of it. A gap becomes what the points have left to go at their present speeds
// along the new normal.
void lookAtTouch(ContactPair& pair, const Meeting& meeting, double h);

// m, how deep lookForOthers() lets things come unseen.
constexpr double kUnseen = 2e-4;
// Edges and corners that are near or touch tell nothing of others that come down within the step, as when one end of a
// block strikes while it pivots on the other: those are seen where the two would be then. Where they would be in each
// other further than their points say, the manifold becomes that of the instant at which it begins.
void lookForOthers(ContactPair& pair, const Meeting& meeting, double h);

// Of what has just come to touch it cannot yet be seen how the touch wanders, but where it is going to be. So can that
// on a rim that wobbles, which runs round further in a step than that where it went would tell where it goes.
void foreseeWandering(ContactPair& pair, const Meeting& meeting, double now, double h);

// Whether something round that seems to run against an edge goes over it instead, as from one block onto the next of
// the same height: nowhere on its way is it in the other.
bool rollsOver(const Manifold& m, const Meeting& meeting, double h);

// How long something round that moves on still touches what ends under it, s; `h` if it does to the step's end. To be
// off it has to be further away than it falls, at `falling` m/s^2, in what is left.
double lastsFor(const Manifold& m, const Meeting& meeting, double h, double falling);

}  // namespace calm
