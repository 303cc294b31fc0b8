// SPDX-License-Identifier: GPL-3.0-or-later
// Impacts on stops.
#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

#include "engine/solve/assembly.h"
#include "engine/solve/drift.h"

namespace calm {

namespace {

constexpr double kStrike = 0.01;  // m/s or rad/s; what comes slower stays
// Strikes within this fraction of the step are one.
constexpr double kTogether = 0.01;
constexpr double kNever = std::numeric_limits<double>::infinity();

}  // namespace

bool Assembly::isStruckAtTouch(const Axis& axis) const {
  return axis.sendsBack() || (fewStops_ && axis.stopsHard());
}

Assembly::StopTouch Assembly::touchOfStop(const Node& n, int r, double rate) const {
  const int row = n.offset + r;
  const Axis& axis = axis_[row];
  const AxisDef& def = axis.def;
  if (!n.axes || n.released || std::abs(rate) <= kStrike || !isStruckAtTouch(axis)) return {kNever, 0};
  const double at = rows_[n.memory + r], gap = std::max(0.0, rate > 0 ? def.high - at : at - def.low);
  if (std::isinf(gap)) return {kNever, 0};
  // It goes on as over the closing half kick, unless it was struck since.
  const bool steady = closingSpan_ > 0 && std::abs(rate - rateAtRest_[row]) <= 1e-9 * std::abs(rate);
  const double speed = std::abs(rate), towards = std::copysign(1, rate);
  const double gathering = steady ? (rate - rateBefore_[row]) / closingSpan_ + bendOf(row) : 0;
  const double squared = speed * speed + 2 * gap * towards * gathering;
  if (squared < 0) return {kNever, 0};
  const double after = 2 * gap / (std::sqrt(squared) + speed);
  // What bends so much that its speed is another at the touch is held where the substep ends, if it is to stay.
  constexpr double kSteady = 0.2;
  if (!axis.sendsBack() && std::abs(after * gathering) > kSteady * speed) return {kNever, 0};
  return {after, after * gathering};
}

void Assembly::letStrike(const std::vector<Body>& bodies, double h) {
  if (!hasAxes_) return;
  bool any = false;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && r < n.rows; ++r) {
      const int row = n.offset + r;
      if (!grazed_[row]) continue;
      const double rate = rateOf(n, r, bodies);
      grazed_[row] = (state_[row] == State::atHigh ? rate : -rate) > kStrike;
      if (!grazed_[row]) continue;
      state_[row] = State::set;
      any = true;
    }
  if (any) build(bodies, h);
}

bool Assembly::wouldStrikeStops(const std::vector<Body>& bodies, double h) const {
  if (!struck_) return false;
  const auto would = [&](const Node& n, int r) {
    const double rate = rateOf(n, r, bodies);
    // The rate may be that of half a step ago, or what it gathered that of a half kick.
    const double change = 2 * (rate - rateBefore_[n.offset + r]) + h * bendOf(n.offset + r);
    const double gathered = std::max(0.0, std::copysign(1, rate) * change);
    const double speed = std::abs(rate), after = touchOfStop(n, r, rate).after;
    return after < h || after * speed < h * (speed + gathered);
  };
  return std::any_of(nodes_.begin(), nodes_.end(), [&](const Node& n) {
    for (int r = 0; n.axes && r < n.rows; ++r)
      if (would(n, r)) return true;
    return false;
  });
}

double Assembly::nextStop(const std::vector<Body>& bodies) const {
  double next = kNever;
  if (!struck_) return next;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && r < n.rows; ++r) next = std::min(next, touchOfStop(n, r, rateOf(n, r, bodies)).after);
  return (1 - 2 * kTogether) * next;
}

