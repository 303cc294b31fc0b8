// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/field.h"

#include <algorithm>
#include <cmath>

#include "engine/solve/geometric_stiffness.h"

namespace calm {

namespace {

Vec3 attractionAt(const Attraction& a, const Vec3& position) {
  const Vec3 to = a.center - position;
  const double r = to.norm();
  return r < 1e-12 ? Vec3(Vec3::Zero()) : Vec3(to / r * (a.strength * std::pow(std::max(r, a.core), -a.falloff)));
}

// J/kg at this distance.
double potentialAt(const Attraction& a, double distance) {
  const double r = std::max(distance, a.core);
  const double outside = std::abs(a.falloff - 1) < 1e-12 ? std::log(r) : std::pow(r, 1 - a.falloff) / (1 - a.falloff);
  // Within the core the pull is as at its rim.
  return a.strength * (outside - (r - distance) * std::pow(r, -a.falloff));
}

// How near a body comes to the centre within about a time: where it would pass it going straight on, it is drawn in,
// at the speed that it gains and with the angular momentum that it has.
double nearestTo(const Attraction& a, const Body& body, double time) {
  constexpr double kSooner = 1.5;  // it is there than it would be going straight on
  const Vec3 to = a.center - body.position;
  const double speed2 = body.velocity.squaredNorm(), distance = to.norm();
  const double past = body.velocity.dot(to) / std::max(speed2, 1e-300);
  if (past <= 0) return distance;
  if (past > kSooner * time) return (to - kSooner * time * body.velocity).norm();
  const double straight = (to - past * body.velocity).norm();
  double nearest = straight;
  for (int i = 0; i < 4; ++i) {
    const double gained = 2 * (potentialAt(a, distance) - potentialAt(a, nearest));
    nearest = straight / std::sqrt(std::max(1 + gained / speed2, 1e-12));
  }
  return std::min(nearest, straight);
}

// Of a span, in which a push acts. Instants are known to some round-off.
double shareOf(const Push& push, const TimeSpan& span) {
  constexpr double kSame = 1e-9;  // s
  const double length = span.to - span.from;
  if (length <= kSame) return span.from >= push.from - kSame && span.from < push.until - kSame ? 1 : 0;
  const double acts = std::min(span.to, push.until) - std::max(span.from, push.from);
  return acts <= kSame ? 0 : acts >= length - kSame ? 1 : acts / length;
}

bool isLasting(const Push& push, const TimeSpan& span) {
  return !push.follows && push.torque.isZero(0) && shareOf(push, span) == 1;
}

void addPush(const Push& push, double share, const Body& b, Influence& sum) {
  const Vec3 force = push.follows ? Vec3(b.axes * push.force) : push.force;
  const Vec3 torque = (push.follows ? Vec3(b.axes * push.torque) : push.torque) + (b.axes * push.at).cross(force);
  sum.acceleration += share * b.inverseMass * force;
  sum.torque += share * torque;
}

Vec3 attractionOn(const std::vector<Field>& fields, int id, const Body& body) {
  Vec3 sum = Vec3::Zero();
  for (const Field& f : fields)
    if (const auto* attraction = std::get_if<Attraction>(&f.law); attraction && f.actsOn(id))
      sum += attractionAt(*attraction, body.position);
  return sum;
}

}  // namespace

std::string faultOf(const Field& field) {
  if (const auto* wind = std::get_if<Wind>(&field.law)) {
    if (!wind->velocity.allFinite()) return "the velocity of a wind must be finite";
    const bool fine = wind->linear >= 0 && wind->quadratic >= 0 && std::isfinite(wind->linear + wind->quadratic);
    return fine ? "" : "the drag of a wind must be 0 or more";
  }
  const Attraction& a = std::get<Attraction>(field.law);
  if (!a.center.allFinite() || !std::isfinite(a.strength + a.falloff)) return "an attraction must have finite numbers";
  return a.core > 0 && std::isfinite(a.core) ? "" : "the core of an attraction must be above 0 m";
}

Influence influenceOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id, const Body& body,
                      const TimeSpan& span) {
  Influence sum{attractionOn(fields, id, body)};
  for (const Push& p : pushes)
    if (const double share = p.body == id ? shareOf(p, span) : 0; share > 0) addPush(p, share, body, sum);
  return sum;
}

