// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/stage_panel.h"

#include <QLineEdit>
#include <QVBoxLayout>
#include <cmath>

#include "app/card/row.h"

namespace calm::app {

namespace {
using Value = std::optional<double>;

double above(Value value, double least, const char* what) {
  if (!value || !(*value > least))
    throw std::invalid_argument(std::string(what) + " must be above " + std::to_string(int(least)));
  return *value;
}
}  // namespace

StagePanel::StagePanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  column_ = new QVBoxLayout(this);
  column_->setContentsMargins(0, 0, 0, 0);
  column_->setSpacing(3);
  using rig::Dimension;
  using rig::Stage;
  addRow({tr("Gravity, upwards"),
          {},
          Dimension::acceleration,
          [](const Stage& s) { return Value(s.gravity.y()); },
          [](Stage& s, Value v) { s.gravity.y() = v.value_or(0); }});
  addRow({tr("A run lasts"),
          {},
          Dimension::time,
          [](const Stage& s) { return Value(s.duration); },
          [](Stage& s, Value v) { s.duration = above(v, 0, "the time of a run"); }});
  addRow({tr("Ground at"), tr("no ground"), Dimension::length, [](const Stage& s) { return s.groundHeight; },
          [](Stage& s, Value v) { s.groundHeight = v; }});
  addRow({tr("Frames a second"),
          {},
          Dimension::frequency,
          [](const Stage& s) { return Value(s.frameRate); },
          [](Stage& s, Value v) { s.frameRate = above(v, 0, "the frame rate"); }});
  addRow(
      {tr("Substeps a frame"),
       {},
       Dimension::number,
       [](const Stage& s) { return Value(s.substeps); },
       [](Stage& s, Value v) { s.substeps = static_cast<int>(std::lround(above(v, 0, "the number of substeps"))); }});
  addRow({tr("Separation at most"), tr("as it comes"), Dimension::length,
          [](const Stage& s) { return s.separationBudget > 0 ? Value(s.separationBudget) : Value(); },
          [](Stage& s, Value v) { s.separationBudget = v ? above(v, 0, "the separation") : 0; }});
  addRow({tr("Sleeps after"), tr("never"), Dimension::time,
          [](const Stage& s) { return s.sleepAfter > 0 ? Value(s.sleepAfter) : Value(); },
          [](Stage& s, Value v) { s.sleepAfter = v ? above(v, 0, "the time") : 0; }});
}

void StagePanel::addRow(const Row& row) {
  const auto words = [row](const rig::Stage& stage) {
    const Value value = row.get(stage);
    return value ? QString::fromStdString(rig::formatQuantity(*value, row.dimension, 5)) : QString();
  };
  auto* field = new QLineEdit(words(session_.rig().stage));
  field->setAccessibleName(row.label);
  field->setAlignment(Qt::AlignRight);
  field->setFixedWidth(110);
  field->setPlaceholderText(row.nothing);
  column_->addLayout(captioned(row.label, field));
  connect(field, &QLineEdit::editingFinished, this, [this, field, row, words] {
    const QString text = field->text().trimmed();
    if (text == words(session_.rig().stage)) return;
    const bool done = session_.edit(tr("set %1").arg(row.label.toLower()), [&](rig::Rig& rig) {
      const Value value = rig::parseQuantity(text.toStdString(), row.dimension);
      if (!value && !(text.isEmpty() && !row.nothing.isEmpty()))
        throw std::invalid_argument(tr("\"%1\" is no value here; type for example %2")
                                        .arg(text, QString::fromStdString(rig::formatQuantity(2, row.dimension)))
                                        .toStdString());
      row.set(rig.stage, value);
      for (const rig::Fault& f : rig::faultsOf(rig)) throw std::invalid_argument(f.text());
    });
    if (!done) field->setText(words(session_.rig().stage));
  });
}

}  // namespace calm::app
