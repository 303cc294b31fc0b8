// SPDX-License-Identifier: GPL-3.0-or-later
// Compare (Y): what changed from the pinned run to this one, as a table. The View shows the pinned run as a ghost.
#pragma once

#include "app/look/floating_panel.h"
#include "app/session.h"

class QTableWidget;

namespace calm::app {

class ComparePanel : public FloatingPanel {
  Q_OBJECT
 public:
  ComparePanel(Session& session, QWidget* parent);
  void toggle();

 private:
  void fill();

  Session& session_;
  QTableWidget* table_;
  bool stale_ = false;  // a new run is being computed
};

}  // namespace calm::app
