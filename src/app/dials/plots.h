// SPDX-License-Identifier: GPL-3.0-or-later
// Small pictures on the Card: how a spring comes to rest, what a motor may do and did.
#pragma once

#include <QWidget>
#include <optional>
#include <vector>

#include "run/measures.h"

namespace calm::app {

// The step response: from where it is let go to rest, with the band in which it counts as settled.
class StepPlot : public QWidget {
  Q_OBJECT
 public:
  explicit StepPlot(const run::SpringResponse& response, QWidget* parent = nullptr);
  QString words() const;

 protected:
  void paintEvent(QPaintEvent* event) override;

 private:
  run::SpringResponse response_;
};

// A motor's envelope, effort over rate: what it can push with below and beyond its speed, and where the run took it.
class EnvelopePlot : public QWidget {
  Q_OBJECT
 public:
  EnvelopePlot(const AxisDef& axis, bool turns, QWidget* parent = nullptr);
  // Rate and effort of the run's frames, SI.
  void setTrail(std::vector<QPointF> trail);
  // The largest effort of the trail over the cap.
  double used() const;
  QString words() const;

 protected:
  void paintEvent(QPaintEvent* event) override;

 private:
  AxisDef axis_;
  bool turns_;
  std::vector<QPointF> trail_;
};

}  // namespace calm::app
