// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/kits/line.h"

#include <fmt/format.h>

#include <cmath>
#include <map>
#include <stdexcept>

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
  Line line{rig.nextId++, rig.freeName(c.name), c.length, c.links, c.thickness, c.massPerMetre};
  const double linkMass = c.massPerMetre * c.length / c.links;
  Id above = kNone;
  int made = 0;
  const auto tie = [&](Id a, Id b, const Vec3& at) {
    Joint j;
    j.id = rig.nextId++;
    j.name = fmt::format("{} {}", line.name, ++made);
    j.type = JointType::ball;
    j.line = line.id;
    const Vec3 axis = Vec3::UnitX();
    j.a = sideAt(rig, a, at, axis);
    j.b = sideAt(rig, b, at, axis);
    rig.joints.push_back(j);
  };
  for (int i = 0; i < c.links; ++i) {
    const Vec3 whole = corners[i + 1] - corners[i];
    Part p;
    p.id = rig.nextId++;
    p.name = fmt::format("{} link {}", line.name, i + 1);
    p.shape = Capsule{c.thickness / 2, whole.norm()};
    p.heft = Mass{linkMass};
    p.pose = {(corners[i] + corners[i + 1]) / 2, Quat::FromTwoVectors(Vec3::UnitY(), whole.normalized())};
    p.linearDamping = kLineLinearDamping;
    p.angularDamping = kLineAngularDamping;
    p.line = line.id;
    rig.parts.push_back(p);
    if (i > 0)
      tie(above, p.id, corners[i]);
    else if (c.from.tied)
      tie(c.from.part, p.id, corners[0]);
    above = p.id;
  }
  if (c.to.tied) tie(above, c.to.part, corners.back());
  rig.lines.push_back(line);
  return line.id;
}

namespace {

// A line's links and joints in their order, and the joints that tie its ends to what is not of the line.
struct Members {
  std::vector<Part> links;
  std::vector<Joint> joints;
  const Joint *from = nullptr, *to = nullptr;  // into joints; null where the end hangs free
};

Members membersOf(const Rig& rig, Id line) {
  Members m;
  for (const Part& p : rig.parts)
    if (p.line == line) m.links.push_back(p);
  for (const Joint& j : rig.joints)
    if (j.line == line) m.joints.push_back(j);
  if (m.links.empty()) throw std::invalid_argument("the line has no links");
  const auto isLink = [&](Id id) {
    return std::any_of(m.links.begin(), m.links.end(), [&](const Part& p) { return p.id == id; });
  };
  for (const Joint& j : m.joints) {
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
  const Line* line = rig.line(id);
  if (!line) throw std::invalid_argument(fmt::format("there is no line with id {}", id));
  const Members m = membersOf(rig, id);
  LineChoices c;
  c.name = line->name;
  c.length = line->length, c.links = line->links;
  c.thickness = line->thickness, c.massPerMetre = line->massPerMetre;
  c.from = {tipOf(m.links.front(), -1), m.from ? m.from->a.part : kNone, m.from != nullptr};
  c.to = {tipOf(m.links.back(), 1), m.to ? m.to->b.part : kNone, m.to != nullptr};
  if (m.from) c.from.point = restFrame(rig, m.from->a).position;
  if (m.to) c.to.point = restFrame(rig, m.to->b).position;
  return c;
}

void remakeLine(Rig& rig, Id id, const LineChoices& choices) {
  const Members before = membersOf(rig, id);
  Rig next = rig;
  const auto ofLine = [&](const auto& item) { return item.line == id; };
  std::erase_if(next.parts, ofLine);
  std::erase_if(next.joints, ofLine);
  std::erase_if(next.lines, [&](const Line& l) { return l.id == id; });
  // Joints of other things to links wait outside until the new links are there.
  const auto wasLink = [&](Id part) {
    return std::any_of(before.links.begin(), before.links.end(), [&](const Part& p) { return p.id == part; });
  };
  const Id fresh = makeLine(next, choices);
  next.line(fresh)->id = id;
  std::map<Id, Id> ids{{fresh, id}};
  std::size_t k = 0;
  Id last = kNone;
  for (Part& p : next.parts) {
    if (p.line != fresh) continue;
    const Part& old = before.links[std::min(k, before.links.size() - 1)];
    Part kept = old;
    kept.id = k < before.links.size() ? old.id : p.id;
    kept.name = p.name, kept.shape = p.shape, kept.heft = p.heft, kept.pose = p.pose, kept.line = id;
    ids[p.id] = last = kept.id;
    p = kept;
    ++k;
  }
  k = 0;
  for (Joint& j : next.joints) {
    if (j.line == fresh && !before.joints.empty()) {
      const Joint& old = before.joints[std::min(k, before.joints.size() - 1)];
      Joint kept = old;
      kept.id = k < before.joints.size() ? old.id : j.id;
      kept.name = j.name, kept.a = j.a, kept.b = j.b, kept.line = id;
      j = kept;
      ++k;
    } else if (j.line == fresh) {
      j.line = id;
    }
    for (Side* side : {&j.a, &j.b}) {
      if (const auto to = ids.find(side->part); to != ids.end()) side->part = to->second;
      if (!wasLink(side->part) || next.part(side->part)) continue;
      side->part = last;
      side->at = {0, std::get<Capsule>(next.part(last)->shape).length / 2, 0};
    }
  }
  for (const Fault& f : faultsOf(next)) throw std::invalid_argument(f.text());
  rig = std::move(next);
}

}  // namespace calm::rig
