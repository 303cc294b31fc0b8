// SPDX-License-Identifier: GPL-3.0-or-later
#include "exchange/mesh/stand_in.h"

#include <fmt/format.h>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"

namespace calm::exchange {

namespace {

// The middle of the surface's box: where the frame of hulls, pieces and meshes goes, so that handles are at hand.
Vec3 middleOf(const Surface& surface) {
  Aabb box;
  for (const Vec3& v : surface.vertices) box.include({v, v});
  return (box.low + box.high) / 2;
}

Surface moved(Surface surface, const Vec3& by) {
  for (Vec3& v : surface.vertices) v += by;
  return surface;
}

PlacedShape fitted(const Surface& surface, const StandInOptions& options) {
  const Vec3 middle = middleOf(surface);
  const auto around = [&](PlacedShape shape) {
    shape.pose = Pose{middle, Quat::Identity()} * shape.pose;
    return shape;
  };
  switch (options.kind) {
    case StandIn::box:
      return fitBox(surface);
    case StandIn::capsule:
      return fitCapsule(surface);
    case StandIn::sphere:
      return fitSphere(surface);
    case StandIn::pieces:
      return around(fitPieces(moved(surface, -middle), options.pieces, options.tolerance));
    case StandIn::surface: {
      const Surface own = moved(surface, -middle);
      return {TriangleMesh{std::make_shared<const MeshData>(makeMesh(own.vertices, own.triangles))},
              {middle, Quat::Identity()}};
    }
    case StandIn::hull:
      break;
  }
  return around(fitHull(moved(surface, -middle)));
}

}  // namespace

rig::Part standIn(const ImportedMesh& mesh, const StandInOptions& options) {
  rig::Part part;
  part.name = mesh.name;
  try {
    const PlacedShape shape = fitted(mesh.surface, options);
    part.shape = shape.shape;
    part.pose = shape.pose;
  } catch (const std::invalid_argument& e) {
    throw std::invalid_argument(fmt::format("mesh \"{}\": {}", mesh.name, e.what()));
  }
  if (options.kind == StandIn::surface) part.role = Role::fixed;
  return part;
}

FitCheck checkStandIn(const ImportedMesh& mesh, const rig::Part& part) {
  if (std::holds_alternative<TriangleMesh>(part.shape)) return {};
  return checkFit(mesh.surface, {part.shape, part.pose});
}

}  // namespace calm::exchange
