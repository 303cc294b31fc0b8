// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/renderer.h"

#include <cmath>
#include <numbers>

#include "app/look/look.h"
#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"

namespace calm::app {

namespace {

constexpr const char* kSolidVertex = R"(#version 330 core
layout(location = 0) in vec3 position;
layout(location = 1) in vec3 normal;
uniform mat4 matrix, model;
uniform mat3 normals;
out vec3 worldNormal, worldPosition;
void main() {
  vec4 world = model * vec4(position, 1.0);
  worldPosition = world.xyz;
  worldNormal = normals * normal;
  gl_Position = matrix * world;
})";
constexpr const char* kSolidFragment = R"(#version 330 core
in vec3 worldNormal, worldPosition;
uniform vec4 color;
uniform vec3 eye, haze;
uniform float flatness, reach;
out vec4 fragment;
void main() {
  if (flatness > 0.5) { fragment = color; return; }
  vec3 n = normalize(worldNormal);
  vec3 sun = normalize(vec3(0.45, 0.8, 0.4));
  float light = 0.74 + 0.28 * max(dot(n, sun), 0.0) + 0.06 * n.y;
  // A darker rim tells rounded shapes from what is behind them.
  float rim = 1.0 - abs(dot(n, normalize(eye - worldPosition)));
  light *= 1.0 - 0.35 * pow(rim, 3.0);
  float far = smoothstep(reach * 4.0, reach * 20.0, length(eye - worldPosition));
  fragment = vec4(mix(color.rgb * light, haze, far), color.a);
})";
constexpr const char* kGroundVertex = R"(#version 330 core
layout(location = 0) in vec3 position;
uniform mat4 matrix;
uniform vec3 center;
uniform float size;
out vec3 world;
void main() {
  world = center + position * size;
  gl_Position = matrix * vec4(world, 1.0);
})";
constexpr const char* kGroundFragment = R"(#version 330 core
in vec3 world;
uniform vec3 eye, center;
uniform float reach;
uniform vec3 low, line;
out vec4 fragment;
float grid(float cell) {
  vec2 p = world.xz / cell;
  vec2 width = fwidth(p);
  vec2 d = abs(fract(p - 0.5) - 0.5) / max(width, 1e-6);
  float fade = 1.0 - smoothstep(0.15, 0.5, max(width.x, width.y));
  return (1.0 - min(min(d.x, d.y), 1.0)) * fade;
}
void main() {
  float far = smoothstep(reach * 2.0, reach * 9.0, length(world - center));
  float strength = max(grid(1.0) * 0.55, grid(10.0) * 0.8);
  fragment = vec4(mix(low, line, strength * (1.0 - far)), 1.0 - far);
})";

void push(std::vector<float>& out, const Vec3& p, const Vec3& n) {
  for (int i = 0; i < 3; ++i) out.push_back(float(p[i]));
  for (int i = 0; i < 3; ++i) out.push_back(float(n[i]));
}

// A cube of side 1.
void buildBox(std::vector<float>& faces, std::vector<float>& edges) {
  for (int axis = 0; axis < 3; ++axis)
    for (const double sign : {-1.0, 1.0}) {
      const Vec3 n = sign * Vec3::Unit(axis), u = Vec3::Unit((axis + 1) % 3) / 2, v = n.cross(u);
      const Vec3 corners[4] = {n / 2 - u - v, n / 2 + u - v, n / 2 + u + v, n / 2 - u + v};
      for (int i : {0, 1, 2, 0, 2, 3}) push(faces, corners[i], n);
      for (int i = 0; i < 4; ++i) push(edges, corners[i], n), push(edges, corners[(i + 1) % 4], n);
    }
}

// A ball of radius 1, or a capsule of radius 1 whose centres lie +-half apart.
void buildRound(double half, std::vector<float>& faces) {
  constexpr int kAround = 24, kUp = 12;
  const auto point = [&](int i, int j, Vec3& p, Vec3& n) {
    const double a = 2 * std::numbers::pi * i / kAround, b = std::numbers::pi * (double(j) / kUp - 0.5);
    n = Vec3(std::cos(b) * std::cos(a), std::sin(b), std::cos(b) * std::sin(a));
    p = n + Vec3(0, j > kUp / 2 ? half : -half, 0);
  };
  for (int j = 0; j < kUp; ++j)
    for (int i = 0; i < kAround; ++i) {
      Vec3 p[4], n[4];
      point(i, j, p[0], n[0]), point(i + 1, j, p[1], n[1]), point(i + 1, j + 1, p[2], n[2]),
          point(i, j + 1, p[3], n[3]);
      for (int k : {0, 2, 1, 0, 3, 2}) push(faces, p[k], n[k]);
    }
}

