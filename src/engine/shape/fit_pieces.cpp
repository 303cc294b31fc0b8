// SPDX-License-Identifier: GPL-3.0-or-later
// Convex pieces for a surface with hollows, and how well a shape stands in for a surface.
#include <algorithm>
#include <cmath>
#include <optional>
#include <stdexcept>

#include "engine/contact/core.h"
#include "engine/shape/fit.h"
#include "engine/shape/hull.h"

namespace calm {

namespace {

// Stretches of a line, from and to, in order and apart.
using Stretches = std::vector<std::pair<double, double>>;

double lengthOf(const Stretches& stretches) {
  double length = 0;
  for (const auto& [from, to] : stretches) length += to - from;
  return length;
}

Stretches common(const Stretches& a, const Stretches& b) {
  Stretches both;
  for (const auto& [p, q] : a)
    for (const auto& [r, s] : b)
      if (const double from = std::max(p, r), to = std::min(q, s); from < to) both.emplace_back(from, to);
  return both;
}

Stretches joined(Stretches all) {
  std::sort(all.begin(), all.end());
  Stretches merged;
  for (const auto& [from, to] : all)
    if (!merged.empty() && from <= merged.back().second)
      merged.back().second = std::max(merged.back().second, to);
    else
      merged.emplace_back(from, to);
  return merged;
}

Stretches without(const Stretches& a, const Stretches& b) {
  Stretches rest;
  for (auto [from, to] : a) {
    for (const auto& [p, q] : b) {
      if (q <= from || p >= to) continue;
      if (p > from) rest.emplace_back(from, p);
      from = std::max(from, q);
    }
    if (from < to) rest.emplace_back(from, to);
  }
  return rest;
}

// Where lines along x at (y, z) run inside a closed surface. Lines that graze an edge and come out uneven are nothing.
class Inside {
 public:
  explicit Inside(const Surface& surface) : surface_(surface) {}

  Stretches along(double y, double z) const {
    std::vector<double> crossings;
    for (const auto& t : surface_.triangles) {
      const Vec3 &a = surface_.vertices[t[0]], &b = surface_.vertices[t[1]], &c = surface_.vertices[t[2]];
      const double ab = side(a, b, y, z), bc = side(b, c, y, z), ca = side(c, a, y, z), area = ab + bc + ca;
      const bool within = (ab > 0 && bc > 0 && ca > 0) || (ab < 0 && bc < 0 && ca < 0);
      if (within) crossings.push_back((bc * a.x() + ca * b.x() + ab * c.x()) / area);
    }
    std::sort(crossings.begin(), crossings.end());
    if (crossings.size() % 2) return {};
    Stretches stretches;
    for (std::size_t i = 0; i + 1 < crossings.size(); i += 2) stretches.emplace_back(crossings[i], crossings[i + 1]);
    return stretches;
  }
  bool holds(const Vec3& p) const {
    const Stretches s = along(p.y(), p.z());
    return std::any_of(s.begin(), s.end(), [&](const auto& x) { return x.first < p.x() && p.x() < x.second; });
  }

 private:
  static double side(const Vec3& a, const Vec3& b, double y, double z) {
    return (b.y() - a.y()) * (z - a.z()) - (b.z() - a.z()) * (y - a.y());
  }
  const Surface& surface_;
};

Aabb boxOf(const std::vector<Vec3>& points) {
  Aabb box;
  for (const Vec3& p : points) box.include({p, p});
  return box;
}

// The part of a polygon on the lower (or upper) side of the plane x[axis] = at.
std::vector<Vec3> clipped(const std::vector<Vec3>& polygon, int axis, double at, bool lower) {
  std::vector<Vec3> kept;
  const auto height = [&](const Vec3& p) { return lower ? p[axis] - at : at - p[axis]; };
  for (std::size_t i = 0; i < polygon.size(); ++i) {
    const Vec3 &p = polygon[i], &q = polygon[(i + 1) % polygon.size()];
    const double hp = height(p), hq = height(q);
    if (hp <= 0) kept.push_back(p);
    if ((hp < 0 && hq > 0) || (hp > 0 && hq < 0)) kept.push_back(p + (q - p) * (hp / (hp - hq)));
  }
  return kept;
}

// What of the solid lies in a box, as the points that span its hull: what of its surface does, and the box's corners
// that are inside it.
struct Piece {
  Aabb box;
  std::vector<std::vector<Vec3>> polygons;
  std::optional<HullData> hull;
  double volume = 0;  // of the solid in the box, once it is measured

