// SPDX-License-Identifier: GPL-3.0-or-later
// Projected Gauss-Seidel over contacts, eight abreast: patches that share no moving part go side by side, one in each
// lane of wide registers, and none waits for what another is still computing. The same bits with and without AVX2.
//
// Sweeps are strung together by the non-smooth non-linear conjugate gradient method (Silcowitz-Hansen, Niebe and
// Erleben, The Visual Computer 26, 2010), which turns the crawl of Gauss-Seidel through a stack into superlinear
// convergence.
#pragma once

#include <array>
#include <vector>

#include "engine/solve/contact_law.h"
#include "engine/solve/contact_patch.h"

namespace calm {

class ContactLanes {
 public:
  static constexpr int kLanes = Oct::kLanes;

  // Takes the points with their impulses. `touched`: the bodies, in the patches' places. `apart`: sets know nothing of
  // each other; else all of them are one.
  void load(const std::vector<ContactPatch>& patches, const std::vector<ContactPoint>& points,
            const std::vector<ContactSet>& sets, const std::vector<int>& touched, const std::vector<Body>& bodies,
            double softness, bool closing, bool apart);
  // Sweeps over each set until its largest change of a contact velocity is below `enough` or, after the first sweep,
  // below `reduction` of the first one's. Returns the largest last change, m/s.
  double relax(int sweeps, double enough, double reduction);
  // One sweep over all; returns its largest change, m/s.
  double sweep();
  // Velocities in and out: what is not dynamic is shared between islands and only read.
  void takeVelocities(const std::vector<Body>& bodies);
  void giveVelocities(std::vector<Body>& bodies) const;
  void giveImpulses(const std::vector<ContactPatch>& patches, std::vector<ContactPoint>& points) const;

 private:
  using PerLane = std::array<int, kLanes>;
  // The motion of a touched body.
  struct Motion {
    Padded velocity, spin;
    // What the last sweep changed, and the direction of the conjugate gradients: the impulses' directions as
    // velocities.
    Padded sweptVelocity, sweptSpin;
    Padded headingVelocity, headingSpin;
  };
  // A body in each lane.
  struct Side {
    Oct share;        // of what the two sides' velocities change against each other
    Oct response[6];  // xx, xy, xz, yy, yz, zz
    Oct twist[3];     // spin by a unit angular impulse about the normal
    PerLane places;
  };
  // A patch in each lane, or none.
  struct Batch {
    Oct directions[3][3];
    Oct inverseMass;  // of both sides together
    Oct friction;
    Side sides[2];
    PerLane patches;  // -1: none
    int first, end;   // rows
    bool twists;
  };
  // A point of each of a batch's patches, or none.
  struct Row {
    Oct arms[2][3];
    Oct lever[2];  // of the tangents
    ContactLaw<Oct> law;
    ContactPush<Oct> push;
  };
  // Batches that are swept until they have converged: those of one large set, or of some small ones, each in its lane.
  struct Range {
    int firstBatch, endBatch;
    int sets = 1;
    std::array<ContactSet, kLanes> set;
  };
  // What came of a sweep.
  struct Swept {
    Oct largest{};   // m/s, change of a contact's velocity
    Oct gradient{};  // squared length of all changes
  };
  struct Visit;
  // The conjugate gradients' way, by lanes.
  struct Course {
    Oct gradient{};  // squared length of the last sweep's change; 0 before the first
    Oct before{};    // that of the sweep before it

    void next(ContactStep<Oct>& step) const;
  };

  void addLarge(const ContactSet& set, const std::vector<ContactPatch>& patches, const std::vector<Body>& bodies);
  void addSmall(const ContactSet* sets, int count);
  void addBatch(const PerLane& patches);
  void fill(const std::vector<ContactPatch>& patches, const std::vector<ContactPoint>& points,
            const std::vector<Body>& bodies, double softness, bool closing);
  // The largest changes go to `largest`.
  void sweepOn(const Range& range, Course& course, Oct& largest);

  std::vector<Batch> batches_;
  std::vector<Row> rows_;
  std::vector<Range> ranges_;
  std::vector<Motion> motions_;  // of the touched bodies, and one more of none
  std::vector<int> touched_;
  Course course_;  // of sweep()
};

}  // namespace calm