// A cylinder of radius 1 and length 1, with the edges of its rims.
void buildCylinder(std::vector<float>& faces, std::vector<float>& edges) {
  constexpr int kAround = 32;
  for (int i = 0; i < kAround; ++i) {
    const auto around = [](int k) {
      const double angle = 2 * std::numbers::pi * k / kAround;
      return Vec3(std::cos(angle), 0, std::sin(angle));
    };
    const Vec3 a = around(i), b = around(i + 1), up(0, 0.5, 0);
    for (const auto& [p, n] :
         {std::pair<Vec3, Vec3>(a - up, a), {b - up, b}, {b + up, b}, {a - up, a}, {b + up, b}, {a + up, a}})
      push(faces, p, n);
    for (const double side : {-1.0, 1.0}) {
      const Vec3 n(0, side, 0);
      for (const Vec3& p : {Vec3(side * up), Vec3(a + side * up), Vec3(b + side * up)}) push(faces, p, n);
      push(edges, a + side * up, n);
      push(edges, b + side * up, n);
    }
  }
}

void buildHull(const HullData& hull, std::vector<float>& faces, std::vector<float>& edges) {
  for (const HullData::Face& f : hull.faces) {
    const auto corner = [&](std::size_t i) { return hull.vertices[f.vertices[i % f.vertices.size()]]; };
    for (std::size_t i = 1; i + 1 < f.vertices.size(); ++i)
      for (const std::size_t k : {std::size_t{0}, i, i + 1}) push(faces, corner(k), f.normal);
    for (std::size_t i = 0; i < f.vertices.size(); ++i)
      push(edges, corner(i), f.normal), push(edges, corner(i + 1), f.normal);
  }
}

// With the edges that stick out.
void buildTriangles(const MeshData& mesh, std::vector<float>& faces, std::vector<float>& edges) {
  for (const MeshData::Triangle& t : mesh.triangles)
    for (std::size_t e = 0; e < 3; ++e) {
      const Vec3 &from = mesh.vertices[t.vertices[e]], &to = mesh.vertices[t.vertices[(e + 1) % 3]];
      push(faces, from, t.normal);
      if (t.sharp[e]) push(edges, from, t.normal), push(edges, to, t.normal);
    }
}

QMatrix4x4 modelMatrix(const Pose& pose, const Vec3& scale) {
  const Mat3 m = pose.rotation.toRotationMatrix() * scale.asDiagonal();
  const Vec3& t = pose.position;
  return QMatrix4x4(float(m(0, 0)), float(m(0, 1)), float(m(0, 2)), float(t.x()), float(m(1, 0)), float(m(1, 1)),
                    float(m(1, 2)), float(t.y()), float(m(2, 0)), float(m(2, 1)), float(m(2, 2)), float(t.z()), 0, 0, 0,
                    1);
}

Vec3 scaleOf(const Shape& shape) {
  if (const auto* s = std::get_if<Sphere>(&shape)) return Vec3::Constant(s->radius);
  if (const auto* c = std::get_if<Capsule>(&shape)) return Vec3::Constant(c->radius);
  if (const auto* c = std::get_if<calm::Cylinder>(&shape)) return {c->radius, c->length, c->radius};
  if (const auto* b = std::get_if<Box>(&shape)) return b->size;
  return Vec3::Ones();
}

QVector3D rgb(const QColor& c) {
  return {float(c.redF()), float(c.greenF()), float(c.blueF())};
}

}  // namespace

