// SPDX-License-Identifier: GPL-3.0-or-later
// Sweep (Z): one or two settings over ranges, a run at each point in the background, and what came of them as curves or
// a map. A point is opened as a run by clicking it.
#pragma once

#include <QWidget>
#include <atomic>
#include <memory>

#include "app/session.h"
#include "run/sweep.h"

class QComboBox;
class QCPColorMap;
class QCPColorScale;
class QCustomPlot;
class QLabel;
class QLineEdit;
class QProgressBar;
class QPushButton;
class QVBoxLayout;

namespace calm::app {

class SweepPanel : public QWidget {
  Q_OBJECT
 public:
  explicit SweepPanel(Session& session, QWidget* parent = nullptr);
  ~SweepPanel() override;

  // Runs what the fields say; stops what is under way.
  void start();
  void cancel();
  bool isRunning() const { return running_; }
  const std::vector<run::SweepPoint>& points() const { return points_; }
  // Makes the point's settings the rig's, as one edit, and runs it.
  void openPoint(std::size_t index);
  // The point that is drawn nearest to the pixel of the plot.
  std::optional<std::size_t> pointAt(const QPointF& pixel) const;
  QCustomPlot* plot() const { return plot_; }

 protected:
  void showEvent(QShowEvent* event) override;

 private:
  struct Axis {
    QComboBox* setting;
    QLineEdit *from, *to, *count;
  };
  Axis addAxis(QVBoxLayout* column, const QString& name, const QString& none);
  void listSettings();
  std::optional<std::string> textOf(const Axis& axis) const;
  run::SweepPlan plan() const;
  void take(const run::SweepPoint& point);
  void draw();
  void drawCurve();
  void drawMap();

  Session& session_;
  Axis axes_[2];
  QComboBox *what_, *reading_;
  QPushButton *run_, *save_;
  QProgressBar* progress_;
  QLabel* told_;
  QCustomPlot* plot_;
  QCPColorMap* map_ = nullptr;
  QCPColorScale* scale_ = nullptr;
  std::shared_ptr<const run::SweepPlan> plan_;
  std::vector<run::SweepPoint> points_;
  std::shared_ptr<std::atomic<bool>> stop_;
  bool running_ = false;
};

}  // namespace calm::app
