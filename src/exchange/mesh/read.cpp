// SPDX-License-Identifier: GPL-3.0-or-later
#include "exchange/mesh/read.h"

#include <assimp/postprocess.h>
#include <assimp/scene.h>
#include <fmt/format.h>

#include <algorithm>
#include <assimp/Importer.hpp>
#include <cctype>
#include <map>

namespace calm::exchange {

namespace {

constexpr std::uintmax_t kLargestFile = 1u << 30;  // bytes

// Corners that a file repeats for each face are one vertex again, so that the surface has edges with two sides.
class Welder {
 public:
  int add(const Vec3& at, std::vector<Vec3>& vertices) {
    const auto [it, fresh] = known_.try_emplace({at.x(), at.y(), at.z()}, static_cast<int>(vertices.size()));
    if (fresh) vertices.push_back(at);
    return it->second;
  }

 private:
  std::map<std::array<double, 3>, int> known_;
};

Vec3 placed(const aiMatrix4x4& m, const aiVector3D& v, const MeshOptions& options) {
  const aiVector3D p = m * v;
  const Vec3 at = options.metresPerUnit * Vec3(p.x, p.y, p.z);
  return options.zUp ? Vec3(at.x(), at.z(), -at.y()) : at;
}

void collect(const aiScene& scene, const aiNode& node, const aiMatrix4x4& above, const MeshOptions& options,
             std::vector<ImportedMesh>& out) {
  const aiMatrix4x4 here = above * node.mTransformation;
  for (unsigned i = 0; i < node.mNumMeshes; ++i) {
    const aiMesh& mesh = *scene.mMeshes[node.mMeshes[i]];
    ImportedMesh imported;
    imported.name = mesh.mName.length ? mesh.mName.C_Str() : node.mName.C_Str();
    Welder welder;
    for (unsigned f = 0; f < mesh.mNumFaces; ++f) {
      const aiFace& face = mesh.mFaces[f];
      if (face.mNumIndices != 3) continue;
      std::array<int, 3> t{};
      for (unsigned k = 0; k < 3; ++k)
        t[k] = welder.add(placed(here, mesh.mVertices[face.mIndices[k]], options), imported.surface.vertices);
      if (t[0] != t[1] && t[1] != t[2] && t[2] != t[0]) imported.surface.triangles.push_back(t);
    }
    // A scene that mirrors a mesh turns its triangles inside out.
    if (imported.surface.isClosed() && imported.surface.volume() < 0)
      for (auto& t : imported.surface.triangles) std::swap(t[1], t[2]);
    if (!imported.surface.triangles.empty()) out.push_back(std::move(imported));
  }
  for (unsigned i = 0; i < node.mNumChildren; ++i) collect(scene, *node.mChildren[i], here, options, out);
}

}  // namespace

std::vector<ImportedMesh> readMeshes(const std::filesystem::path& path, const MeshOptions& options) {
  const std::string name = path.filename().string();
  std::string kind = path.extension().string();
  std::transform(kind.begin(), kind.end(), kind.begin(), [](unsigned char c) { return std::tolower(c); });
  constexpr const char* kKinds[] = {".obj", ".stl", ".ply", ".gltf", ".glb"};
  if (std::find(std::begin(kKinds), std::end(kKinds), kind) == std::end(kKinds))
    throw MeshError(fmt::format("{}: meshes are read from .obj, .stl, .ply, .gltf and .glb files", name));
  std::error_code error;
  const std::uintmax_t size = std::filesystem::file_size(path, error);
  if (error) throw MeshError(fmt::format("{}: {}", path.string(), error.message()));
  if (size > kLargestFile)
    throw MeshError(fmt::format("{}: {} MB is more than a mesh file may have", name, size >> 20));
  if (!(options.metresPerUnit > 0)) throw MeshError(fmt::format("{}: its unit must be above 0 m", name));
  Assimp::Importer importer;
  const aiScene* scene = importer.ReadFile(path.string(), aiProcess_Triangulate | aiProcess_SortByPType |
                                                              aiProcess_FindDegenerates | aiProcess_FindInvalidData);
  if (!scene || !scene->mRootNode) throw MeshError(fmt::format("{}: {}", name, importer.GetErrorString()));
  std::vector<ImportedMesh> meshes;
  collect(*scene, *scene->mRootNode, aiMatrix4x4(), options, meshes);
  if (meshes.empty()) throw MeshError(fmt::format("{}: holds no triangles", name));
  for (ImportedMesh& mesh : meshes) {
    if (mesh.name.empty()) mesh.name = path.stem().string();
    for (const Vec3& v : mesh.surface.vertices)
      if (!v.allFinite())
        throw MeshError(fmt::format("{}: mesh \"{}\" has a corner that is not finite", name, mesh.name));
  }
  return meshes;
}

}  // namespace calm::exchange
