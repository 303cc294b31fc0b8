// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/choices.h"

#include <QCheckBox>
#include <QVBoxLayout>
#include <cmath>
#include <stdexcept>

#include "app/card/field.h"
#include "app/card/row.h"

namespace calm::app {

ChoiceFields::ChoiceFields(const rig::Form& form, QWidget* parent) : QWidget(parent), form_(form) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(4);
  const auto add = [&](const char* words, QWidget* field) {
    field->setAccessibleName(tr(words));
    column->addLayout(captioned(tr(words), field));
    fields_.push_back(field);
  };
  const auto row = [&](const char*, const char* words, rig::Dimension dimension, auto& value) {
    if constexpr (std::is_same_v<std::decay_t<decltype(value)>, bool>) {
      auto* box = new QCheckBox;
      box->setChecked(value);
      add(words, box);
      connect(box, &QCheckBox::toggled, this, [=, this] {
        emit typed();
        emit settled(tr(words));
      });
    } else {
      auto* field = new Field(dimension, value);
      field->setAlignment(Qt::AlignRight);
      field->setFixedWidth(110);
      add(words, field);
      const QString before = field->text();
      connect(field, &QLineEdit::textEdited, this, &ChoiceFields::typed);
      connect(field, &QLineEdit::editingFinished, this, [=, this] {
        if (field->text() != before) emit settled(tr(words));
      });
    }
  };
  visitForm(form_, row);
}

void ChoiceFields::reset() {
  std::size_t k = 0;
  const auto show = [&](const char*, const char*, rig::Dimension, auto& value) {
    QWidget* field = fields_[k++];
    const QSignalBlocker quiet(field);
    if constexpr (std::is_same_v<std::decay_t<decltype(value)>, bool>)
      static_cast<QCheckBox*>(field)->setChecked(value);
    else
      static_cast<Field*>(field)->setValue(value);
  };
  visitForm(form_, show);
}

rig::Form ChoiceFields::form() const {
  rig::Form form = form_;
  std::size_t k = 0;
  const auto read = [&](const char*, const char* words, rig::Dimension, auto& value) {
    using Value = std::decay_t<decltype(value)>;
    const QWidget* field = fields_[k++];
    if constexpr (std::is_same_v<Value, bool>) {
      value = static_cast<const QCheckBox*>(field)->isChecked();
    } else {
      const auto& line = *static_cast<const Field*>(field);
      const auto typed = line.value();
      if (!typed)
        throw std::invalid_argument(
            tr("\"%1\" is no value for %2").arg(line.text(), tr(words).toLower()).toStdString());
      if constexpr (std::is_same_v<Value, int>)
        value = static_cast<int>(std::lround(std::clamp(*typed, -1e6, 1e6)));
      else
        value = *typed;
    }
  };
  visitForm(form, read);
  return form;
}

}  // namespace calm::app
