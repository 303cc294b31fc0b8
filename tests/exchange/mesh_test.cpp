// SPDX-License-Identifier: GPL-3.0-or-later
// Meshes from files of each kind, their units and axes, and the parts that stand in for them.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "exchange/mesh/stand_in.h"

namespace calm::exchange {
namespace {

class MeshFiles : public testing::Test {
 protected:
  std::filesystem::path folder_ =
      std::filesystem::temp_directory_path() /
      (std::string("calm-mesh-") + testing::UnitTest::GetInstance()->current_test_info()->name());
  void SetUp() override { std::filesystem::create_directories(folder_); }
  void TearDown() override { std::filesystem::remove_all(folder_); }
  std::filesystem::path write(const std::string& name, const std::string& text) {
    std::ofstream(folder_ / name, std::ios::binary) << text;
    return folder_ / name;
  }
};

// A right-angled corner of sides 1, 2 and 3, closed; of volume 1.
const char* const kObj = R"(o corner
v 0 0 0
v 1 0 0
v 0 2 0
v 0 0 3
f 1 3 2
f 1 2 4
f 1 4 3
f 2 3 4
)";
const char* const kStl = R"(solid corner
facet normal 0 0 0
outer loop
vertex 0 0 0
vertex 0 2 0
vertex 1 0 0
endloop
endfacet
facet normal 0 0 0
outer loop
vertex 0 0 0
vertex 1 0 0
vertex 0 0 3
endloop
endfacet
facet normal 0 0 0
outer loop
vertex 0 0 0
vertex 0 0 3
vertex 0 2 0
endloop
endfacet
facet normal 0 0 0
outer loop
vertex 1 0 0
vertex 0 2 0
vertex 0 0 3
endloop
endfacet
endsolid corner
)";
const char* const kPly = R"(ply
format ascii 1.0
element vertex 4
property float x
property float y
property float z
element face 4
property list uchar int vertex_indices
end_header
0 0 0
1 0 0
0 2 0
0 0 3
3 0 2 1
3 0 1 3
3 0 3 2
3 1 2 3
)";
// Four float corners, twelve 16-bit indices; a node that doubles it in x.
const char* const kGltf = R"({"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}],
 "nodes": [{"mesh": 0, "scale": [2, 1, 1], "name": "corner"}],
 "meshes": [{"name": "corner", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
 "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3", "min": [0,0,0], "max": [1,2,3]},
               {"bufferView": 1, "componentType": 5123, "count": 12, "type": "SCALAR"}],
 "bufferViews": [{"buffer": 0, "byteOffset": 0, "byteLength": 48}, {"buffer": 0, "byteOffset": 48, "byteLength": 24}],
 "buffers": [{"byteLength": 72, "uri": "data:application/octet-stream;base64,AAAAAAAAAAAAAAAAAACAPwAAAAAAAAAAAAAAAAAAAEAAAAAAAAAAAAAAAAAAAEBAAAACAAEAAAABAAMAAAADAAIAAQACAAMA"}]})";

TEST_F(MeshFiles, OfEachKindAreRead) {
  for (const auto& [name, text] : {std::pair("a.obj", kObj), {"a.stl", kStl}, {"a.ply", kPly}}) {
    SCOPED_TRACE(name);
    const auto meshes = readMeshes(write(name, text));
    ASSERT_EQ(meshes.size(), 1u);
    EXPECT_EQ(meshes[0].surface.vertices.size(), 4u) << "repeated corners are one";
    EXPECT_TRUE(meshes[0].surface.isClosed());
    EXPECT_NEAR(meshes[0].surface.volume(), 1, 1e-6);
    EXPECT_FALSE(meshes[0].name.empty());
  }
  const auto scene = readMeshes(write("a.gltf", kGltf));
  ASSERT_EQ(scene.size(), 1u);
  EXPECT_EQ(scene[0].name, "corner");
  EXPECT_NEAR(scene[0].surface.volume(), 2, 1e-6) << "as it stands in its scene";
}

TEST_F(MeshFiles, AreBroughtToMetresAndYUp) {
  const auto meshes = readMeshes(write("a.obj", kObj), {0.01, true});
  Aabb box;
  for (const Vec3& v : meshes[0].surface.vertices) box.include({v, v});
  EXPECT_LT((box.high - Vec3(0.01, 0.03, 0)).norm(), 1e-9) << "what was z is y";
  EXPECT_LT((box.low - Vec3(0, 0, -0.02)).norm(), 1e-9);
  EXPECT_NEAR(meshes[0].surface.volume(), 1e-6, 1e-12) << "turned, not mirrored";
}

TEST_F(MeshFiles, ThatCannotBeReadAreNamed) {
  const auto complaint = [](const std::filesystem::path& path, const MeshOptions& options = {}) -> std::string {
    try {
      readMeshes(path, options);
    } catch (const MeshError& e) {
      return e.what();
    }
    return "none";
  };
  EXPECT_NE(complaint(folder_ / "none.obj").find("none.obj"), std::string::npos);
  EXPECT_NE(complaint(write("a.txt", kObj)).find(".gltf"), std::string::npos);
  EXPECT_NE(complaint(write("empty.obj", "")).find("empty.obj"), std::string::npos);
  EXPECT_NE(complaint(write("points.obj", "v 0 0 0\nv 1 0 0\n")).find("points.obj"), std::string::npos);
  EXPECT_NE(complaint(write("cut.gltf", std::string(kGltf).substr(0, 300))).find("cut.gltf"), std::string::npos);
  EXPECT_NE(complaint(write("b.obj", kObj), {0, false}).find("unit"), std::string::npos);
}

TEST_F(MeshFiles, HaveStandInsOfEachKind) {
  const ImportedMesh mesh = readMeshes(std::filesystem::path(DEMO_FOLDER) / "meshes/fairlead.obj")[0];
  ASSERT_TRUE(mesh.surface.isClosed());
  for (const auto& [kind, word] : kStandInWords) {
    SCOPED_TRACE(word);
    StandInOptions options;
    options.kind = kind;
    rig::Rig rig;
    rig::Part part = standIn(mesh, options);
    part.id = rig.nextId++;
    rig.parts.push_back(part);
    EXPECT_TRUE(rig::faultsOf(rig).empty());
    EXPECT_EQ(part.role, kind == StandIn::surface ? Role::fixed : Role::dynamic);
    if (kind == StandIn::surface) continue;
    const FitCheck check = checkStandIn(mesh, part);
    EXPECT_LT(check.pokesOut, 1e-6);
    EXPECT_GT(check.covered, 0.99);
    const bool open = !castRay({{0, 0.2, -3}, Vec3::UnitZ()}, part.shape, part.pose);
    EXPECT_EQ(open, kind == StandIn::pieces) << "only pieces leave the window open";
    if (kind == StandIn::pieces) {
      EXPECT_LT(check.excess, 0.1);
    }
  }
}

}  // namespace
}  // namespace calm::exchange
