// SPDX-License-Identifier: GPL-3.0-or-later
// The stage's settings: gravity, steps and effort, how long a run is, the ground.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QVBoxLayout;

namespace calm::app {

class StagePanel : public QWidget {
  Q_OBJECT
 public:
  explicit StagePanel(Session& session, QWidget* parent = nullptr);

 private:
  struct Row {
    QString label, nothing;  // pale words for an empty field; none: it must say something
    rig::Dimension dimension;
    std::function<std::optional<double>(const rig::Stage&)> get;
    std::function<void(rig::Stage&, std::optional<double>)> set;  // throws std::invalid_argument
  };
  void addRow(const Row& row);

  Session& session_;
  QVBoxLayout* column_;
};

}  // namespace calm::app
