// SPDX-License-Identifier: GPL-3.0-or-later
// The strip at the foot of the View: which hand the pointer is, and how strong.
#pragma once

#include <QFrame>

#include "app/view/hands.h"

class QLabel;
class QPushButton;

namespace calm::app {

class Field;
class View;

class HandsStrip : public QFrame {
  Q_OBJECT
 public:
  HandsStrip(View& view, QWidget* parent);
  // Takes up a hand, or puts it away if it is the one in use.
  void choose(Hands::Tool tool);

 signals:
  void resized();

 private:
  void refresh();
  // What the tool in use can be set to; null for none.
  double* value() const;

  View& view_;
  QList<QPushButton*> buttons_;
  QLabel* word_;
  QWidget* slot_;
  Field* field_ = nullptr;
};

}  // namespace calm::app
