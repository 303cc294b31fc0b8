// SPDX-License-Identifier: GPL-3.0-or-later
// What an assembly does on its free axes: springs, and the active set of stops and drives.
#include <algorithm>
#include <cmath>
#include <utility>

#include "engine/solve/assembly.h"

namespace calm {

void Assembly::notePresentRates(const std::vector<Body>& bodies, std::vector<double>& rates) const {
  if (!hasAxes_) return;
  rates.resize(state_.size());
  for (const Node& n : nodes_)
    for (int r = 0; n.ruled() && r < n.rows; ++r)
      if (isRuled(n, r)) rates[n.offset + r] = rateOf(n, r, bodies);
}

void Assembly::noteAxes() {
  speedsUp_ = winds_ = sprung_ = struck_ = fewStops_ = measured_ = false;
  springs_ = 0;
  if (!hasAxes_) return;
  // Of more, something is struck in most substeps, and each would have to be cut many times.
  constexpr std::size_t kFewNodes = 24;
  fewStops_ = nodes_.size() <= kFewNodes;
  for (const Axis& axis : axis_) {
    speedsUp_ |= axis.def.acceleration != 0;
    winds_ |= axis.kind == Kind::winch;
    sprung_ |= axis.kind == Kind::spring || axis.kind == Kind::softStop;
    springs_ += axis.kind == Kind::spring;
    struck_ |= isStruckAtTouch(axis);
  }
}

void Assembly::noteRates(const std::vector<Body>& bodies, bool opening) {
  if (!hasAxes_) return;
  notePresentRates(bodies);
  if (opening) return addStruck(1);
  rateEarlier_.swap(rateBefore_);
  rateBefore_ = rateNow_;
}

// What struck the bodies since the frame closed counts as having been there before.
void Assembly::addStruck(double share) {
  for (std::size_t row = 0; row < rateNow_.size(); ++row) {
    const double struck = share * (rateNow_[row] - rateAtRest_[row]);
    rateBefore_[row] += struck;
    rateEarlier_[row] += struck;
  }
}

void Assembly::takeBackRates() {
  if (hasAxes_) addStruck(-1);
}

void Assembly::noteRatesAtRest(const std::vector<Body>& bodies, double span) {
  closingSpan_ = span;
  if (!hasAxes_) return;
  notePresentRates(bodies);
  rateAtRest_ = rateNow_;
  std::fill(grazed_.begin(), grazed_.end(), 0);
}

Assembly::SpringLaw Assembly::lawOf(int row) const {
  const AxisDef& def = axis_[row].def;
  if (axis_[row].kind == Kind::softStop)
    return {def.stopStiffness, def.stopDamping, sign_[row] < 0 ? def.low : def.high, kNoLimit};
  return {def.stiffness, def.damping, def.target, def.springCap};
}

// By the current rows.
double Assembly::stretchOf(const Node& n, int r) const {
  return rows_[n.memory + r] - offset_[n.offset + r] - lawOf(n.offset + r).target;
}

double Assembly::hardnessOf(const Node& n, int r, double h) const {
  return h * h * axis_[n.offset + r].def.stopStiffness * mobility_[n.offset + r];
}

bool Assembly::followsStop(const Node& n, int r, double h) const {
  constexpr double kFollowed = 0.5;
  return hardnessOf(n, r, h) < kFollowed;
}

// A whole kick stands for half a step to either side of its pose; that which closes a frame for the half before it, and
// that which opens one for the half after it.
Assembly::Range Assembly::passedIn(const Node& n, int r, double h, double share) const {
  const double at = rows_[n.memory + r], half = rateBefore_[n.offset + r] * h / 2;
  const bool closes = lookAhead_ == 0, opens = !closes && share < 1;
  const auto [low, high] = std::minmax({at - (opens ? 0 : half), at + (closes ? 0 : half)});
  return {low, high};
}

// Where a stop is met or left within a kick, what counts is the mean of how far the coordinate is beyond it, not where
// it is in the middle: else a bounce comes back up to (omega h)^2 / 12 too fast or too slow.
Assembly::Reach Assembly::reachOf(const Node& n, int r, double h, double share) const {
  const int row = n.offset + r;
  const double stretch = stretchOf(n, r), swept = std::abs(rateBefore_[row]) * h / 2;
  if (axis_[row].kind != Kind::softStop || !followsStop(n, r, h)) return {stretch, 1};
  if (std::abs(stretch) >= swept) return stretch * sign_[row] > 0 ? Reach{stretch, 1} : Reach{0, 0};
  const auto [low, high] = passedIn(n, r, h, share);
  const double stop = lawOf(row).target;
  const double nearest = sign_[row] > 0 ? low - stop : stop - high,
               furthest = sign_[row] > 0 ? high - stop : stop - low;
  if (furthest <= 0) return {0, 0};
  const double there = furthest - std::max(nearest, 0.0), part = there / (furthest - nearest);
  return {sign_[row] * part * (furthest - there / 2), part};
}

double Assembly::stiffnessOn(BodyId body, bool angular) const {
  const auto found = springsOn_.find(body);
  return found == springsOn_.end() ? 0 : found->second[angular];
}

// The law of a spring over one substep, as an equation between end rate and impulse: see springStep.
void Assembly::aimSpring(const Node& n, int r, double h, double share) {
  const int row = n.offset + r;
  const Reach reach = reachOf(n, r, h, share);
  const SpringStep& step = springStep_[row];
  const double turned = step.lag * h * (rateBefore_[row] - rateEarlier_[row]);
  const double pull = h * lawOf(row).stiffness * (reach.stretch + turned) + reach.share * step.brake * rateBefore_[row];
  target_[row] = rateNow_[row] - share * pull / step.inertia;
}

void Assembly::aimSprings(double h, double share) {
  if (!sprung_) return;
  for (const Node& n : nodes_)
    for (int r = 0; n.ruled() && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (axis_[row].kind == Kind::softStop && state_[row] == State::set) sign_[row] = 0;
      if (axis_[row].kind == Kind::spring || state_[row] == State::spring) aimSpring(n, r, h, share);
    }
}

void Assembly::speedUp(double time) {
  if (!speedsUp_) return;
  for (Axis& axis : axis_)
    if (axis.kind == Kind::stop || axis.kind == Kind::winch) axis.def.speed += time * axis.def.acceleration;
}

void Assembly::wind(double h) {
  if (!winds_) return;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (axis_[row].kind != Kind::winch) continue;
      double& length = axis_[row].def.high;
      // What slipped out under the cap has been given out.
      if (state_[row] == State::set && sign_[row] < 0) {
        length = std::max(length, fresh_[n.memory + r]);
        state_[row] = State::atHigh;
      }
      length = std::max(std::min(length, shortestRope(row)), length + h * axis_[row].def.speed);
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
    build(bodies, h);
    pushAtCaps(bodies, 1);
    for (const Node& n : nodes_)
      for (int r = 0; r < n.rows; ++r) {
        const int row = n.offset + r;
        if (states[row] != State::spring || n.released) continue;
        const SpringLaw law = lawOf(row);
        const double force = -law.stiffness * stretchOf(n, r) - law.damping * rateNow_[row];
        setImpulse(bodies, n, row, force);
      }
  }
  relax(bodies);
  // The engine's own compliance is there to share loads, not to be felt: over short steps the answer would lean on the
  // last forces, which are means and carry the round-off of positions over h^2.
  constexpr int kRefinements = 2;
  for (int i = 0; looped_ && i < kRefinements; ++i) {
    for (const Node& n : nodes_)
      for (int row = n.offset; parts_[n.index].compliance == 0 && row < n.offset + n.rows; ++row)
        target_[row] = gamma_[row] * impulse_[row] - bend[row];
    relax(bodies);
  }
  state_ = states;
}

