// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/kits/line.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <stdexcept>

#include "rig/kits/builder.h"
#include "rig/kits/group.h"

namespace calm::rig {

namespace {

// Equal links hang so that the tangents of their slopes rise by equal steps. Link i of n has slope (i + 1/2 - c)/s: the
// shift c sets where the line is level, s how taut it is. Both spans rise or fall steadily in c and s, so two nested
// bisections find them.
struct Catenary {
  int links;
  double link;  // m

  double slope(int i, double shift, double tautness) const { return (i + 0.5 - shift) / tautness; }
  double rise(double shift, double tautness) const {
    double sum = 0;
    for (int i = 0; i < links; ++i) {
      const double t = slope(i, shift, tautness);
      sum += link * t / std::sqrt(1 + t * t);
    }
    return sum;
  }
  double span(double shift, double tautness) const {
    double sum = 0;
    for (int i = 0; i < links; ++i) sum += link / std::sqrt(1 + std::pow(slope(i, shift, tautness), 2));
    return sum;
  }
  double shiftFor(double wantedRise, double tautness) const {
    double low = -1e7, high = 1e7 + links;
    for (int i = 0; i < 200; ++i) {
      const double middle = (low + high) / 2;
      (rise(middle, tautness) > wantedRise ? low : high) = middle;
    }
    return (low + high) / 2;
  }
  double tautnessFor(double wantedSpan, double wantedRise) const {
    double low = 1e-6, high = 1e6;
    for (int i = 0; i < 200; ++i) {
      const double middle = std::sqrt(low * high);
      (span(shiftFor(wantedRise, middle), middle) < wantedSpan ? low : high) = middle;
    }
    return std::sqrt(low * high);
  }
};

}  // namespace

std::string faultOf(const LineChoices& c) {
  if (c.name.empty()) return "a line needs a name";
  if (c.links < 1 || c.links > 100000) return fmt::format("a line has 1 to 100000 links, not {}", c.links);
  const auto positive = [](const char* what, double value, const char* unit) {
    return value > 0 && std::isfinite(value) ? std::string()
                                             : fmt::format("the {} must be above 0 {}, not {}", what, unit, value);
  };
  for (const std::string& fault : {positive("length", c.length, "m"), positive("thickness", c.thickness, "m"),
                                   positive("mass", c.massPerMetre, "kg/m")})
    if (!fault.empty()) return fault;
  if (!c.from.point.allFinite() || !c.to.point.allFinite()) return "the ends must lie at finite points";
  const double distance = (c.to.point - c.from.point).norm();
  if (c.length < distance * (1 - 1e-9))
    return fmt::format("the ends are {:.4g} m apart, more than the line's {:.4g} m", distance, c.length);
  if (distance < 1e-9) return "the ends lie at the same point";
  if (c.thickness > c.length / c.links)
    return fmt::format("links of {:.4g} m cannot be {:.4g} m thick; take fewer links or a thinner line",
                       c.length / c.links, c.thickness);
  if (!c.from.tied && !c.to.tied) return "a line must be tied at one end at least";
  return {};
}

std::vector<Vec3> lineCorners(const LineChoices& c, const Vec3& gravity) {
  const Vec3 up = gravity.norm() > 0 ? Vec3(-gravity.normalized()) : Vec3::UnitY();
  const Vec3 whole = c.to.point - c.from.point;
  const double rise = whole.dot(up);
  const Vec3 level = whole - rise * up;
  std::vector<Vec3> corners{c.from.point};
  const double slack = c.length - whole.norm();
  if (slack <= 1e-6 * c.length) {
    for (int i = 1; i <= c.links; ++i) corners.push_back(c.from.point + whole * (double(i) / c.links));
    return corners;
  }
  // Ends above one another: the slack hangs to the side, a link's thickness apart, so that the legs do not overlap.
  const double span = std::max(level.norm(), std::min(2 * c.thickness, slack / 2));
  const Vec3 outward = level.norm() > 1e-9 ? Vec3(level.normalized()) : anyPerpendicular(up);
  const Catenary catenary{c.links, c.length / c.links};
  const double tautness = catenary.tautnessFor(span, rise), shift = catenary.shiftFor(rise, tautness);
  for (int i = 0; i < c.links; ++i) {
    const double t = catenary.slope(i, shift, tautness), scale = catenary.link / std::sqrt(1 + t * t);
    corners.push_back(corners.back() + scale * outward + scale * t * up);
  }
  // Bisection leaves round-off, and the side step its width; share both out.
  const Vec3 miss = c.to.point - corners.back();
  for (int i = 1; i <= c.links; ++i) corners[i] += miss * (double(i) / c.links);
  return corners;
}

Id makeLine(Rig& rig, const LineChoices& c) {
  if (const std::string fault = faultOf(c); !fault.empty()) throw std::invalid_argument(fault);
  for (const LineEnd* end : {&c.from, &c.to})
    if (end->tied && end->part != kNone && !rig.part(end->part))
      throw std::invalid_argument(fmt::format("there is no part {} to tie the line to", end->part));
  const std::vector<Vec3> corners = lineCorners(c, rig.stage.gravity);
  Builder builder(rig, static_cast<const Line&>(c), c.name, {});
  const double linkMass = c.massPerMetre * c.length / c.links;
  Id above = c.from.part;
  int made = 0;
  const auto tie = [&](Id a, Id b, const Vec3& at) {
    builder.joint(std::to_string(++made), JointType::ball, a, b, at);
  };
  for (int i = 0; i < c.links; ++i) {
    const Id link = builder.link(fmt::format("link {}", i + 1), corners[i], corners[i + 1], c.thickness, linkMass);
    if (i > 0 || c.from.tied) tie(above, link, corners[i]);
    above = link;
  }
  if (c.to.tied) tie(above, c.to.part, corners.back());
  return builder.group();
}

namespace {

// A line's links in their order, and the joints that tie its ends to what is not of the line.
struct Members {
  std::vector<Part> links;
  const Joint *from = nullptr, *to = nullptr;  // into the rig's; null where the end hangs free
};

Members membersOf(const Rig& rig, Id line) {
  Members m;
  for (const Part& p : rig.parts)
    if (p.group == line) m.links.push_back(p);
  if (m.links.empty()) throw std::invalid_argument("the line has no links");
  const auto isLink = [&](Id id) {
    return std::any_of(m.links.begin(), m.links.end(), [&](const Part& p) { return p.id == id; });
  };
  for (const Joint& j : rig.joints) {
    if (j.group != line) continue;
    if (j.b.part == m.links.front().id && !isLink(j.a.part)) m.from = &j;
    if (j.a.part == m.links.back().id && !isLink(j.b.part)) m.to = &j;
  }
  return m;
}

// The tip of a link, `side` -1 at its start and 1 at its end.
Vec3 tipOf(const Part& link, double side) {
  const auto* capsule = std::get_if<Capsule>(&link.shape);
  return link.pose.apply({0, capsule ? side * capsule->length / 2 : 0, 0});
}

}  // namespace

LineChoices choicesOf(const Rig& rig, Id id) {
  const Group* group = rig.group(id);
  const Line* line = group ? std::get_if<Line>(&group->form) : nullptr;
  if (!line) throw std::invalid_argument(fmt::format("there is no line with id {}", id));
  const Members m = membersOf(rig, id);
  LineChoices c;
  static_cast<Line&>(c) = *line;
  c.name = group->name;
  c.from = {tipOf(m.links.front(), -1), m.from ? m.from->a.part : kNone, m.from != nullptr};
  c.to = {tipOf(m.links.back(), 1), m.to ? m.to->b.part : kNone, m.to != nullptr};
  if (m.from) c.from.point = restFrame(rig, m.from->a).position;
  if (m.to) c.to.point = restFrame(rig, m.to->b).position;
  return c;
}

void remakeLine(Rig& rig, Id id, const LineChoices& choices) {
  const LineChoices before = choicesOf(rig, id);
  // What the kit made then had room for its ends, wherever they are now.
  const auto asItWas = [&](Rig& bare) {
    LineChoices was = before;
    was.length = std::max(was.length, (was.to.point - was.from.point).norm());
    return makeLine(bare, was);
  };
  remake(
      rig, id, asItWas, [&](Rig& bare) { return makeLine(bare, choices); }, true);
}

}  // namespace calm::rig
