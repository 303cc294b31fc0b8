// SPDX-License-Identifier: GPL-3.0-or-later
// The View: parts and joints in space. Draws the moment under the playhead, picks by casting rays in the engine's
// shapes.
#pragma once

#include <QOpenGLWidget>

#include "app/session.h"
#include "app/view/camera.h"
#include "app/view/grip.h"
#include "app/view/hands.h"
#include "app/view/joint_grip.h"
#include "app/view/measure.h"
#include "app/view/renderer.h"
#include "app/view/stroke.h"
#include "rig/features.h"

namespace calm::app {

// What a click in the View means while something is being made.
struct Pick {
  rig::Id part = rig::kNone;   // kNone: the ground or nothing
  rig::Id joint = rig::kNone;  // under the pointer, if any
  std::optional<Vec3> point;   // where the ray met something
};

// What the pointer can pick.
enum class Pickable { everything, parts, joints };

class View : public QOpenGLWidget {
  Q_OBJECT
 public:
  explicit View(Session& session, QWidget* parent = nullptr);
  ~View() override;

  // Whether this machine can show it; false under platforms without OpenGL.
  static bool available();

  Camera& camera() { return camera_; }
  void frameAll();
  void frameSelection();
  bool jointsThrough() const { return jointsThrough_; }
  void setJointsThrough(bool on);

  Grip& grip() { return grip_; }
  JointGrip& jointGrip() { return jointGrip_; }
  Measure& measure() { return measure_; }
  Hands& hands() { return hands_; }
  void setTool(Hands::Tool tool);

  // Parts as glass, so that what is behind and within them shows.
  bool seesThrough() const { return seesThrough_; }
  void setSeesThrough(bool on);
  bool showsNames() const { return showsNames_; }
  void setShowsNames(bool on);
  // Of the signs of joints: 1 as they come.
  double signSize() const { return signSize_; }
  void setSignSize(double size);
  Pickable pickable() const { return pickable_; }
  void setPickable(Pickable what) { pickable_ = what; }

  // Parts that are out of the way: neither drawn nor picked. They still take part in the run.
  const std::set<rig::Id>& hidden() const { return hidden_; }
  void hide(const std::set<rig::Id>& parts);
  void showAll();
  // Hides all parts but these; shows all again if just that is so already.
  void isolate(const std::set<rig::Id>& parts);
  // The parts whose centres are seen within the rectangle, and the joints whose pivots are if there are no such parts.
  std::set<rig::Id> within(const QRectF& box) const;

  Pick pickAt(const QPointF& pixel) const;
  // The feature of a part that is seen nearest to the pixel, if one is near; otherwise where the ray meets a surface.
  std::optional<rig::Feature> placeAt(const QPointF& pixel) const;
  // Until cleared, clicks go to the taker instead of selecting.
  void setTaker(std::function<void(const Pick&)> taker);

 protected:
  void initializeGL() override;
  void paintGL() override;
  void resizeEvent(QResizeEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  bool event(QEvent* event) override;

 private:
  class Overlay;

  Pose poseOf(std::size_t part) const;
  Vec3 pivotOf(std::size_t joint) const;
  // The corners of a rope or spring, from its first pivot to its second; none for other joints.
  std::vector<Vec3> courseOf(std::size_t joint) const;
  Aabb boundsOfParts(const std::set<rig::Id>& ids) const;
  double jointValue(std::size_t joint) const;
  bool isParted(std::size_t joint) const;
  void drawRope(const Vec3& from, const Vec3& to, const QColor& color);
  void paintOverlay(QPainter& painter);
  void paintCallout(QPainter& painter, std::size_t joint);
  void paintPreview(QPainter& painter);
  void paintHand(QPainter& painter);
  void paintNames(QPainter& painter);

  Session& session_;
  Camera camera_;
  Renderer renderer_;
  Grip grip_;
  JointGrip jointGrip_;
  Measure measure_;
  Stroke stroke_;
  Hands hands_;
  QWidget* overlay_ = nullptr;
  std::function<void(const Pick&)> taker_;
  std::set<rig::Id> hidden_;
  QPointF pressed_, last_;
  bool boxing_ = false, handled_ = false;
  bool dragged_ = false;
  bool framed_ = false;
  bool jointsThrough_ = true, seesThrough_ = false, showsNames_ = false;
  double signSize_ = 1;
  Pickable pickable_ = Pickable::everything;
  QString error_;
};

}  // namespace calm::app
