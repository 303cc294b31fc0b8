// SPDX-License-Identifier: GPL-3.0-or-later
// Compare (Y): what changed from the pinned run to this one, as a table. The View shows the pinned run as a ghost.
#pragma once

#include <QFrame>

#include "app/session.h"

class QLabel;
class QTableWidget;

namespace calm::app {

class ComparePanel : public QFrame {
  Q_OBJECT
 public:
  ComparePanel(Session& session, QWidget* parent);
  void toggle();

 private:
  void fill();

  Session& session_;
  QLabel* head_;
  QTableWidget* table_;
  bool stale_ = false;  // a new run is being computed
};

}  // namespace calm::app
