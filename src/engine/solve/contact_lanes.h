// SPDX-License-Identifier: GPL-3.0-or-later
// Projected Gauss-Seidel over contacts, eight abreast: patches that share no moving part go side by side, one in each
// lane of wide registers, and none waits for what another is still computing. The same bits on all processors.
//
// Sweeps are strung together by the non-smooth non-linear conjugate gradient method (Silcowitz-Hansen, Niebe and
// Erleben, The Visual Computer 26, 2010), which turns the crawl of Gauss-Seidel through a stack into superlinear
// convergence.
#pragma once

#include <memory>
#include <vector>

#include "engine/solve/contact_patch.h"

namespace calm {

class ContactLanes {
 public:
  // For the registers that this processor has.
  static std::unique_ptr<ContactLanes> make();
  virtual ~ContactLanes() = default;

  struct Terms {
    double softness;  // of a contact, as a fraction of its mobility
    bool closing;     // velocities at rest are sought, without the softness's own yield
    bool apart;       // sets know nothing of each other; else all of them are one
  };
  // Takes the points with their impulses.
  virtual void load(const Touches& touches, const std::vector<Body>& bodies, const Terms& terms) = 0;
  // Sweeps over each set until its largest change of a contact velocity is below `enough` or, after the first sweep,
  // below `reduction` of the first one's. Returns the largest last change, m/s, and adds the sets where it is not.
  virtual double relax(int sweeps, double enough, double reduction, std::vector<ContactSet>& unsettled) = 0;
  // One sweep over all; returns its largest change, m/s.
  virtual double sweep() = 0;
  // Velocities in and out: what is not dynamic is shared between islands and only read.
  virtual void takeVelocities(const std::vector<Body>& bodies) = 0;
  virtual void giveVelocities(std::vector<Body>& bodies) const = 0;
  virtual void giveImpulses(Touches& touches) const = 0;
  // Such as have changed since load().
  virtual void takeImpulses(const Touches& touches) = 0;
};

}  // namespace calm
