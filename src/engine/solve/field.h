// SPDX-License-Identifier: GPL-3.0-or-later
// Forces that depend on where bodies are and how fast: wind and drag, attraction, pushes at points.
#pragma once

#include <algorithm>
#include <cmath>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "engine/solve/body.h"

namespace calm {

// Air (or water) that moves at `velocity`: on each body the force is linear u + quadratic |u| u at the centre of mass,
// with u the medium's velocity against it. Still air is drag. Taken at a rate that is held over each step, and exactly
// so, so that no strength makes it unstable.
struct Wind {
  Vec3 velocity = Vec3::Zero();      // m/s
  double linear = 0, quadratic = 0;  // N s/m, N s^2/m^2
};

// An acceleration strength / max(r, core)^falloff towards a centre; repels where the strength is negative. Falloff 2 is
// a planet's gravity, -1 a spring towards the centre, 0 the same everywhere.
struct Attraction {
  Vec3 center = Vec3::Zero();
  double strength = 0;  // m/s^2 at one metre
  double falloff = 2;
  double core = 1e-3;  // m
};

struct Field {
  std::variant<Wind, Attraction> law;
  std::vector<int> bodies;  // ascending; none: all

  bool actsOn(int body) const { return bodies.empty() || std::binary_search(bodies.begin(), bodies.end(), body); }
};

// A steady push at a point of a body (its principal frame), in world axes or along with the body.
struct Push {
  int body;
  Vec3 at, force, torque;
  bool follows = false;
  double from = 0, until = 1e300;  // s
};

// Between two instants, s. What takes no time stands for its instant.
struct TimeSpan {
  double from, to;
};

std::string faultOf(const Field& field);

// The acceleration, and the torque about its centre of mass, that a body is given (world; m/s^2, N m).
struct Influence {
  Vec3 acceleration = Vec3::Zero(), torque = Vec3::Zero();
};
// By pushes and attractions where it is, on the mean over a span: pushes may come and go within it.
Influence influenceOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id, const Body& body,
                      const TimeSpan& span);
// The same with winds.
Influence influenceWithWindsOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id,
                               const Body& body, const TimeSpan& span);
// The part of it that has a potential over the span: attractions, and pushes that keep their direction and come or go
// at no time within it; that potential, J; and how the pushes' torque changes as the body turns: its geometric
// stiffness, N m/rad (world).
Influence lastingInfluenceOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id,
                             const Body& body, const TimeSpan& span);
double potentialOf(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id, const Body& body,
                   const TimeSpan& span);
Mat3 stiffnessOf(const std::vector<Push>& pushes, int id, const Body& body, const TimeSpan& span);
// Whether anything but these acts on some body.
bool workByKicks(const std::vector<Field>& fields, const std::vector<Push>& pushes, const TimeSpan& span);

// Damping and drag at the rate d act along with all that pushes during a kick of span t, joints and contacts included,
// by the exact solution for steady pushes: v1 = exp(-d t) v0 + gain(d t) t a (exponential integration; Certaine 1960).
// So what is held at rest weighs what it should, what moves freely slows by exactly exp(-d t), and what falls ends at
// its true speed.
inline double kickGain(double x) {
  return x > 1e-12 ? -std::expm1(-x) / x : 1;
}

// What winds do to a body over the coming kick of `span`: v' = pull - rate v. Their rate is that in the middle of it,
// as the last kick foretells; after a sudden change, what their law makes of the present speed alone.
struct Drag {
  double rate = 0;           // 1/s
  Vec3 pull = Vec3::Zero();  // m/s^2
};
Drag dragOn(const std::vector<Field>& fields, int id, const Body& body, double span);

// The largest gradient of attractions (1/s^2) that a body meets on its way over the coming `time`.
double steepestOn(const std::vector<Field>& fields, int id, const Body& body, double time);

// J; of attractions.
double potentialOf(const std::vector<Field>& fields, int id, const Body& body);

}  // namespace calm
