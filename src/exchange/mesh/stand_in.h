// SPDX-License-Identifier: GPL-3.0-or-later
// Parts that stand in for imported meshes.
#pragma once

#include "exchange/mesh/read.h"
#include "rig/model.h"

namespace calm::exchange {

enum class StandIn { hull, pieces, box, capsule, sphere, surface };
inline constexpr std::pair<StandIn, const char*> kStandInWords[] = {
    {StandIn::hull, "convex hull"}, {StandIn::pieces, "convex pieces"}, {StandIn::box, "box"},
    {StandIn::capsule, "capsule"},  {StandIn::sphere, "sphere"},        {StandIn::surface, "the mesh itself (static)"}};

struct StandInOptions {
  StandIn kind = StandIn::hull;
  int pieces = 16;          // at most
  double tolerance = 0.02;  // of the volume, that pieces may leave empty
};

// The part: where the mesh is, its frame in the middle of the shape. A mesh itself is static. Throws
// std::invalid_argument, naming the mesh, where the shape cannot be had.
rig::Part standIn(const ImportedMesh& mesh, const StandInOptions& options);

// How the part stands in for the mesh; nothing for the mesh itself.
FitCheck checkStandIn(const ImportedMesh& mesh, const rig::Part& part);

}  // namespace calm::exchange
