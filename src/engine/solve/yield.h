// SPDX-License-Identifier: GPL-3.0-or-later
// What the compliance that a joint was given makes of what it locks.
#pragma once

#include "engine/solve/body.h"

namespace calm {

// What is locked yields like springs of these stiffnesses (N/m along, N m/rad about an axis), where the compliance lets
// the parts swing some way slowly enough for the step to follow; 0 where it does not.
struct Yield {
  double along, about;
};

// Of a joint of this compliance (m/N) and pin radius (m) between two bodies, in steps of `step` (s).
Yield yieldOf(double compliance, double pinRadius, const Body& a, const Body& b, double step);

}  // namespace calm
