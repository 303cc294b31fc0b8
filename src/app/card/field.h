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
      const bool fault = !value_() && !(maySayNothing_ && text().trimmed().isEmpty());
      if (property("fault").toBool() != fault) {
        setProperty("fault", fault);
        setStyle(style());
      }
    });
  }

  // What is typed, in SI; nothing if it is no quantity of this kind.
  std::optional<double> value() const { return value_(); }
  // An empty field is a choice of its own, named by the pale words in it.
  void setMaySayNothing(bool may) { maySayNothing_ = may; }
  void setValue(double value) { setText(QString::fromStdString(rig::formatQuantity(value, dimension_, 5))); }

 private:
  // A bare number is in SI, but for angles: those are shown in degrees and meant in degrees.
  std::optional<double> value_() const {
    bool bare = false;
    text().trimmed().toDouble(&bare);
    const QString unit = bare && dimension_ == rig::Dimension::angle ? QStringLiteral(" deg") : QString();
    return rig::parseQuantity((text() + unit).toStdString(), dimension_);
  }

  rig::Dimension dimension_;
  bool maySayNothing_ = false;
};

}  // namespace calm::app
