// SPDX-License-Identifier: GPL-3.0-or-later
// Draws shaded shapes with OpenGL 3.3 core: parts with edges, the ground with its grid, shadows, markers.
#pragma once

#include <QColor>
#include <QOpenGLBuffer>
#include <QOpenGLExtraFunctions>
#include <QOpenGLShaderProgram>
#include <QOpenGLVertexArrayObject>
#include <map>
#include <memory>
#include <tuple>

#include "app/view/camera.h"

namespace calm::app {

class Renderer : protected QOpenGLExtraFunctions {
 public:
  // With a current context. False if the shaders do not build; error() tells why.
  bool initialize();
  QString error() const { return error_; }

  void begin(const Camera& camera, const QSize& pixels);
  // The ground plane at this height, with a grid of metres.
  void drawGround(double height);
  void drawShape(const Shape& shape, const Pose& pose, const QColor& color, const QColor& edge, double alpha = 1);
  // The shape's shadow on the ground; after the ground, before the shapes.
  void drawShadow(const Shape& shape, const Pose& pose, double groundHeight);
  // A ball of this radius in metres; through everything or not.
  void drawMarker(const Vec3& at, double radius, const QColor& color, bool through);

 private:
  struct Mesh {
    QOpenGLVertexArrayObject faces, edges;
    QOpenGLBuffer faceBuffer, edgeBuffer;
    int faceVertices = 0, edgeVertices = 0;
  };
  Mesh& meshOf(const Shape& shape);
  void drawSimple(const Shape& shape, const Pose& pose, const QColor& color, const QColor& edge, double alpha);
  void shadowSimple(const Shape& shape, const Pose& pose, double groundHeight);
  std::unique_ptr<Mesh> upload(const std::vector<float>& faces, const std::vector<float>& edges);
  void bindModel(const Pose& pose, const Vec3& scale, const QMatrix4x4& before = {});

  QOpenGLShaderProgram solid_, ground_;
  // By kind and, for capsules, proportion in thousandths; hulls and meshes by their data.
  std::map<std::tuple<int, int, const void*>, std::unique_ptr<Mesh>> meshes_;
  QOpenGLVertexArrayObject groundArray_;
  QOpenGLBuffer groundBuffer_;
  QMatrix4x4 matrix_;
  Vec3 eye_;
  double reach_ = 1;
  QString error_;
};

}  // namespace calm::app
