// SPDX-License-Identifier: GPL-3.0-or-later
// One row of the Card: pale words at the left, something to set or read at the right.
#pragma once

#include <QHBoxLayout>
#include <QLabel>

namespace calm::app {

inline QHBoxLayout* captioned(const QString& caption, QWidget* control) {
  auto* row = new QHBoxLayout;
  auto* label = new QLabel(caption);
  label->setProperty("muted", true);
  row->addWidget(label, 1);
  row->addWidget(control);
  return row;
}

}  // namespace calm::app