void Assembly::setImpulse(std::vector<Body>& bodies, const Node& n, int row, double impulse) {
  const double change = impulse - impulse_[row];
  impulse_[row] = impulse;
  push(bodies, n, row - n.offset, change);
}

bool Assembly::revise(std::vector<Body>& bodies, double h, double time, Revision which) {
  if (!hasAxes_) return false;
  // Of all rows before any changes: what lets go moves the bodies alone, until the joints are solved again.
  notePresentRates(bodies, revisedRates_);
  bool changed = false;
  for (const Node& n : nodes_) {
    if (!n.axes || n.released) continue;
    for (int r = 0; r < n.rows && !(which == Revision::first && changed); ++r) {
      const int row = n.offset + r;
      const double rate = revisedRates_[row];
      if (which == Revision::untired && isTired(row)) continue;
      const bool before = std::exchange(changed, false);
      switch (axis_[row].kind) {
        case Kind::stop:
        case Kind::friction:
          changed |= reviseStop(n, r, rate, h, time, bodies);
          break;
        case Kind::softStop:
          changed |= reviseSoftStop(n, r, rate, h, time, bodies);
          break;
        case Kind::spring:
          changed |= reviseSpring(n, r, rate, time, bodies);
          break;
        case Kind::winch:
          changed |= reviseWinch(n, r, rate, h, time, bodies);
          break;
        case Kind::lock:
          break;
      }
      if (changed && which == Revision::untired) ++turns_[row];
      changed |= before;
    }
  }
  if (changed) build(bodies, h);
  revised_ |= changed;
  return changed;
}

