// SPDX-License-Identifier: GPL-3.0-or-later
// What an assembly does on its free axes: springs, and the active set of stops and drives.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "engine/solve/assembly.h"

namespace calm {

void Assembly::noteRates(const std::vector<Body>& bodies, bool opening) {
  if (!hasAxes_) return;
  for (const Node& n : nodes_) {
    if (!n.axes) continue;
    const Body &a = bodies[n.a], &b = bodies[n.b];
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      const double* j = block(rows_, n).jacobian() + r * kRowWidth;
      rateNow_[row] = rowVelocity(j, a.velocity, a.spin, b.velocity, b.spin);
      // What struck the bodies since the frame closed counts as having been there before.
      rateBefore_[row] = opening ? rateBefore_[row] + rateNow_[row] - rateAtRest_[row] : rateNow_[row];
    }
  }
}

void Assembly::noteRatesAtRest(const std::vector<Body>& bodies) {
  if (!hasAxes_) return;
  const std::vector<double> before = rateBefore_;
  noteRates(bodies, false);
  rateAtRest_ = rateNow_;
  rateBefore_ = before;
}

// Of a spring, by the current rows; angles the short way round.
double Assembly::stretchOf(const Node& n, int r) const {
  const double stretch = block(rows_, n).error()[r] - axis_[n.offset + r].def.target;
  return r < n.rows - n.angular ? stretch : std::remainder(stretch, 2 * std::numbers::pi);
}

// The law of a spring over one substep, as an equation between end rate and impulse: see springStep.
void Assembly::aimSprings(double h, double share) {
  if (!hasAxes_) return;
  for (const Node& n : nodes_) {
    if (!n.axes) continue;
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (state_[row] != State::spring) continue;
      const AxisDef& def = axis_[row].def;
      const double stretch = stretchOf(n, r);
      target_[row] = rateNow_[row] -
                     gamma_[row] * share * (h * def.stiffness * stretch + springStep_[row].brake * rateBefore_[row]);
      impulse_[row] = 0;
    }
  }
}

void Assembly::solveAccelerations(std::vector<Body>& bodies, const std::vector<double>& bend, double h) {
  for (std::size_t row = 0; row < target_.size(); ++row) {
    target_[row] = gamma_[row] * force_[row] - bend[row];
    impulse_[row] = 0;
  }
  const std::vector<State> states = state_;
  if (hasAxes_) {
    for (State& state : state_)
      if (state == State::spring) state = State::set;
    build(h);
    pushAtCaps(bodies, 1);
    for (const Node& n : nodes_)
      for (int r = 0; r < n.rows; ++r) {
        const int row = n.offset + r;
        const AxisDef& def = axis_[row].def;
        if (states[row] == State::spring && !n.released)
          setImpulse(bodies, n, row, -def.stiffness * stretchOf(n, r) - def.damping * rateNow_[row]);
      }
  }
  relax(bodies);
  state_ = states;
}

void Assembly::setImpulse(std::vector<Body>& bodies, const Node& n, int row, double impulse) {
  std::fill_n(&delta_[n.offset], n.rows, 0.0);
  delta_[row] = impulse - impulse_[row];
  applyTo(bodies, n);
}

void Assembly::pushAtCaps(std::vector<Body>& bodies, double time) {
  if (!hasAxes_) return;
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (n.released || state_[row] != State::set || sign_[row] == 0) continue;
      setImpulse(bodies, n, row, time * (sign_[row] > 0 ? axis_[row].def.most() : axis_[row].def.least()));
    }
}

bool Assembly::revise(std::vector<Body>& bodies, double h, double time) {
  if (!hasAxes_) return false;
  bool changed = false;
  for (const Node& n : nodes_) {
    if (!n.axes || n.released) continue;
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (state_[row] == State::spring) continue;
      const AxisDef& def = axis_[row].def;
      const RowBlock rows = block(rows_, n);
      const Body &a = bodies[n.a], &b = bodies[n.b];
      const double rate = rowVelocity(rows.jacobian() + r * kRowWidth, a.velocity, a.spin, b.velocity, b.spin);
      const double least = def.least() * time, most = def.most() * time, p = impulse_[row];
      const double ahead = rows.error()[r] + h * rate, tiny = 1e-12 * (1 + std::abs(rate));
      const auto become = [&](State state, int sign, double impulse) {
        state_[row] = state;
        sign_[row] = static_cast<signed char>(sign);
        setImpulse(bodies, n, row, impulse);
        changed = true;
      };
      // A stop gives way when the row would have to pull: when its impulse goes beyond what the drive, which pushes
      // towards its own speed with all it has, explains.
      const double slack = 1e-12 * std::abs(p);
      const auto letGo = [&] { become(def.hasDrive() ? State::drive : State::set, 0, std::clamp(p, least, most)); };
      if (state_[row] == State::atHigh) {
        if (p > (def.speed < 0 ? least : most) + slack) letGo();
      } else if (state_[row] == State::atLow) {
        if (p < (def.speed > 0 ? most : least) - slack) letGo();
      } else if (ahead > def.high + tiny * h) {
        become(State::atHigh, 0, p);
      } else if (ahead < def.low - tiny * h) {
        become(State::atLow, 0, p);
      } else if (state_[row] == State::drive) {
        if (p > most + slack) become(State::set, 1, most);
        if (p < least - slack) become(State::set, -1, least);
      } else if (def.hasDrive()) {
        // At its cap and past the speed for which it pushes: it can hold that speed again.
        const bool past = sign_[row] > 0 ? rate > def.speed + tiny : rate < def.speed - tiny;
        if (sign_[row] == 0 || past) become(State::drive, 0, p);
      }
      if (state_[row] >= State::atLow) target_[row] = -(errorOf(rows_, n, r) - offset_[row]) / h;
      if (state_[row] == State::drive) target_[row] = def.speed;
    }
  }
  if (changed) build(h);
  return changed;
}

}  // namespace calm