Influence influenceWithWindsOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id,
                               const Body& body, const TimeSpan& span) {
  Influence sum = influenceOn(fields, pushes, id, body, span);
  for (const Field& f : fields) {
    const auto* wind = std::get_if<Wind>(&f.law);
    if (!wind || !f.actsOn(id)) continue;
    const Vec3 u = wind->velocity - body.velocity;
    sum.acceleration += body.inverseMass * (wind->linear + wind->quadratic * u.norm()) * u;
  }
  return sum;
}

Influence lastingInfluenceOn(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id,
                             const Body& body, const TimeSpan& span) {
  Influence sum{attractionOn(fields, id, body)};
  for (const Push& p : pushes)
    if (p.body == id && isLasting(p, span)) addPush(p, 1, body, sum);
  return sum;
}

double potentialOf(const std::vector<Field>& fields, const std::vector<Push>& pushes, int id, const Body& body,
                   const TimeSpan& span) {
  double sum = potentialOf(fields, id, body);
  for (const Push& p : pushes)
    if (p.body == id && isLasting(p, span)) sum -= p.force.dot(body.position + body.axes * p.at);
  return sum;
}

Mat3 stiffnessOf(const std::vector<Push>& pushes, int id, const Body& body, const TimeSpan& span) {
  Stiffening sum;
  for (const Push& p : pushes)
    if (const double share = p.body == id && !p.follows ? shareOf(p, span) : 0; share > 0)
      sum.add(body.axes * p.at, share * p.force);
  Mat3 stiffness = Mat3::Zero();
  sum.addTo(stiffness);
  return stiffness;
}

bool workByKicks(const std::vector<Field>& fields, const std::vector<Push>& pushes, const TimeSpan& span) {
  const auto isWind = [](const Field& f) { return std::holds_alternative<Wind>(f.law); };
  const auto works = [&](const Push& p) { return shareOf(p, span) > 0 && !isLasting(p, span); };
  return std::any_of(fields.begin(), fields.end(), isWind) || std::any_of(pushes.begin(), pushes.end(), works);
}

Drag dragOn(const std::vector<Field>& fields, int id, const Body& body, double span) {
  Drag sum;
  if (fields.empty()) return sum;
  const Vec3 change = body.spanBefore > 0 ? Vec3((body.velocity - body.velocityBefore) * (span / (2 * body.spanBefore)))
                                          : Vec3(Vec3::Zero());
  for (const Field& f : fields) {
    const auto* wind = std::get_if<Wind>(&f.law);
    if (!wind || !f.actsOn(id)) continue;
    const double linear = wind->linear * body.inverseMass, quadratic = wind->quadratic * body.inverseMass;
    const Vec3 u = body.velocity - wind->velocity;
    double rate = linear;
    if (change.norm() > 0 && change.norm() < 0.3 * u.norm()) {
      rate += quadratic * (u + change).norm();
    } else {
      // u' = -(c1 + c2 |u|) u / m by itself has the closed form u = u0 e / (1 + (c2 |u0| / c1)(1 - e)) with
      // e = exp(-c1 t / m).
      const double spread = linear > 0 ? -std::expm1(-linear * span) / linear : span;
      rate += std::log1p(quadratic * u.norm() * spread) / span;
    }
    sum.rate += rate;
    sum.pull += rate * wind->velocity;
  }
  return sum;
}

double steepestOn(const std::vector<Field>& fields, int id, const Body& body, double time) {
  double steepest = 0;
  for (const Field& f : fields) {
    const auto* a = std::get_if<Attraction>(&f.law);
    if (!a || !f.actsOn(id)) continue;
    const double r = std::max(nearestTo(*a, body, time), a->core);
    steepest =
        std::max(steepest, std::max(1.0, std::abs(a->falloff)) * std::abs(a->strength) * std::pow(r, -a->falloff - 1));
  }
  return steepest;
}

double potentialOf(const std::vector<Field>& fields, int id, const Body& body) {
  double sum = 0;
  for (const Field& f : fields) {
    const auto* a = std::get_if<Attraction>(&f.law);
    if (!a || !f.actsOn(id)) continue;
    sum += body.mass * potentialAt(*a, (body.position - a->center).norm());
  }
  return sum;
}

}  // namespace calm
