// SPDX-License-Identifier: GPL-3.0-or-later
// The ruler (M): the distance between any two places, snapped to features of parts.
#pragma once

#include <QString>
#include <optional>
#include <vector>

#include "app/session.h"
#include "app/view/camera.h"

class QPainter;

namespace calm::app {

class Measure {
 public:
  bool isOn() const { return on_; }
  void setOn(bool on);
  // A click: the first place, the second, and then the first anew.
  void take(const Vec3& at, const QString& word);
  // What the pointer would take now.
  void hover(const std::optional<Vec3>& at, const QString& word);
  // "1.2 m; x 1 m, y 0.5 m, z 0 m" once there are two places.
  QString reading() const;
  void paint(QPainter& painter, const Camera& camera) const;

 private:
  bool on_ = false;
  std::vector<Vec3> places_;
  std::optional<Vec3> hover_;
  QString word_;
};

}  // namespace calm::app
