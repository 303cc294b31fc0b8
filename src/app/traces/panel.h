// SPDX-License-Identifier: GPL-3.0-or-later
// Traces (V): readings of the run over time, or their frequencies; several together, with the pinned run's beneath.
#pragma once

#include <QWidget>

#include "app/session.h"

class QComboBox;
class QCPItemStraightLine;
class QCPItemText;
class QCustomPlot;
class QLabel;
class QPushButton;
class QVBoxLayout;

namespace calm::app {

class TracesPanel : public QWidget {
  Q_OBJECT
 public:
  explicit TracesPanel(Session& session, QWidget* parent = nullptr);

  const std::vector<rig::Reading>& readings() const { return readings_; }
  // At most two kinds of quantity at once, one an axis; false, with a message, for a third.
  bool add(const rig::Reading& reading);
  void remove(std::size_t i);
  // The plain reading of what is selected, if nothing is shown yet.
  void addSelected();
  bool showsFrequencies() const { return frequencies_; }
  void setShowsFrequencies(bool on);
  // By the file's ending: png, svg, pdf or csv. False, with a message, if it cannot be written.
  bool exportTo(const QString& path);
  // A press at this time of the plot: the playhead goes there, or with Shift the second cursor.
  void pressAt(double time, bool second);
  // What the cursors tell, in words.
  QString told() const;

 protected:
  void showEvent(QShowEvent* event) override;

 private:
  void listReadings();
  void rebuildKeys();
  void refresh();
  void plotTimes();
  void plotFrequencies();
  void addGraph(std::size_t i, const std::vector<double>& x, const std::vector<double>& y, bool pinned, double factor);
  bool ofLeftAxis(std::size_t i) const;
  bool exportTable(const QString& path);

  Session& session_;
  std::vector<rig::Reading> readings_, choices_;
  QComboBox *of_, *reading_;
  QVBoxLayout* keys_;
  QLabel* told_;
  QPushButton* mode_;
  QCustomPlot* plot_;
  QCPItemStraightLine *cursor_, *second_;
  double secondAt_ = -1;  // s; below 0: not set
  bool frequencies_ = false;
  const run::Recording* drawn_ = nullptr;
  std::size_t drawnFrames_ = 0;
};

}  // namespace calm::app
