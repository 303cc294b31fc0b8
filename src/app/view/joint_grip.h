// SPDX-License-Identifier: GPL-3.0-or-later
// Handles on the one selected joint, at the start of a run: its pivot and axis to drag, with snapping, and its two ends
// to tie to other parts.
#pragma once

#include <QString>
#include <optional>
#include <vector>

#include "app/session.h"
#include "app/view/camera.h"

class QPainter;

namespace calm::app {

struct JointHandle {
  enum class Kind { pivot, axis, end };
  Kind kind = Kind::pivot;
  int end = 0;             // of an end: 0 a, 1 b
  Vec3 at = Vec3::Zero();  // m
};

class JointGrip {
 public:
  explicit JointGrip(Session& session) : session_(session) {}

  // None unless one joint is selected and the run is at its start.
  std::vector<JointHandle> handles(const Camera& camera) const;
  std::optional<JointHandle> handleAt(const Camera& camera, const QPointF& pixel) const;
  bool isHeld() const { return held_.has_value(); }
  // Takes the handle under the pixel. Returns whether there was one.
  bool begin(const Camera& camera, const QPointF& pixel);
  // `under` is the part under the pointer, for ends. With `freely` nothing snaps.
  void drag(const Camera& camera, const QPointF& pixel, rig::Id under, bool freely);
  void letGo();
  void drop();  // leaves the joint as it was
  void paint(QPainter& painter, const Camera& camera) const;

 private:
  const rig::Joint* joint() const;
  Vec3 pivot() const;
  Vec3 axis() const;
  std::vector<std::pair<Vec3, QString>> directions() const;

  Session& session_;
  std::optional<JointHandle> held_;
  Vec3 pivot_ = Vec3::Zero(), axis_ = Vec3::UnitX();  // as they will be
  std::optional<rig::Id> part_;                       // that the held end goes to
  QString word_;                                      // what it has snapped to
  bool moved_ = false;
};

}  // namespace calm::app
