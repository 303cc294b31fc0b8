// SPDX-License-Identifier: GPL-3.0-or-later
// Friction, motors, stops and capped springs of long chains, settled together: each acts on all others, and what
// changes sides one after the other would take more solutions than there are joints.
#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/math/interior_point.h"
#include "engine/math/panels.h"
#include "engine/solve/assembly.h"

namespace calm {

namespace {

constexpr double kUnbounded = std::numeric_limits<double>::infinity();

}  // namespace

int Assembly::placeOf(const Bounded& bounded) const {
  const Node& n = nodes_[bounded.node];
  int i = 0;
  while (n.offset + usedRow(n, i) != bounded.row) ++i;
  return n.place + i;
}

// Brings into the system what holds or pushes at its cap, with the target of what holds.
std::vector<Assembly::Bounded> Assembly::takeBounded(double h, double time) {
  std::vector<Bounded> taken;
  for (const Node& n : nodes_)
    for (int r = 0; n.axes && !n.released && r < n.rows; ++r) {
      const int row = n.offset + r;
      const Axis& axis = axis_[row];
      const auto take = [&](double low, double high) { taken.push_back({n.index, row, low, high}); };
      switch (axis.kind) {
        case Kind::stop:
        case Kind::friction: {
          if (axis.def.isLocked()) break;
          // What a motor runs against, or rests at its stop, has friction that is given.
          const bool given = axis.motor >= 0 && inSystem(axis.motor);
          const double most = axis.def.drive() * time;
          if (state_[row] == State::atLow)
            take(driveAtStop(row, time), kUnbounded);
          else if (state_[row] == State::atHigh)
            take(-kUnbounded, driveAtStop(row, time));
          else if (axis.def.hasDrive() && !given) {
            state_[row] = State::drive;
            target_[row] = axis.def.speed - bendAhead(row) / h;
            take(-most, most);
          }
          break;
        }
        case Kind::spring:
          if (const double cap = axis.def.springCap * time; cap > 0 && cap < kNoLimit) {
            state_[row] = State::spring;
            take(-cap, cap);
          }
          break;
        default:
          break;
      }
    }
  return taken;
}

void Assembly::leaveBounded(std::vector<Body>& bodies, const Bounded& bounded) {
  const Node& n = nodes_[bounded.node];
  const int row = bounded.row, side = bounded.side;
  if (side == 0) {
    sign_[row] = 0;
    return;
  }
  const bool stop = state_[row] >= State::atLow, drives = axis_[row].kind == Kind::stop && axis_[row].def.hasDrive();
  const int sign = !stop ? side : drives ? (drivesUp(row) ? 1 : -1) : 0;
  become(bodies, n, row, State::set, sign, side < 0 ? bounded.low : bounded.high);
}

bool Assembly::settleBounds(std::vector<Body>& bodies, double h, double time) {
  constexpr std::size_t kFew = 24;  // are settled as soon one after the other
  const std::vector<State> before = state_;
  std::vector<Bounded> rows = takeBounded(h, time);
  if (rows.size() < kFew) {
    state_ = before;
    return false;
  }
  creeps_ = true;
  settle(bodies, h, rows);
  if (turnBounds(bodies, h, time, rows)) settle(bodies, h, rows);
  for (const Bounded& b : rows) leaveBounded(bodies, b);
  build(bodies, h);
  return true;
}

// Within the bounds, with all of them in the system.
void Assembly::settle(std::vector<Body>& bodies, double h, std::vector<Bounded>& rows) {
  constexpr int kSteps = 60;
  build(bodies, h);
  const std::size_t count = rows.size();
  std::vector<int> places;
  std::vector<InteriorPoint::Bounds> bounds;
  std::vector<double> mobilities;
  for (const Bounded& b : rows) {
    places.push_back(placeOf(b));
    bounds.push_back({b.low, b.high});
    mobilities.push_back(ownMobility(bodies, nodes_[b.node], b.row - nodes_[b.node].offset) + gamma_[b.row]);
  }
  const auto ofRows = [&] {
    std::vector<double> values(count);
    for (std::size_t i = 0; i < count; ++i) values[i] = delta_[places[i]];
    return values;
  };
  InteriorPoint interior(bounds, mobilities);
  noteLack(bodies);
  const std::vector<double> first = ofRows();
  for (std::size_t i = 0; i < count; ++i)
    setImpulse(bodies, nodes_[rows[i].node], rows[i].row, interior.begin(i, impulse_[rows[i].row], first[i]));
  noteLack(bodies);
  interior.start(ofRows());
  for (int step = 0; step < kSteps && !interior.isDone(); ++step) {
    barrier_.assign(state_.size(), 0);
    for (std::size_t i = 0; i < count; ++i) barrier_[rows[i].row] = interior.barrier(i);
    build(bodies, h);
    noteLack(bodies);
    const std::vector<double> lack = delta_;
    cholesky_.solve(delta_.data());
    interior.predict(ofRows());
    delta_ = lack;
    for (std::size_t i = 0; i < count; ++i) delta_[places[i]] += interior.centring(i);
    cholesky_.solve(delta_.data());
    // What is too badly conditioned is left to the changes one by one.
    if (!std::all_of(delta_.begin(), delta_.end(), [](double d) { return std::isfinite(d); })) break;
    interior.advance(ofRows());
    for (double& d : delta_) d *= interior.step();
    push(bodies);
  }
  barrier_.clear();
  for (std::size_t i = 0; i < count; ++i)
    rows[i].side = static_cast<int>(interior.sideOf(i)), rows[i].pressure = interior.pressureOf(i);
}

// What mobilityAmongHeld() tells of one row, of many at once.
std::vector<double> Assembly::mobilitiesAmongHeld(const std::vector<Bounded*>& rows) const {
  constexpr int kWidth = panels::kWidth;
  std::vector<double> mobilities, panel(static_cast<std::size_t>(cholesky_.size()) * kWidth);
  for (std::size_t first = 0; first < rows.size(); first += kWidth) {
    const std::size_t count = std::min<std::size_t>(kWidth, rows.size() - first);
    std::fill(panel.begin(), panel.end(), 0.0);
    for (std::size_t i = 0; i < count; ++i) panel[placeOf(*rows[first + i]) * kWidth + i] = 1;
    cholesky_.solveHalf(panel.data(), kWidth);
    std::array<double, kWidth> squared{};
    for (std::size_t at = 0; at < panel.size(); at += kWidth)
      for (int i = 0; i < kWidth; ++i) squared[i] += panel[at + i] * panel[at + i];
    for (std::size_t i = 0; i < count; ++i) mobilities.push_back(1 / squared[i]);
  }
  return mobilities;
}

// Drives that slid on one side of their speed and have come to the other push one way first and the other then (see
// slipOf()): their far bound lies between, where a constant load would have had them turn. Returns whether there are
// any.
bool Assembly::turnBounds(const std::vector<Body>& bodies, double h, double time, std::vector<Bounded>& rows) {
  constexpr double kNearest = 0.999;  // of the way to the other bound
  const auto turns = [&](const Bounded& b) {
    const int came = slidFrom_[b.row];
    return state_[b.row] == State::drive && came != 0 && b.side != came &&
           excessOf(nodes_[b.node], b.row - nodes_[b.node].offset, h, time) > 0;
  };
  std::vector<Bounded*> turning;
  for (Bounded& b : rows)
    if (turns(b)) turning.push_back(&b);
  if (turning.empty()) return false;
  const std::vector<State> all = state_;
  for (const Bounded& b : rows)
    if (b.side != 0 && !turns(b)) state_[b.row] = State::set;
  build(bodies, h);
  const std::vector<double> mobilities = mobilitiesAmongHeld(turning);
  for (std::size_t i = 0; i < turning.size(); ++i) {
    Bounded* b = turning[i];
    const Node& n = nodes_[b->node];
    const int came = slidFrom_[b->row];
    const double excess = excessOf(n, b->row - n.offset, h, time), mobility = mobilities[i];
    const double both = mobility * (b->high - b->low), beyond = b->side == 0 ? 0 : b->pressure;
    // With the load's own change of rate U: beyond = U (1 - share), share = excess / (U + both).
    const double half = (both - excess - beyond) / 2;
    const double change = std::sqrt(half * half + both * beyond) - half;
    const double turned = (b->high - b->low) * std::min(kNearest, excess / (change + both));
    heldMobility_[b->row] = mobility;
    (came > 0 ? b->low : b->high) += came * turned;
  }
  state_ = all;
  return true;
}

}  // namespace calm
