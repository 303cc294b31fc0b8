// SPDX-License-Identifier: GPL-3.0-or-later
// A free axis as an instrument: a protractor for turns, a ruler for travel, with the stops as handles to drag, a needle
// for where the joint is, and a band for where the run took it.
#pragma once

#include <QWidget>
#include <optional>
#include <utility>

namespace calm::app {

class AxisDial : public QWidget {
  Q_OBJECT
 public:
  AxisDial(bool turns, QWidget* parent = nullptr);

  // Stops in m or rad; infinite where there are none.
  void setStops(double low, double high);
  double low() const { return low_; }
  double high() const { return high_; }
  // Where the joint is, and between what it went in the run; nothing without a run.
  void setReading(std::optional<double> now, std::optional<std::pair<double, double>> swept);

  // While it can be tried, the needle is dragged: a press anywhere but on a stop takes it.
  void setTrying(bool trying);
  bool isTrying() const { return trying_; }

  // Where a value is in the widget. Stops that are not there have their handles at `parked`.
  QPointF at(double value) const;
  QPointF parked(bool high) const;
  double valueAt(const QPointF& point) const;

 signals:
  void dragging(double low, double high);  // while a handle moves
  void tried(double value);                // the needle was dragged there, within the stops
  void chosen(double low, double high);    // let go, or moved by keys

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  QSize sizeHint() const override;

 private:
  void paintProtractor(QPainter& painter);
  void paintRuler(QPainter& painter);
  void paintHandles(QPainter& painter);
  QPointF handleAt(bool high) const;
  QPointF center() const;
  double radius() const;
  std::pair<double, double> span() const;  // of the ruler

  bool turns_;
  double low_, high_;
  std::optional<double> now_;
  std::optional<std::pair<double, double>> swept_;
  int held_ = 0;  // -1 the low handle, 1 the high one, 0 none
  bool highChosen_ = true;
  bool trying_ = false, needleHeld_ = false;
  std::pair<double, double> before_;
  std::optional<std::pair<double, double>> heldSpan_;
};

}  // namespace calm::app