bool Renderer::initialize() {
  initializeOpenGLFunctions();
  const auto build = [&](QOpenGLShaderProgram& program, const char* vertex, const char* fragment) {
    if (program.addShaderFromSourceCode(QOpenGLShader::Vertex, vertex) &&
        program.addShaderFromSourceCode(QOpenGLShader::Fragment, fragment) && program.link())
      return true;
    error_ = program.log();
    return false;
  };
  if (!build(solid_, kSolidVertex, kSolidFragment) || !build(ground_, kGroundVertex, kGroundFragment)) return false;
  const float square[] = {-1, 0, -1, 1, 0, -1, 1, 0, 1, -1, 0, -1, 1, 0, 1, -1, 0, 1};
  groundArray_.create();
  const QOpenGLVertexArrayObject::Binder bound(&groundArray_);
  groundBuffer_.create();
  groundBuffer_.bind();
  groundBuffer_.allocate(square, sizeof square);
  glEnableVertexAttribArray(0);
  glVertexAttribPointer(0, 3, GL_FLOAT, GL_FALSE, 0, nullptr);
  return true;
}

void Renderer::begin(const Camera& camera, const QSize& pixels) {
  matrix_ = camera.matrix();
  eye_ = camera.eye();
  reach_ = camera.distance();
  glViewport(0, 0, pixels.width(), pixels.height());
  glClearColor(float(look::kHazeHigh.redF()), float(look::kHazeHigh.greenF()), float(look::kHazeHigh.blueF()), 1);
  glClear(GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT | GL_STENCIL_BUFFER_BIT);
  glEnable(GL_DEPTH_TEST);
  glDepthFunc(GL_LESS);
  glEnable(GL_BLEND);
  // The frame's own alpha stays 1: the window system would let the desktop through otherwise.
  glBlendFuncSeparate(GL_SRC_ALPHA, GL_ONE_MINUS_SRC_ALPHA, GL_ONE, GL_ONE);
}

void Renderer::drawGround(double height) {
  ground_.bind();
  ground_.setUniformValue("matrix", matrix_);
  ground_.setUniformValue("center", QVector3D(float(eye_.x()), float(height), float(eye_.z())));
  ground_.setUniformValue("size", float(reach_ * 12));
  ground_.setUniformValue("reach", float(reach_));
  ground_.setUniformValue("low", rgb(look::kHazeLow));
  ground_.setUniformValue("line", rgb(QColor(0xA9, 0xBC, 0xC0)));
  const QOpenGLVertexArrayObject::Binder bound(&groundArray_);
  glDrawArrays(GL_TRIANGLES, 0, 6);
}

Renderer::Mesh& Renderer::meshOf(const Shape& shape) {
  std::tuple<int, int, const void*> key(static_cast<int>(shape.index()), 0, nullptr);
  if (const auto* c = std::get_if<Capsule>(&shape))
    std::get<1>(key) = static_cast<int>(std::lround(1000 * c->coreHalfLength() / c->radius));
  if (const auto* h = std::get_if<ConvexHull>(&shape)) std::get<2>(key) = h->data.get();
  if (const auto* m = std::get_if<TriangleMesh>(&shape)) std::get<2>(key) = m->data.get();
  std::unique_ptr<Mesh>& mesh = meshes_[key];
  if (!mesh) {
    std::vector<float> faces, edges;
    if (std::holds_alternative<Box>(shape))
      buildBox(faces, edges);
    else if (std::holds_alternative<Cylinder>(shape))
      buildCylinder(faces, edges);
    else if (const auto* h = std::get_if<ConvexHull>(&shape))
      buildHull(*h->data, faces, edges);
    else if (const auto* m = std::get_if<TriangleMesh>(&shape))
      buildTriangles(*m->data, faces, edges);
    else
      buildRound(std::get<1>(key) / 1000.0, faces);
    mesh = upload(faces, edges);
  }
  return *mesh;
}

std::unique_ptr<Renderer::Mesh> Renderer::upload(const std::vector<float>& faces, const std::vector<float>& edges) {
  auto mesh = std::make_unique<Mesh>();
  const auto fill = [&](QOpenGLVertexArrayObject& array, QOpenGLBuffer& buffer, const std::vector<float>& data) {
    array.create();
    const QOpenGLVertexArrayObject::Binder bound(&array);
    buffer.create();
    buffer.bind();
    buffer.allocate(data.data(), static_cast<int>(data.size() * sizeof(float)));
    glEnableVertexAttribArray(0);
    glEnableVertexAttribArray(1);
    glVertexAttribPointer(0, 3, GL_FLOAT, GL_FALSE, 24, nullptr);
    glVertexAttribPointer(1, 3, GL_FLOAT, GL_FALSE, 24, reinterpret_cast<const void*>(12));
    return static_cast<int>(data.size() / 6);
  };
  mesh->faceVertices = fill(mesh->faces, mesh->faceBuffer, faces);
  mesh->edgeVertices = fill(mesh->edges, mesh->edgeBuffer, edges);
  return mesh;
}