bool Assembly::isTired(int row) const {
  constexpr int kMostTurns = 6;
  return turns_[row] >= kMostTurns && (state_[row] >= State::atLow || (state_[row] == State::set && sign_[row] != 0));
}

void Assembly::become(std::vector<Body>& bodies, const Node& n, int row, State state, int sign, double impulse) {
  state_[row] = state;
  sign_[row] = static_cast<signed char>(sign);
  setImpulse(bodies, n, row, impulse);
}

// What is beyond a stop already, by a changed range or a step that was not solved, is brought back gently.
Assembly::Range Assembly::rangeWithin(const Node& n, int r, double h) const {
  constexpr double kClosingSpeed = 0.1;  // m/s or rad/s
  const AxisDef& def = axis_[n.offset + r].def;
  if (!def.hasHardStops()) return {-kNoLimit, kNoLimit};
  const double at = rows_[n.memory + r], now = kClosingSpeed * h;
  return {std::min(def.low, at + now), std::max(def.high, at - now)};
}

void Assembly::holdWithin(int row, const Range& range) {
  const AxisDef& def = axis_[row].def;
  offset_[row] = state_[row] == State::atHigh ? range.high - def.high : range.low - def.low;
}

bool Assembly::reviseStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies) {
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  // Where nothing moves on, only what goes further beyond its stop is to be held: some are beyond it by round-off.
  const bool still = lookAhead_ == 0;
  if (def.isLocked() || (still && grazed_[row])) return false;
  const Range range = rangeWithin(n, r, h);
  const double p = impulse_[row];
  const double ahead = aheadOf(n, r, rate), tiny = 1e-12 * (1 + std::abs(rate));
  const State before = state_[row];
  const signed char signBefore = sign_[row];
  if (before >= State::atLow) {
    if (pullOfStop(row, time) > 1e-12 * std::abs(p)) letGo(bodies, n, row, time);
  } else if (ahead > range.high + tiny * h && (!still || rate > 0)) {
    become(bodies, n, row, State::atHigh, 0, p);
  } else if (ahead < range.low - tiny * h && (!still || rate < 0)) {
    become(bodies, n, row, State::atLow, 0, p);
  } else if (before == State::drive) {
    if (const Slip slip = slipOf(n, r, h, time); slip.sign != 0)
      become(bodies, n, row, State::set, slip.sign, slip.impulse);
  } else if (def.hasDrive()) {
    // At its cap and, on the way, past the speed for which it pushes: it can hold that speed again.
    constexpr double kContactTolerance = 1e-5;  // m/s or rad/s
    const double mean = rate + bendAhead(row) / h;
    const double slack = near_ && turns_[row] > 0 ? tiny + kContactTolerance + leewayOf(row) : tiny;
    const bool past = sign_[row] > 0 ? mean > def.speed + slack : mean < def.speed - slack;
    // Not beside a motor that runs or rests at its stop: then friction is against its way.
    const int motor = axis_[row].motor;
    if (motor < 0 || !inSystem(motor)) {
      if (sign_[row] == 0 || past) become(bodies, n, row, State::drive, 0, p);
    } else if (sign_[row] == 0) {
      const int sign = axis_[motor].def.speed > 0 ? -1 : 1;
      become(bodies, n, row, State::set, sign, sign * def.drive() * time);
    }
  }
  if (state_[row] >= State::atLow) {
    if (before < State::atLow) holdWithin(row, range);
    target_[row] = -(errorOf(rows_, n, r) - offset_[row] + bendAhead(row)) / h;
  }
  if (state_[row] == State::drive) target_[row] = def.speed - bendAhead(row) / h;
  return state_[row] != before || sign_[row] != signBefore;
}

