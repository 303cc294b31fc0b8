// SPDX-License-Identifier: GPL-3.0-or-later
// Meshes from files: OBJ, STL, PLY and glTF 2.0.
#pragma once

#include <filesystem>
#include <stdexcept>
#include <string>
#include <vector>

#include "engine/shape/fit.h"

namespace calm::exchange {

// The file cannot be read; the message names it and says why.
class MeshError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

struct MeshOptions {
  double metresPerUnit = 1;
  bool zUp = false;  // the file's z axis points up; ours is y
};

struct ImportedMesh {
  std::string name;
  Surface surface;  // m, in the world; corners at one place are one vertex
};

// One for each mesh of the file where it stands in its scene, triangles only. Throws MeshError for files that cannot be
// read or hold no triangles.
std::vector<ImportedMesh> readMeshes(const std::filesystem::path& path, const MeshOptions& options = {});

}  // namespace calm::exchange