int Assembly::sideRestedAt(const Node& n, int r) const {
  constexpr double kTouch = 1e-8;  // m or rad
  const int row = n.offset + r;
  const AxisDef& def = axis_[row].def;
  if (!n.axes || def.isLocked()) return 0;
  if (state_[row] >= State::atLow) return state_[row] == State::atHigh ? 1 : -1;
  // What came to its stop and is held there by its friction.
  if (state_[row] != State::drive || def.speed != 0 || !def.hasHardStops()) return 0;
  const double at = rows_[n.memory + r];
  return at > def.high - kTouch ? 1 : at < def.low + kTouch ? -1 : 0;
}

void Assembly::openImpact(const std::vector<Body>& bodies, double step) {
  impactStep_ = step;
  statesBefore_ = state_;
  signsBefore_ = sign_;
  impactSide_.assign(state_.size(), 0);
  std::fill(impulse_.begin(), impulse_.end(), 0);
  for (const Node& n : nodes_)
    for (int r = 0; r < n.rows; ++r) {
      const int row = n.offset + r;
      impactSide_[row] = static_cast<signed char>(sideRestedAt(n, r));
      if (state_[row] == State::drive || state_[row] == State::spring) state_[row] = State::set;
      if (state_[row] == State::set) sign_[row] = 0;
      target_[row] = speedOf(row);
    }
  build(bodies, step);
}

void Assembly::closeImpact() {
  state_ = statesBefore_;
  sign_ = signsBefore_;
  impactStep_ = 0;
}

bool Assembly::relaxImpact(std::vector<Body>& bodies) {
  constexpr int kRevisions = 40, kTogether = 4;
  relax(bodies);
  int revisions = 0;
  for (; revisions < kRevisions && reviseImpact(bodies, revisions >= kTogether); ++revisions) relax(bodies);
  return revisions > 0;
}

// As revise(), but of what is at its stop alone.
bool Assembly::reviseImpact(std::vector<Body>& bodies, bool one) {
  if (!hasAxes_) return false;
  notePresentRates(bodies, revisedRates_);
  bool changed = false;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows && !(one && changed); ++r) {
      const int row = n.offset + r, side = impactSide_[row];
      if (side == 0) continue;
      const double rate = revisedRates_[row], beyond = side * (rate - target_[row]);
      if (state_[row] == State::set) {
        if (beyond <= 1e-12 * (1 + std::abs(rate))) continue;
        state_[row] = side > 0 ? State::atHigh : State::atLow;
      } else {
        if (side * impulse_[row] <= 0) continue;
        become(bodies, n, row, State::set, 0, 0);
      }
      changed = true;
    }
  if (changed) build(bodies, impactStep_);
  return changed;
}

bool Assembly::reflectAtStops(std::vector<Body>& bodies, double h, double step, bool firstOnly) {
  std::fill(impulse_.begin(), impulse_.end(), 0);
  std::fill(work_.begin(), work_.end(), 0);
  if (!hasAxes_) return false;
  const double first = nextStop(bodies) / (1 - 2 * kTogether);
  if (first >= h) return false;
  const double latest = (firstOnly ? first : h) + kTogether * h;
  std::vector<Strike> strikes;
  notePresentRates(bodies, rateNow_);
  openImpact(bodies, step);
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && r < n.rows; ++r) {
      const int row = n.offset + r;
      const double rate = rateNow_[row];
      const StopTouch touch = touchOfStop(n, r, rate);
      if (touch.after > latest) continue;
      impactSide_[row] = rate > 0 ? 1 : -1;
      state_[row] = rate > 0 ? State::atHigh : State::atLow;
      target_[row] = -touch.gained;
      strikes.push_back({row, touch.gained, -axis_[row].def.restitution * (rate + touch.gained) - touch.gained});
    }
  const std::vector<BodyMotion> before = motionsOf(bodies);
  build(bodies, step);
  const bool struck = strikeStops(bodies, strikes, first);
  noteWork(bodies, &Body::spin);
  // At the touch, both rates are as much higher.
  for (const Strike& s : strikes) work_[s.row] += impulse_[s.row] * s.gained;
  // The bodies go on as they came until they touch, and only then back: they are put where the new velocities come
  // from, unless they turn too far for that within the step.
  constexpr double kFar = 0.1;  // rad
  const std::vector<BodyMotion> change = sum(before, -1, motionsOf(bodies));
  const auto turnsFar = [&](const BodyMotion& m) { return !(first * m.spin.norm() < kFar); };
  if (struck && std::none_of(change.begin(), change.end(), turnsFar))
    for (std::size_t i = 0; i < dynamicBodies_.size(); ++i)
      moveBy(bodies[dynamicBodies_[i]], first * change[i].velocity, first * change[i].spin);
  closeImpact();
  return struck;
}