bool Assembly::catchOvershoot(const std::vector<Body>& bodies, double h) {
  constexpr double kTolerance = 1e-8;  // m or rad
  if (!hasAxes_) return false;
  bool changed = false;
  for (const Node& n : nodes_) {
    if (!n.axes || n.released) continue;
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      if (axis_[row].kind != Kind::stop || held(row)) continue;
      const double at = fresh_[n.memory + r];
      const Range range = rangeWithin(n, r, h);
      if (at <= range.high + kTolerance && at >= range.low - kTolerance) continue;
      state_[row] = at > range.high ? State::atHigh : State::atLow;
      sign_[row] = 0;
      holdWithin(row, range);
      changed = true;
    }
  }
  if (changed) build(bodies, h);
  return changed;
}

// A soft stop is a spring while it would push.
bool Assembly::reviseSoftStop(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies) {
  constexpr signed char kLetGo = 2;  // in this very solution, and not to be tried again
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  if (state_[row] == State::spring) {
    if (impulse_[row] * sign_[row] <= 0 && reachOf(n, r, h, time / h).share > 0) return false;
    become(bodies, n, row, State::set, kLetGo, 0);
    return true;
  }
  const double now = rows_[n.memory + r], end = now + lookAhead_ * rate;
  const auto [behind, ahead] =
      followsStop(n, r, h) ? passedIn(n, r, h, time / h) : Range{std::min(now, end), std::max(now, end)};
  const int side = ahead > def.high ? 1 : behind < def.low ? -1 : 0;
  if (side == 0 || sign_[row] == kLetGo) return false;
  state_[row] = State::spring;
  sign_[row] = static_cast<signed char>(side);
  build(bodies, h);  // for the row's coefficients
  aimSpring(n, r, h, time / h);
  return true;
}

bool Assembly::reviseSpring(const Node& n, int r, double rate, double time, std::vector<Body>& bodies) {
  const int row = n.offset + r;
  const double cap = axis_[row].def.springCap * time;
  if (cap == kNoLimit) return false;
  if (state_[row] == State::spring) {
    if (std::abs(impulse_[row]) <= cap) return false;
    const int sign = impulse_[row] > 0 ? 1 : -1;
    become(bodies, n, row, State::set, sign, sign * cap);
    return true;
  }
  // What its law asks for at this rate is within the cap again.
  const double asked = (target_[row] - rate) * springStep_[row].inertia;
  if (sign_[row] * asked > cap) return false;
  become(bodies, n, row, State::spring, 0, impulse_[row]);
  return true;
}

