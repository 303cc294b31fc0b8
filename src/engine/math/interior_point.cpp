// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/interior_point.h"

#include <algorithm>
#include <cmath>

namespace calm {

namespace {

constexpr double kLeastLack = 1e-9;  // m/s or rad/s

}  // namespace

InteriorPoint::InteriorPoint(const std::vector<Bounds>& bounds, const std::vector<double>& mobility)
    : mobility_(mobility) {
  for (std::size_t i = 0; i < bounds.size(); ++i) {
    walls_.push_back({static_cast<int>(i), 1, bounds[i].low});
    walls_.push_back({static_cast<int>(i), -1, bounds[i].high});
  }
}

double InteriorPoint::begin(int i, double p, double lack) {
  constexpr double kMargin = 0.1;  // of what lies between two bounds
  Wall &low = walls_[2 * i], &high = walls_[2 * i + 1];
  const double between = high.bound - low.bound;
  const double margin = std::isfinite(between) ? kMargin * between : (std::abs(lack) + kLeastLack) / mobility_[i];
  const double start = std::max(std::min(p, high.bound - margin), low.bound + margin);
  low.room = start - low.bound;
  high.room = high.bound - start;
  return start;
}

void InteriorPoint::start(const std::vector<double>& lacks) {
  double sum = 0;
  int there = 0;
  for (const Wall& w : walls_)
    if (w.isThere()) sum += (std::abs(lacks[w.unknown]) + kLeastLack) * w.room, ++there;
  firstGap_ = gap_ = sum / there;
  for (Wall& w : walls_)
    if (w.isThere()) w.pressure = std::max(-w.towards * lacks[w.unknown], 0.0) + gap_ / w.room;
  gap_ = gapAfter(0);
}

double InteriorPoint::barrier(int i) const {
  double sum = 0;
  for (int side = 0; side < 2; ++side)
    if (const Wall& w = walls_[2 * i + side]; w.isThere()) sum += w.pressure / w.room;
  return sum;
}

void InteriorPoint::predict(const std::vector<double>& change) {
  for (Wall& w : walls_) {
    if (!w.isThere()) continue;
    w.roomChange = w.towards * change[w.unknown];
    w.pressureChange = -w.pressure * (1 + w.roomChange / w.room);
  }
  const double left = gapAfter(largestStep(1)) / gap_;
  aim_ = left * left * left * gap_;
}

double InteriorPoint::centring(int i) const {
  double sum = 0;
  for (int side = 0; side < 2; ++side)
    if (const Wall& w = walls_[2 * i + side]; w.isThere())
      sum += w.towards * (aim_ - w.roomChange * w.pressureChange) / w.room;
  return sum;
}

void InteriorPoint::advance(const std::vector<double>& change) {
  constexpr double kAway = 0.99;  // of the way to the nearest wall
  for (Wall& w : walls_) {
    if (!w.isThere()) continue;
    const double bent = w.roomChange * w.pressureChange;
    w.roomChange = w.towards * change[w.unknown];
    w.pressureChange = (aim_ - bent - w.pressure * w.roomChange) / w.room - w.pressure;
  }
  step_ = largestStep(kAway);
  for (Wall& w : walls_) {
    const double room = w.room, pressure = w.pressure;
    w.room += step_ * w.roomChange;
    w.pressure += step_ * w.pressureChange;
    w.closes = w.isThere() && w.room * pressure < w.pressure * room;
  }
  gap_ = gapAfter(0);
  missed_ *= 1 - step_;
}

bool InteriorPoint::isDone() const {
  constexpr double kClosed = 1e-14, kMissed = 1e-8;
  return gap_ <= kClosed * firstGap_ && missed_ <= kMissed;
}

InteriorPoint::Side InteriorPoint::sideOf(int i) const {
  return walls_[2 * i].closes ? Side::low : walls_[2 * i + 1].closes ? Side::high : Side::between;
}

double InteriorPoint::pressureOf(int i) const {
  return std::max(walls_[2 * i].pressure, walls_[2 * i + 1].pressure);
}

double InteriorPoint::largestStep(double share) const {
  double most = 1 / share;
  for (const Wall& w : walls_) {
    if (w.roomChange < 0) most = std::min(most, -w.room / w.roomChange);
    if (w.pressureChange < 0) most = std::min(most, -w.pressure / w.pressureChange);
  }
  return share * most;
}

double InteriorPoint::gapAfter(double step) const {
  double sum = 0;
  int there = 0;
  for (const Wall& w : walls_)
    if (w.isThere()) sum += (w.room + step * w.roomChange) * (w.pressure + step * w.pressureChange), ++there;
  return sum / there;
}

}  // namespace calm
