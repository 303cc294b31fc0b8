// SPDX-License-Identifier: GPL-3.0-or-later
// Effort (D): what the last run cost, by kind of work, how well it met its equations, and what more parts would cost.
#pragma once

#include <atomic>
#include <memory>

#include "app/look/floating_panel.h"
#include "app/session.h"
#include "run/effort.h"

namespace calm::app {

class EffortPanel : public FloatingPanel {
  Q_OBJECT
 public:
  EffortPanel(Session& session, QWidget* parent);
  ~EffortPanel() override;
  void toggle();
  bool isMeasuring() const { return bool(stop_); }
  const std::vector<run::Growth>& growth() const { return growth_; }

 private:
  void fill();
  void measure();
  void showGrowth();

  Session& session_;
  QVBoxLayout* bars_;
  QLabel *quality_, *grown_;
  QPushButton* measure_;
  std::vector<run::Growth> growth_;
  std::shared_ptr<std::atomic<bool>> stop_;
};

}  // namespace calm::app
