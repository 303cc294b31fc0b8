// SPDX-License-Identifier: GPL-3.0-or-later
// Two shapes that may meet: where they touch, and what is remembered of it from step to step.
#pragma once

#include <algorithm>
#include <cstdint>
#include <optional>
#include <vector>

#include "engine/contact/collide.h"
#include "engine/math/prefetch.h"
#include "engine/solve/body.h"

namespace calm {

// A manifold's points bear names below this, the cells between them (see addCells()) from this on.
constexpr std::uint32_t kFirstCell = 1u << 30;

struct ContactImpulse {
  std::uint32_t id;
  Vec3 onA;    // where, in body a's principal frame
  Vec3 force;  // N, along normal, first and second tangent

  void visitState(StateArchive& state);
};

// Two shapes that may meet during the frame, and what they last pushed with.
struct ContactPair {
  int bodyA, bodyB;
  int shapeA, shapeB;  // colliders
  int triangle = -1;   // of shape B, where that is a mesh
  double friction, restitution;
  // What is further from touching than this (m) meets as it will be at the instant of touch.
  double near = 0;
  bool fromTheStart = false;  // has not been looked at yet, in the world's first frame
  // Two parts of one assembly that were put into each other, as bars are where a pin holds them: they do not touch
  // until they have come apart.
  bool interlaced = false;
  Manifold manifold;
  std::vector<ContactImpulse> last;
  // As it was when the shapes were last looked at, for follow(). In the bodies' principal frames.
  struct Kept {
    struct Point {
      Vec3 onA, onB;
      std::uint32_t id;

      void visitState(StateArchive& state);
    };
    bool known = false;
    // Of b as seen from a; of the body that owns the normal. Set from the first, for saved states hold them.
    Vec3 place = Vec3::Zero(), normal = Vec3::Zero();
    Quat turn = Quat::Identity();  // of b as seen from a
    double reach = 0;              // m, how far the shapes were looked for
    double slide = 0;              // m, that the points may follow
    double extent = 0;             // m, of b about its centre of mass
    std::vector<Point> points;

    void visitState(StateArchive& state);
    // How far any point of b may have moved as seen from a.
    double movedSince(const Body& a, const Body& b) const;
  } kept;
  double apartFor = 0;  // m, that the shapes' ways must come to before they can touch
  bool ends = false;    // the touch does within the present substep, since what is touched ends there
  // Of the present frame, on b: impulse and its moment about the origin (world).
  Vec3 frameImpulse = Vec3::Zero(), frameMoment = Vec3::Zero();
  // Where the two touch at one point or along a line between two: where its middle was on a, and how fast it wanders
  // over it, in a's principal frame; and how fast it did before.
  struct Roll {
    Vec3 place = Vec3::Zero(), rate = Vec3::Zero(), before = Vec3::Zero();  // m, m/s
    double at = 0;                                                          // s, when it was there
    int points = 0;  // negative: its rate is not known yet; 0: nothing is

    void visitState(StateArchive& state);
  } roll;

  // How the two slid in the middle of what pushes them, before the last kick, if they did; and at what instant.
  struct Rubbing {
    Vec3 slip = Vec3::Zero();  // m/s, of b against a, in the world
    double at = 0;             // s
    bool known = false;

    void visitState(StateArchive& state);
  } rubbing;

  void visitState(StateArchive& state);
  bool pushed() const {
    return std::any_of(last.begin(), last.end(), [](const ContactImpulse& i) { return i.force[0] > 0; });
  }
  // Ahead of a look at it: first itself, then what it points to.
  void prefetchSelf() const { prefetch(this, sizeof *this); }
  void prefetchPoints() const {
    prefetch(manifold.points.data(), manifold.points.size() * sizeof(ManifoldPoint));
    prefetch(kept.points.data(), kept.points.size() * sizeof(Kept::Point));
    prefetchLast();
  }
  void prefetchLast() const { prefetch(last.data(), last.size() * sizeof(ContactImpulse)); }
  // Names each point of the new manifold after the last one's point where it lies, if there was one: features flicker
  // when corners and edges coincide, places do not.
  void keepNames(const Body& a);
  // Notes the manifold and how the bodies stand, for follow().
  void keep(const Body& a, const Body& b, double reach, double slide, double extent);
  // Forgets the manifold while the two are interlaced.
  void passInterlaced(const Body& a, const Body& b, double size);
  // Whether the manifold touches at one point or along a line whose rate over a is not known yet.
  bool wandersUnknown() const;
  // Takes that rate from where the two, seen `now`, will touch after `time`, when a is at `pose`. With `steadily` above
  // zero (m) it stands however fast it is, if the touch gets no further than that.
  void foresee(const Manifold& then, const Body& a, const Pose& pose, double now, double time, double steadily);
  // Where the manifold touches at one point or along a line: notes where the middle is `now`, and returns how it moves,
  // in the world, if that is known for the next `span` (s).
  struct Wandering {
    Vec3 at, velocity;
  };
  std::optional<Wandering> wander(const Body& a, const Body& b, double now, double span);
  // Moves the manifold along with the bodies; false if they have moved too much against each other for that.
  bool follow(const Body& a, const Body& b, double margin);
};

}  // namespace calm