void Renderer::bindModel(const Pose& pose, const Vec3& scale, const QMatrix4x4& before) {
  const QMatrix4x4 model = before * modelMatrix(pose, scale);
  solid_.bind();
  solid_.setUniformValue("matrix", matrix_);
  solid_.setUniformValue("model", model);
  solid_.setUniformValue("normals", model.normalMatrix());
  solid_.setUniformValue("eye", QVector3D(float(eye_.x()), float(eye_.y()), float(eye_.z())));
  solid_.setUniformValue("haze", rgb(look::kHazeHigh));
  solid_.setUniformValue("reach", float(reach_));
}

void Renderer::drawShape(const Shape& shape, const Pose& pose, const QColor& color, const QColor& edge, double alpha) {
  forEachSimple(shape, pose, [&](const Shape& s, const Pose& p) { drawSimple(s, p, color, edge, alpha); });
}

void Renderer::drawShadow(const Shape& shape, const Pose& pose, double groundHeight) {
  forEachSimple(shape, pose, [&](const Shape& s, const Pose& p) { shadowSimple(s, p, groundHeight); });
}

void Renderer::drawSimple(const Shape& shape, const Pose& pose, const QColor& color, const QColor& edge, double alpha) {
  Mesh& mesh = meshOf(shape);
  bindModel(pose, scaleOf(shape));
  solid_.setUniformValue("flatness", 0.0f);
  solid_.setUniformValue("color", QVector4D(rgb(color), float(alpha)));
  glEnable(GL_POLYGON_OFFSET_FILL);
  glPolygonOffset(1, 1);
  {
    const QOpenGLVertexArrayObject::Binder bound(&mesh.faces);
    glDrawArrays(GL_TRIANGLES, 0, mesh.faceVertices);
  }
  glDisable(GL_POLYGON_OFFSET_FILL);
  if (mesh.edgeVertices == 0) return;
  solid_.setUniformValue("flatness", 1.0f);
  solid_.setUniformValue("color", QVector4D(rgb(edge), float(alpha)));
  const QOpenGLVertexArrayObject::Binder bound(&mesh.edges);
  glDrawArrays(GL_LINES, 0, mesh.edgeVertices);
}

void Renderer::shadowSimple(const Shape& shape, const Pose& pose, double groundHeight) {
  Mesh& mesh = meshOf(shape);
  // Along the sun onto the ground, lifted by a hair.
  const float g = float(groundHeight + reach_ * 2e-4);
  const QMatrix4x4 flatten(1, -0.45f / 0.8f, 0, 0.45f / 0.8f * g, 0, 0, 0, g, 0, -0.4f / 0.8f, 1, 0.4f / 0.8f * g, 0, 0,
                           0, 1);
  bindModel(pose, scaleOf(shape), flatten);
  solid_.setUniformValue("flatness", 1.0f);
  solid_.setUniformValue("color", QVector4D(0.10f, 0.20f, 0.25f, 0.16f));
  // Once a pixel, however many faces fall on it.
  glEnable(GL_STENCIL_TEST);
  glStencilFunc(GL_EQUAL, 0, 0xFF);
  glStencilOp(GL_KEEP, GL_KEEP, GL_INCR);
  const QOpenGLVertexArrayObject::Binder bound(&mesh.faces);
  glDrawArrays(GL_TRIANGLES, 0, mesh.faceVertices);
  glDisable(GL_STENCIL_TEST);
}

void Renderer::drawMarker(const Vec3& at, double radius, const QColor& color, bool through) {
  if (through) glDisable(GL_DEPTH_TEST);
  drawShape(Sphere{radius * 1.35}, {at, Quat::Identity()}, look::kPaper, look::kPaper);
  // The coloured core peeps out of its paper rim towards the eye.
  drawShape(Sphere{radius}, {at + (eye_ - at).normalized() * radius * 0.6, Quat::Identity()}, color, color);
  if (through) glEnable(GL_DEPTH_TEST);
}

}  // namespace calm::app
