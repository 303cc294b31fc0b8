// SPDX-License-Identifier: GPL-3.0-or-later
// A break strength as a gauge: the run's peak as a filled bar, the strength as a handle to drag along it.
#pragma once

#include <QWidget>
#include <functional>
#include <optional>

#include "rig/units.h"

namespace calm::app {

class StrengthGauge : public QWidget {
  Q_OBJECT
 public:
  StrengthGauge(rig::Dimension dimension, QWidget* parent = nullptr);

  // All in SI. No strength: the joint never parts.
  void show(double now, double peak, std::optional<double> strength);
  std::optional<double> shownStrength() const { return dragged_ ? dragged_ : strength_; }
  // Where the handle stands, for a strength, in widget coordinates.
  QPointF handleAt(std::optional<double> strength) const;

 signals:
  void dragging(double strength);               // while the handle moves
  void chosen(std::optional<double> strength);  // let go; nothing: dragged off the end, unbreakable

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  QSize sizeHint() const override { return {240, 44}; }

 private:
  double scale() const;  // SI value at the gauge's right end
  QRectF track() const;

  rig::Dimension dimension_;
  double now_ = 0, peak_ = 0;
  std::optional<double> strength_, dragged_;
  double heldScale_ = 0;  // while dragging, so that the gauge does not move under the hand
  bool offEnd_ = false;
};

}  // namespace calm::app
