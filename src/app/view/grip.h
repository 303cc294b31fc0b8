// SPDX-License-Identifier: GPL-3.0-or-later
// Handles on the selected parts, at the start of a run: arrows to move, bows to turn, knobs to size. What is dragged
// shows as it will be and becomes one undoable step; while the hand holds it an exact number can be typed.
#pragma once

#include <QString>
#include <map>
#include <optional>
#include <vector>

#include "app/session.h"
#include "app/view/camera.h"

class QKeyEvent;
class QPainter;

namespace calm::app {

struct GripHandle {
  enum class Kind { move, turn, size };
  Kind kind = Kind::move;
  int axis = 0;               // along or about which; of a size: of the part's own
  double side = 1;            // of a size: which end
  Vec3 at = Vec3::Zero();     // m
  Vec3 line = Vec3::UnitX();  // unit, world: the axis
};

class Grip {
 public:
  explicit Grip(Session& session) : session_(session) {}

  // Whether the axes are those of the one selected part, and not the world's.
  bool usesOwnAxes() const { return ownAxes_; }
  void useOwnAxes(bool own) { ownAxes_ = own; }

  // None unless parts are selected and the run is at its start.
  std::vector<GripHandle> handles(const Camera& camera) const;
  std::optional<GripHandle> handleAt(const Camera& camera, const QPointF& pixel) const;
  bool isHeld() const { return held_.has_value(); }
  // Takes the handle under the pixel, if there is one.
  void begin(const Camera& camera, const QPointF& pixel);
  // Alt: off the grid and past the features of other parts, to which it snaps otherwise. Shift: a size changes all
  // sizes alike, about the middle.
  void drag(const Camera& camera, const QPointF& pixel, Qt::KeyboardModifiers modifiers);
  // Digits, units, Return and Escape while something is held. Returns whether the key was taken.
  bool type(QKeyEvent* event);
  void letGo();
  void paint(QPainter& painter, const Camera& camera) const;

 private:
  std::vector<const rig::Part*> parts() const;
  Vec3 center() const;
  Mat3 axes() const;
  double measure(const Camera& camera, const QPointF& pixel) const;  // along or about the held handle's axis
  double snapped(double value, const Camera& camera) const;
  std::vector<rig::Part> changed() const;
  void show();
  void drop();
  QString readout() const;

  Session& session_;
  bool ownAxes_ = false;
  std::optional<GripHandle> held_;
  Vec3 heldCenter_ = Vec3::Zero();
  double grabbed_ = 0;  // what measure() was at the start
  double change_ = 0;   // m or rad
  QString typed_;
  bool moved_ = false, uniform_ = false;
};

}  // namespace calm::app
