// SPDX-License-Identifier: GPL-3.0-or-later
// Which faces have cells.
#include <algorithm>
#include <cmath>

#include "engine/contact/outline.h"
#include "engine/solve/island.h"

namespace calm {

void Island::divideFaces(const Scene& scene) {
  constexpr double kFlat = 1 - 1e-6, kLevel = 1e-5;  // m
  const auto isFlat = [](const Added& one) {
    const Manifold& m = one.pair->manifold;
    return m.roundA == 0 && m.roundB == 0 && m.touchTime == 0 && !one.solver->crowd();
  };
  // What lies on two things that stand still lies on one.
  const auto alike = [&](int one, int other) {
    return one == other || (!scene.bodies[one].dynamic() && !scene.bodies[other].dynamic());
  };
  const auto shareFace = [&](const Added& x, const Added& y) {
    if (x.solver != y.solver || (x.pair->bodyA != y.pair->bodyA && x.pair->bodyB != y.pair->bodyB)) return false;
    if (!alike(x.pair->bodyA, y.pair->bodyA) || !alike(x.pair->bodyB, y.pair->bodyB)) return false;
    const Manifold &m = x.pair->manifold, &n = y.pair->manifold;
    const Vec3 between = m.points[0].position - n.points[0].position;
    return m.normal.dot(n.normal) > kFlat && std::abs(m.normal.dot(between)) < kLevel;
  };
  int points = 0;  // of what is solved with joints, where there are any
  for (const Added& one : added_)
    if (one.solver == &contacts_) points += static_cast<int>(one.pair->manifold.points.size());
  int faces = 0;
  for (const Added& first : added_) {
    if (first.face >= 0 || !isFlat(first) || first.pair->manifold.together < 3) continue;
    std::vector<FacePart> parts;
    std::vector<Added*> of;
    for (Added& one : added_)
      if (isFlat(one) && shareFace(first, one)) parts.push_back({one.pair}), of.push_back(&one);
    const Body &a = scene.bodies[first.pair->bodyA], &b = scene.bodies[first.pair->bodyB];
    // Where there are few, they can be many.
    const bool few = (!a.jointed && !b.jointed) || points + kMostCells <= ContactSolver::kCoupled;
    if (!few || !pullsBothWays(parts)) continue;
    for (FacePart& part : parts) part.outline = outlineOf(scene, *part.pair);
    if (!divideIntoCells(parts, (a.dynamic() ? a : b).axes)) continue;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      of[i]->face = faces;
      of[i]->cells = std::move(parts[i].cells);
    }
    if (first.solver == &contacts_) points += kMostCells;
    ++faces;
  }
}

std::vector<Vec3> Island::outlineOf(const Scene& scene, const ContactPair& pair) const {
  const Collider& a = readied(scene, pair.shapeA);
  const Vec3& normal = pair.manifold.normal;
  if (pair.triangle < 0) return calm::outlineOf(a, readied(scene, pair.shapeB), normal);
  const BodyShape& mesh = scene.shapes[pair.shapeB];
  return calm::outlineOf(
      a.core,
      {std::get<TriangleMesh>(mesh.shape).data.get(), pair.triangle, scene.bodies[pair.bodyB].pose() * mesh.pose},
      normal);
}

}  // namespace calm
