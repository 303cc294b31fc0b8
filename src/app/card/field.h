// SPDX-License-Identifier: GPL-3.0-or-later
// A line to type a quantity into, with its unit.
#pragma once

#include <QLineEdit>

#include "rig/units.h"

namespace calm::app {

class Field : public QLineEdit {
  Q_OBJECT
 public:
  Field(rig::Dimension dimension, double value, QWidget* parent = nullptr) : QLineEdit(parent), dimension_(dimension) {
    setValue(value);
    connect(this, &QLineEdit::textChanged, this, [this] {
      const bool fault = !value_();
      if (property("fault").toBool() != fault) {
        setProperty("fault", fault);
        setStyle(style());
      }
    });
  }

  // What is typed, in SI; nothing if it is no quantity of this kind.
  std::optional<double> value() const { return value_(); }
  void setValue(double value) { setText(QString::fromStdString(rig::formatQuantity(value, dimension_, 5))); }

 private:
  std::optional<double> value_() const { return rig::parseQuantity(text().toStdString(), dimension_); }

  rig::Dimension dimension_;
};

}  // namespace calm::app
