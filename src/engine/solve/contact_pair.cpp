// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_pair.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

namespace calm {

namespace {

// The point, or the line between two, at which a manifold touches.
struct Touch {
  Vec3 middle;
  int points;
};
std::optional<Touch> touchOf(const Manifold& m) {
  const double furthest = m.gapTogether();
  Touch touch{Vec3::Zero(), 0};
  for (const ManifoldPoint& p : m.points)
    if (p.gap < furthest) touch.middle += p.position, ++touch.points;
  if (m.touchTime > 0 || touch.points == 0 || touch.points > 2) return {};
  touch.middle /= touch.points;
  return touch;
}

}  // namespace

double ContactPair::Kept::movedSince(const Body& a, const Body& b) const {
  const Vec3 now = a.axes.transpose() * (b.position - a.position);
  return (now - place).norm() + chordBetween(a.orientation.conjugate() * b.orientation, turn) * extent;
}

void ContactPair::keepNames(const Body& a) {
  constexpr double kSamePlace = 0.02;  // m
  if (manifold.points.size() == 1 && last.size() == 1) {
    manifold.points[0].id = last[0].id;
    return;
  }
  std::vector<char> taken(last.size(), 0);
  std::vector<ManifoldPoint*> strangers;
  for (ManifoldPoint& p : manifold.points) {
    const Vec3 place = a.axes.transpose() * (p.position - a.position);
    double nearest = kSamePlace;
    std::size_t match = last.size();
    for (std::size_t i = 0; i < last.size(); ++i)
      if (const double d = (last[i].onA - place).norm(); !taken[i] && last[i].id < kFirstCell && d < nearest)
        nearest = d, match = i;
    if (match < last.size())
      p.id = last[match].id, taken[match] = 1;
    else
      strangers.push_back(&p);
  }
  // A stranger may not bear a name that is in use.
  for (ManifoldPoint* p : strangers)
    for (bool clash = true; clash;) {
      clash = std::any_of(manifold.points.begin(), manifold.points.end(),
                          [&](const ManifoldPoint& q) { return &q != p && q.id == p->id; });
      if (clash) ++p->id;
    }
}

// What is between two bodies, so that it can follow them while they hardly move against each other.
void ContactPair::keep(const Body& a, const Body& b, double reach, double slide, double extent) {
  kept.reach = reach;
  kept.slide = manifold.points.empty() ? reach : slide;
  kept.extent = extent;
  kept.place = a.axes.transpose() * (b.position - a.position);
  kept.turn = a.orientation.conjugate() * b.orientation;
  kept.known = manifold.points.empty() || manifold.normalOn != Manifold::Owner::neither;
  kept.points.clear();
  if (!kept.known || manifold.points.empty()) return;
  const Body& owner = manifold.normalOn == Manifold::Owner::a ? a : b;
  kept.normal = owner.axes.transpose() * manifold.normal;
  for (const ManifoldPoint& p : manifold.points) {
    const Vec3 half = manifold.normal * (p.gap / 2);
    kept.points.push_back({a.axes.transpose() * (p.position - half - a.position),
                           b.axes.transpose() * (p.position + half - b.position), p.id});
  }
}

bool ContactPair::follow(const Body& a, const Body& b, double margin) {
  if (!kept.known) return false;
  if (kept.movedSince(a, b) > std::min(kept.slide, kept.reach - margin)) return false;
  manifold.points.clear();
  manifold.touchTime = 0;
  if (kept.points.empty()) return true;
  const Body& owner = manifold.normalOn == Manifold::Owner::a ? a : b;
  manifold.normal = owner.axes * kept.normal;
  for (const Kept::Point& k : kept.points) {
    const Vec3 onA = a.position + a.axes * k.onA, onB = b.position + b.axes * k.onB;
    const double gap = (onB - onA).dot(manifold.normal);
    // Midway along the normal, as seen from the body that does not own it.
    const Vec3 at = manifold.normalOn == Manifold::Owner::a ? Vec3(onB - manifold.normal * (gap / 2))
                                                            : Vec3(onA + manifold.normal * (gap / 2));
    if (gap < margin) manifold.points.push_back({at, gap, k.id});
  }
  return true;
}

bool ContactPair::wandersUnknown() const {
  const std::optional<Touch> touch = touchOf(manifold);
  return touch && roll.points != touch->points;
}

void ContactPair::foresee(const Manifold& then, const Body& a, const Pose& pose, double now, double time,
                          double steadily) {
  const std::optional<Touch> touch = touchOf(manifold), later = touchOf(then);
  if (!touch || !later || touch->points != later->points) return;
  const Vec3 place = a.axes.transpose() * (touch->middle - a.position);
  const Vec3 way = pose.inverse().apply(later->middle) - place;
  if (steadily > 0 && way.norm() > steadily) return;
  roll.place = place;
  roll.rate = way / time;
  roll.before = steadily > 0 ? roll.rate : Vec3(Vec3::Zero());
  roll.at = now;
  roll.points = touch->points;
}

std::optional<ContactPair::Wandering> ContactPair::wander(const Body& a, const Body& b, double now, double span) {
  const std::optional<Touch> touch = touchOf(manifold);
  if (!touch) {
    roll.points = 0;
    return {};
  }
  const auto& [middle, points] = *touch;
  const Vec3 armA = middle - a.position, armB = middle - b.position;
  const Vec3 place = a.axes.transpose() * armA;
  // Seen again at the same instant, it goes on as it did.
  constexpr double kInstant = 1e-9;  // s
  const double since = now - roll.at;
  const bool goesOn = std::abs(roll.points) == points, moved = goesOn && since > kInstant;
  if (!goesOn) {
    roll.rate.setZero();
    roll.before.setZero();
  } else if (moved) {
    roll.before = roll.rate;
    roll.rate = (place - roll.place) / since;
  }
  const bool known = moved || roll.points == points;
  // What jumps from feature to feature does not roll. The touch of a disc that lies almost flat runs round its rim
  // faster than any point of it moves, but steadily; where that would be round a good part of it, there is no telling.
  constexpr double kSteady = 0.25, kFurthest = 0.25;
  const double fastest = (b.velocity - a.velocity).norm() + a.spin.norm() * armA.norm() + b.spin.norm() * armB.norm();
  const double rate = roll.rate.norm();
  const auto reach = [](const Body& body, const Vec3& arm) {
    return body.dynamic() ? arm.norm() : std::numeric_limits<double>::infinity();
  };
  const bool steady = (roll.rate - roll.before).norm() <= kSteady * rate &&
                      rate * span / 2 <= kFurthest * std::min(reach(a, armA), reach(b, armB));
  const bool rolls = known && (rate <= 2 * fastest || steady);
  roll.place = place;
  roll.at = now;
  roll.points = known ? points : -points;
  if (!rolls) return {};
  // The way over a round surface bends away from where it goes, but both leave that plane alike.
  const Vec3 over = a.axes * roll.rate, along = over - manifold.normal.dot(over) * manifold.normal;
  return Wandering{middle, a.velocityAt(armA) + along};
}

void ContactPair::passInterlaced(const Body& a, const Body& b, double size) {
  constexpr double kDepth = 5e-4, kShare = 0.02;  // m, and of the smaller part, that more than nearness is
  const double gap = manifold.points.empty() ? 1e300 : manifold.leastGap();
  if (std::exchange(fromTheStart, false))
    interlaced = a.jointed && a.assembly == b.assembly && gap < -std::max(kDepth, kShare * size);
  interlaced &= gap < 0;
  if (interlaced) manifold.points.clear();
}

}  // namespace calm
