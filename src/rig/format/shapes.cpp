// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"
#include "rig/format/format.h"

namespace calm::rig {

namespace {

Json lists(const std::vector<Vec3>& points) {
  Json json = Json::array();
  for (const Vec3& p : points) json.push_back(list(p));
  return json;
}

Shape readCompound(const Node& n) {
  Compound compound;
  for (const Node& entry : n.at("shapes").list()) {
    entry.object({"type", "size_m", "radius_m", "length_m", "points_m", "shapes", "position_m", "orientation_wxyz"});
    PlacedShape placed{readShape(entry), {}};
    entry.maybe("position_m", placed.pose.position);
    entry.maybe("orientation_wxyz", placed.pose.rotation, &Node::orientation);
    compound.shapes.push_back(std::move(placed));
  }
  return compound;
}

Shape readMesh(const Node& n) {
  std::vector<std::array<int, 3>> triangles;
  for (const Node& t : n.at("triangles").list()) {
    const std::vector<Node> corners = t.list();
    if (corners.size() != 3) t.fail(fmt::format("expected three corners, found {}", corners.size()));
    triangles.push_back({corners[0].integer(), corners[1].integer(), corners[2].integer()});
  }
  return TriangleMesh{std::make_shared<MeshData>(makeMesh(n.at("vertices_m").vectors(), triangles))};
}

Shape readHeightField(const Node& n) {
  const std::vector<double> spacing = n.at("spacing_m").numbers();
  if (spacing.size() != 2) n.at("spacing_m").fail("expected two numbers, along x and along z");
  return TriangleMesh{std::make_shared<MeshData>(makeHeightField(n.at("columns").integer(), n.at("rows").integer(),
                                                                 spacing[0], spacing[1], n.at("heights_m").numbers()))};
}

}  // namespace

Shape readShape(const Node& n) {
  if (!n.json().is_object()) n.fail("expected an object, found " + n.kind());
  const std::string type = n.at("type").text();
  Shape shape;
  try {
    if (type == "box")
      shape = Box{n.at("size_m").vector()};
    else if (type == "sphere")
      shape = Sphere{n.at("radius_m").number()};
    else if (type == "cylinder")
      shape = Cylinder{n.at("radius_m").number(), n.at("length_m").number()};
    else if (type == "capsule")
      shape = Capsule{n.at("radius_m").number(), n.at("length_m").number()};
    else if (type == "hull")
      shape = ConvexHull{std::make_shared<HullData>(makeHull(n.at("points_m").vectors()))};
    else if (type == "compound")
      shape = readCompound(n);
    else if (type == "mesh")
      shape = readMesh(n);
    else if (type == "height_field")
      shape = readHeightField(n);
    else
      n.at("type").fail(fmt::format(
          "unknown shape \"{}\"; known are box, sphere, capsule, cylinder, hull, compound, mesh, height_field", type));
  } catch (const std::invalid_argument& e) {
    n.fail(e.what());
  }
  if (const std::string fault = calm::faultOf(shape); !fault.empty()) n.fail(fault);
  return shape;
}

Json writeShape(const Shape& shape) {
  if (const auto* s = std::get_if<Sphere>(&shape)) return {{"type", "sphere"}, {"radius_m", s->radius}};
  if (const auto* c = std::get_if<Capsule>(&shape))
    return {{"type", "capsule"}, {"radius_m", c->radius}, {"length_m", c->length}};
  if (const auto* c = std::get_if<Cylinder>(&shape))
    return {{"type", "cylinder"}, {"radius_m", c->radius}, {"length_m", c->length}};
  if (const auto* h = std::get_if<ConvexHull>(&shape))
    return {{"type", "hull"}, {"points_m", lists(h->data->vertices)}};
  if (const auto* m = std::get_if<TriangleMesh>(&shape)) {
    if (const auto& g = m->data->grid)
      return {{"type", "height_field"},
              {"columns", g->columns},
              {"rows", g->rows},
              {"spacing_m", {g->spacingX, g->spacingZ}},
              {"heights_m", g->heights}};
    Json triangles = Json::array();
    for (const auto& t : m->data->triangles) triangles.push_back(t.vertices);
    return {{"type", "mesh"}, {"vertices_m", lists(m->data->vertices)}, {"triangles", triangles}};
  }
  if (const auto* c = std::get_if<Compound>(&shape)) {
    Json shapes = Json::array();
    for (const PlacedShape& s : c->shapes) {
      Json one = writeShape(s.shape);
      one["position_m"] = list(s.pose.position);
      one["orientation_wxyz"] = list(s.pose.rotation);
      shapes.push_back(one);
    }
    return {{"type", "compound"}, {"shapes", shapes}};
  }
  return {{"type", "box"}, {"size_m", list(std::get<Box>(shape).size)}};
}

}  // namespace calm::rig