  double emptiness() const { return hull ? std::max(hull->volume - volume, 0.0) : 0; }
};

constexpr int kLines = 40;  // each way, by which volumes are measured

double volumeWithin(const Inside& inside, const Aabb& box) {
  const Vec3 size = box.high - box.low;
  double length = 0;
  // Off the middle of the cells by an odd amount, so that lines do not run along edges of drawn boxes.
  for (int i = 0; i < kLines; ++i)
    for (int j = 0; j < kLines; ++j) {
      const double y = box.low.y() + size.y() * (i + 0.5003) / kLines,
                   z = box.low.z() + size.z() * (j + 0.4997) / kLines;
      length += lengthOf(common(inside.along(y, z), {{box.low.x(), box.high.x()}}));
    }
  return length * size.y() * size.z() / (kLines * kLines);
}

Piece pieceIn(const Inside& inside, const std::vector<std::vector<Vec3>>& polygons, const Aabb& box, int axis,
              double at, bool lower) {
  Piece piece;
  piece.box = box;
  (lower ? piece.box.high : piece.box.low)[axis] = at;
  std::vector<Vec3> points;
  for (const auto& polygon : polygons) {
    std::vector<Vec3> kept = clipped(polygon, axis, at, lower);
    points.insert(points.end(), kept.begin(), kept.end());
    if (kept.size() > 2) piece.polygons.push_back(std::move(kept));
  }
  const Vec3 inset = 1e-6 * (piece.box.high - piece.box.low);
  for (int corner = 0; corner < 8; ++corner) {
    Vec3 p, within;
    for (int k = 0; k < 3; ++k) {
      const bool high = corner >> k & 1;
      p[k] = (high ? piece.box.high : piece.box.low)[k];
      within[k] = p[k] + (high ? -inset[k] : inset[k]);
    }
    if (inside.holds(within)) points.push_back(p);
  }
  if (points.empty()) return piece;
  // A tight box makes the next cut's corners and lines count.
  const Aabb tight = boxOf(points);
  piece.box = {piece.box.low.cwiseMax(tight.low), piece.box.high.cwiseMin(tight.high)};
  Surface cloud;
  cloud.vertices = points;
  try {
    piece.hull = *std::get<ConvexHull>(fitHull(cloud).shape).data;
  } catch (const std::invalid_argument&) {
    return piece;  // flat: nothing to stand for
  }
  return piece;
}

// The cut through the piece after which least is empty. What is solid does not change by a cut, so the hulls alone
// tell, and only the pieces that are kept are measured.
std::pair<Piece, Piece> bestCut(const Inside& inside, const Piece& piece) {
  constexpr int kPlaces = 7;
  std::pair<Piece, Piece> best;
  double least = 1e300;
  for (int axis = 0; axis < 3; ++axis)
    for (int i = 1; i <= kPlaces; ++i) {
      const double at = piece.box.low[axis] + (piece.box.high[axis] - piece.box.low[axis]) * i / (kPlaces + 1);
      Piece low = pieceIn(inside, piece.polygons, piece.box, axis, at, true);
      Piece high = pieceIn(inside, piece.polygons, piece.box, axis, at, false);
      const double hulls = (low.hull ? low.hull->volume : 0) + (high.hull ? high.hull->volume : 0);
      if (hulls < least) least = hulls, best = {std::move(low), std::move(high)};
    }
  for (Piece* p : {&best.first, &best.second})
    if (p->hull) p->volume = volumeWithin(inside, p->box);
  return best;
}

// Where a line along x at (y, z) runs inside a simple convex shape or a compound of such.
Stretches shapeAlong(const PlacedShape& shape, double y, double z, const Aabb& bounds) {
  Stretches all;
  const double from = bounds.low.x() - 1, to = bounds.high.x() + 1;
  forEachSimple(shape.shape, shape.pose, [&](const Shape& s, const Pose& p) {
    const auto near = castRay({Vec3(from, y, z), Vec3::UnitX()}, s, p);
    const auto far = castRay({Vec3(to, y, z), -Vec3::UnitX()}, s, p);
    if (near && far) all.emplace_back(from + near->distance, to - far->distance);
  });
  return joined(std::move(all));
}

// A stretch along x that is in the shape and not in the surface.
struct Gap {
  double from, to, y, z;
};

// How far outside the shape a point is; 0 within it.
double outsideBy(const Vec3& point, const std::vector<ConvexCore>& cores) {
  ConvexCore dot;
  dot.center = point;
  dot.vertices = {point};
  double least = 1e300;
  for (const ConvexCore& core : cores)
    least = std::min(least, std::max(closestPoints(core, dot).distance - core.radius, 0.0));
  return least;
}

}  // namespace

PlacedShape fitPieces(const Surface& surface, int most, double tolerance) {
  if (!surface.isClosed()) throw std::invalid_argument("its surface is open; only a closed one can be cut into pieces");
  const Inside inside(surface);
  std::vector<std::vector<Vec3>> polygons;
  for (const auto& t : surface.triangles)
    polygons.push_back({surface.vertices[t[0]], surface.vertices[t[1]], surface.vertices[t[2]]});
  const Aabb box = boxOf(surface.vertices);
  std::vector<Piece> pieces{pieceIn(inside, polygons, box, 0, box.high.x(), true)};
  if (!pieces[0].hull) throw std::invalid_argument("it has no extent");
  pieces[0].volume = volumeWithin(inside, pieces[0].box);
  const double enough = tolerance * std::abs(surface.volume());
  while (static_cast<int>(pieces.size()) < most) {
    double empty = 0;
    for (const Piece& p : pieces) empty += p.emptiness();
    if (empty <= enough) break;
    const auto worst = std::max_element(pieces.begin(), pieces.end(),
                                        [](const Piece& a, const Piece& b) { return a.emptiness() < b.emptiness(); });
    auto [low, high] = bestCut(inside, *worst);
    pieces.erase(worst);
    for (Piece* p : {&low, &high})
      if (p->hull) pieces.push_back(std::move(*p));
  }
  Compound compound;
  for (const Piece& p : pieces) compound.shapes.push_back({ConvexHull{std::make_shared<const HullData>(*p.hull)}, {}});
  if (compound.shapes.size() == 1) return compound.shapes[0];
  return {compound, {}};
}

FitCheck checkFit(const Surface& surface, const PlacedShape& shape) {
  FitCheck check;
  std::vector<ConvexCore> cores;
  forEachSimple(shape.shape, shape.pose, [&](const Shape& s, const Pose& p) {
    cores.emplace_back();
    buildCore(s, p, cores.back());
  });
  const Aabb mine = boxOf(surface.vertices);
  const double size = (mine.high - mine.low).norm();
  for (const Vec3& v : surface.vertices) {
    const double by = outsideBy(v, cores);
    check.pokesOut = std::max(check.pokesOut, by);
    if (by > 1e-6 * size) check.outside.push_back(v);
  }
  if (!surface.isClosed()) return check;
  Aabb bounds = mine;
  bounds.include(boundsOf(shape.shape, shape.pose));
  const Inside inside(surface);
  const Vec3 span = bounds.high - bounds.low;
  double solid = 0, stand = 0, both = 0;
  std::vector<Gap> empty;
  for (int i = 0; i < kLines; ++i)
    for (int j = 0; j < kLines; ++j) {
      const double y = bounds.low.y() + span.y() * (i + 0.5003) / kLines,
                   z = bounds.low.z() + span.z() * (j + 0.4997) / kLines;
      const Stretches in = inside.along(y, z), of = shapeAlong(shape, y, z, bounds);
      solid += lengthOf(in), stand += lengthOf(of), both += lengthOf(common(in, of));
      for (const auto& [from, to] : without(of, in)) empty.push_back({from, to, y, z});
    }
  check.covered = solid > 0 ? both / solid : 0;
  check.excess = stand > 0 ? 1 - both / stand : 0;
  std::erase_if(empty, [&](const auto& e) { return e.to - e.from < 0.01 * size; });
  constexpr std::size_t kShown = 40;
  for (std::size_t i = 0; i < std::min(kShown, empty.size()); ++i) {
    const auto& [from, to, y, z] = empty[i * empty.size() / std::min(kShown, empty.size())];
    for (const double share : {1.0 / 6, 0.5, 5.0 / 6}) check.emptiness.emplace_back(from + share * (to - from), y, z);
  }
  return check;
}

}  // namespace calm
