// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts on stops that send back what strikes them.
#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/solve/assembly.h"
#include "engine/solve/drift.h"

namespace calm {

bool Assembly::wouldStrike(const Node& n, int r, double rate, double h) const {
  constexpr double kStrike = 0.01;  // m/s or rad/s; what comes slower stays
  const Axis& axis = axis_[n.offset + r];
  const AxisDef& def = axis.def;
  if (axis.kind != Kind::stop || def.restitution == 0 || !def.hasHardStops() || def.isLocked()) return false;
  const double ahead = rows_[n.memory + r] + h * rate;
  return (rate > kStrike && ahead > def.high) || (rate < -kStrike && ahead < def.low);
}

bool Assembly::wouldStrikeStops(const std::vector<Body>& bodies, double h) const {
  if (!hasAxes_) return false;
  return std::any_of(nodes_.begin(), nodes_.end(), [&](const Node& n) {
    bool any = false;
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) any |= wouldStrike(n, r, rateOf(n, r, bodies), h);
    return any;
  });
}

bool Assembly::reflectAtStops(std::vector<Body>& bodies, double h) {
  if (!wouldStrikeStops(bodies, h)) return false;
  const std::vector<State> states = state_;
  double after = h;  // s, until the first touch
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      target_[row] = impulse_[row] = 0;
      if (!n.axes) continue;
      const double rate = rateOf(n, r, bodies);
      const bool strikes = !n.released && wouldStrike(n, r, rate, h);
      // What is at rest in a stop stays there; drives and springs have no time to push.
      const bool rests = states[row] >= State::atLow;
      state_[row] = strikes || rests ? State::atHigh : State::set;
      if (!strikes) continue;
      const AxisDef& def = axis_[row].def;
      const double at = rows_[n.memory + r], gap = rate > 0 ? def.high - at : at - def.low;
      const double touch = std::max(gap, 0.0) / std::abs(rate);
      after = std::min(after, touch);
      // What the rate gains until then, if it goes on as over the closing half kick.
      const bool steady = std::abs(rate - rateAtRest_[row]) <= 1e-9 * std::abs(rate);
      const double gained = steady ? touch * (rate - rateBefore_[row]) / (h / 2) : 0;
      target_[row] = -def.restitution * (rate + gained) - gained;
    }
  std::vector<std::pair<Vec3, Vec3>> before;
  for (const BodyId id : dynamicBodies_) before.emplace_back(bodies[id].velocity, bodies[id].spin);
  build(h);
  relax(bodies);
  // The bodies go on as they came until they touch, and only then back: they are put where the new velocities come
  // from, unless they turn too far for that within the step.
  constexpr double kFar = 0.1;  // rad
  bool far = false;
  for (std::size_t i = 0; i < dynamicBodies_.size(); ++i)
    far |= !(after * (before[i].second - bodies[dynamicBodies_[i]].spin).norm() < kFar);
  for (std::size_t i = 0; !far && i < dynamicBodies_.size(); ++i) {
    Body& b = bodies[dynamicBodies_[i]];
    moveBy(b, after * (before[i].first - b.velocity), after * (before[i].second - b.spin));
  }
  state_ = states;
  build(h);
  return true;
}

}  // namespace calm