bool Assembly::reviseWinch(const Node& n, int r, double rate, double h, double time, std::vector<Body>& bodies) {
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  const double p = impulse_[row], slack = 1e-12 * std::abs(p), least = def.cap > 0 ? -def.cap * time : -kNoLimit;
  if (state_[row] == State::atHigh) {
    if (p > slack)
      become(bodies, n, row, State::set, 0, 0);
    else if (p < least - slack)
      become(bodies, n, row, State::set, -1, least);
    else
      return false;
    return true;
  }
  const double ahead = aheadOf(n, r, rate);
  const bool taut =
      sign_[row] == 0 && ahead > def.high + 1e-12 * h * (1 + std::abs(rate)) && (lookAhead_ > 0 || rate > def.speed);
  if (!taut) return false;
  become(bodies, n, row, State::atHigh, 0, p);
  target_[row] = -(errorOf(rows_, n, r) - offset_[row] + bendAhead(row)) / h;
  return true;
}

void Assembly::readAxes(int node, JointReading& reading) const {
  const Node& n = nodes_[node];
  if (!n.axes) return;
  if (n.firstOnAxes) reading.activity.fill(0);
  for (int r = 0; r < n.rows; ++r) {
    const int row = n.offset + r;
    const Axis& axis = axis_[row];
    const int k = axis.number;
    reading.effort[k] += impulse_[row];
    unsigned bits = 0;
    if (axis.kind == Kind::softStop && state_[row] == State::spring) bits = sign_[row] < 0 ? kAtLowStop : kAtHighStop;
    if (state_[row] == State::atLow) bits = kAtLowStop;
    if (state_[row] == State::atHigh) bits = axis.def.isLocked() ? kAtLowStop | kAtHighStop : kAtHighStop;
    const bool atCap = state_[row] == State::set && sign_[row] != 0;
    if (atCap && (axis.kind == Kind::winch || (axis.kind == Kind::stop && axis.def.cap > 0))) bits = kMotorAtCap;
    if (atCap && axis.kind == Kind::spring) bits = kSpringAtCap;
    reading.activity[k] |= bits;
  }
}

void Assembly::storeAxes(int node, std::array<Winding, kMaxAxes>& windings, std::array<AxisDef, kMaxAxes>& axes) {
  const Node& n = nodes_[node];
  for (int r = 0; n.axes && r < n.rows; ++r) {
    Axis& axis = axis_[n.offset + r];
    windings[axis.number] = axis.winding;
    if (axis.kind == Kind::winch) axes[axis.number].high = axis.def.high;
    if (axis.def.acceleration == 0) continue;
    axes[axis.number].speed = axis.def.speed;
    axis.def.acceleration = axes[axis.number].acceleration = 0;
  }
}

void Assembly::reset(const std::array<Winding, kMaxAxes>& windings, const std::array<AxisDef, kMaxAxes>& axes,
                     int node) {
  const Node& n = nodes_[node];
  for (int r = 0; n.axes && r < n.rows; ++r) {
    Axis& axis = axis_[n.offset + r];
    axis.winding = windings[axis.number];
    axis.def = defOf(axis.kind, axes[axis.number], axis.yields);
    state_[n.offset + r] = axis.kind == Kind::spring                        ? State::spring
                           : axis.kind == Kind::stop && axis.def.isLocked() ? State::atHigh
                                                                            : State::set;
  }
}

void Assembly::forget() {
  for (auto* v : {&impulse_, &delta_, &curvature_, &force_, &offset_, &rateBefore_, &rateEarlier_, &rateNow_,
                  &rateAtRest_, &work_, &target_})
    std::fill(v->begin(), v->end(), 0.0);
  std::fill(sign_.begin(), sign_.end(), static_cast<signed char>(0));
  budget_ = 0;
}

bool Assembly::sendsBack() const {
  return hasAxes_ && std::any_of(axis_.begin(), axis_.end(), [](const Axis& axis) { return axis.sendsBack(); });
}

}  // namespace calm
