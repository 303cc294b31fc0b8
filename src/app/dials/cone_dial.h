// SPDX-License-Identifier: GPL-3.0-or-later
// A limb's cone seen along its axis: the rim with two handles to drag, where the limb is, and where the run took it.
#pragma once

#include <QWidget>
#include <optional>
#include <vector>

namespace calm::app {

class ConeDial : public QWidget {
  Q_OBJECT
 public:
  explicit ConeDial(QWidget* parent = nullptr);

  // How far it may lean about across (y) and about beside (z), rad; 0: no cone.
  void setCone(double aboutY, double aboutZ);
  double aboutY() const { return y_; }
  double aboutZ() const { return z_; }
  // Leanings about y and z, rad: now, and of the run's frames.
  void setReading(std::optional<QPointF> now, std::vector<QPointF> trail);
  // Where a leaning is in the widget, and the other way.
  QPointF at(double aboutY, double aboutZ) const;
  QPointF leaningAt(const QPointF& point) const;

 signals:
  void chosen(double aboutY, double aboutZ);  // a handle was let go

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;

 private:
  double reach() const;  // rad, from the middle to the edge

  double y_ = 0, z_ = 0, heldReach_ = 0;
  std::optional<QPointF> now_;
  std::vector<QPointF> trail_;
  int held_ = 0;  // 1: about y, 2: about z
};

}  // namespace calm::app
