// SPDX-License-Identifier: GPL-3.0-or-later
// Fields for the choices of a kit's form, on the Card and in the Kit panel.
#pragma once

#include <QWidget>
#include <functional>

#include "rig/model.h"

namespace calm::app {

class ChoiceFields : public QWidget {
  Q_OBJECT
 public:
  explicit ChoiceFields(const rig::Form& form, QWidget* parent = nullptr);
  // The form as the fields say. Throws std::invalid_argument, naming it, if one of them is no quantity of its kind.
  rig::Form form() const;
  // Shows the form again that it began with.
  void reset();

 signals:
  void typed();                         // at each key
  void settled(const QString& choice);  // when a field is left or Return is pressed, with its words

 private:
  rig::Form form_;
  std::vector<QWidget*> fields_;
};

}  // namespace calm::app