// First stops the rows, then sends them back. Several at a time may gain energy by that: then what comes between the
// two and keeps it is taken, or nothing done if stopping alone gains.
bool Assembly::strikeStops(std::vector<Body>& bodies, const std::vector<Strike>& strikes, double first) {
  constexpr double kRoundOff = 1e-9;
  std::vector<BodyMotion> gathered;  // until the touch
  for (const BodyId id : dynamicBodies_) {
    const Body& b = bodies[id];
    const double share = b.spanBefore > 0 ? first / b.spanBefore : 0;
    gathered.push_back({share * (b.velocity - b.velocityBefore), share * (b.spin - b.spinBefore)});
  }
  const auto atTouch = [&] { return sum(motionsOf(bodies), 1, gathered); };
  const auto setMotions = [&](const std::vector<BodyMotion>& motions) {
    for (std::size_t i = 0; i < motions.size(); ++i) {
      bodies[dynamicBodies_[i]].velocity = motions[i].velocity - gathered[i].velocity;
      bodies[dynamicBodies_[i]].spin = motions[i].spin - gathered[i].spin;
    }
  };
  const auto energyOf = [&](const std::vector<BodyMotion>& motions) {
    double all = 0;
    for (std::size_t i = 0; i < motions.size(); ++i)
      all += bodies[dynamicBodies_[i]].kineticEnergyAt(motions[i].velocity, motions[i].spin);
    return all;
  };
  const std::vector<BodyMotion> before = atTouch();
  const double had = energyOf(before) * (1 + kRoundOff);
  relaxImpact(bodies);
  const std::vector<BodyMotion> stopped = atTouch();
  // What is moved brings or takes energy of its own.
  const double left = energyOf(stopped) - workOfMoved(bodies);
  if (left > had) {
    setMotions(before);
    std::fill(impulse_.begin(), impulse_.end(), 0);
    return false;
  }
  const std::vector<double> stopping = impulse_;
  for (const Strike& s : strikes) target_[s.row] = s.back;
  relaxImpact(bodies);
  const std::vector<BodyMotion> sentBack = atTouch(), change = sum(sentBack, -1, stopped);
  const double changing = energyOf(change), mixed = energyOf(sentBack) - workOfMoved(bodies) - left - changing;
  if (left + changing + mixed <= had) return true;
  const double share = (std::sqrt(mixed * mixed + 4 * changing * (had - left)) - mixed) / (2 * changing);
  setMotions(sum(stopped, share, change));
  for (std::size_t i = 0; i < impulse_.size(); ++i) impulse_[i] = stopping[i] + share * (impulse_[i] - stopping[i]);
  return true;
}

std::vector<Assembly::BodyMotion> Assembly::motionsOf(const std::vector<Body>& bodies) const {
  std::vector<BodyMotion> all;
  for (const BodyId id : dynamicBodies_) all.push_back({bodies[id].velocity, bodies[id].spin});
  return all;
}

std::vector<Assembly::BodyMotion> Assembly::sum(std::vector<BodyMotion> a, double share,
                                                const std::vector<BodyMotion>& b) {
  for (std::size_t i = 0; i < a.size(); ++i) {
    a[i].velocity += share * b[i].velocity;
    a[i].spin += share * b[i].spin;
  }
  return a;
}

}  // namespace calm
