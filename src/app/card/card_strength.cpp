// SPDX-License-Identifier: GPL-3.0-or-later
// The Card on a joint's strength: its gauges, what a strength would have done in this run, and the interval between
// two.
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/card/card.h"
#include "app/card/strength_gauge.h"
#include "app/look/look.h"
#include "run/compare.h"

namespace calm::app {

// The strength by two runs: one in which the joint must hold and one in which it must part.
void Card::addEvidence(rig::Id joint) {
  auto* row = new QHBoxLayout;
  auto* words = new QLabel;
  words->setObjectName("interval");
  words->setWordWrap(true);
  words->setFont(look::font(look::Size::small));
  auto* take = new QPushButton(tr("Take the middle"));
  take->hide();
  const auto show = [=, this] {
    const auto holds = session_.pinned(Pinned::mustHold), parts = session_.pinned(Pinned::mustPart);
    const bool both = holds && parts && holds->rig().joint(joint) && parts->rig().joint(joint);
    take->hide();
    if (!both) {
      words->setText(holds   ? tr("Now a run in which it must part.")
                     : parts ? tr("Now a run in which it must hold.")
                             : QString());
      return;
    }
    const run::StrengthInterval interval = run::strengthBetween(*holds, *parts, joint);
    const auto newtons = [](double v) { return QString::fromStdString(rig::formatQuantity(v, rig::Dimension::force)); };
    if (!interval.isValid())
      return words->setText(tr("No strength will do: it carries %1 where it must hold, and %2 where it must part.")
                                .arg(newtons(interval.low), newtons(interval.high)));
    words->setText(tr("Above %1, below %2; %3 is safe by %4 each way.")
                       .arg(newtons(interval.low), newtons(interval.high), newtons(interval.middle()))
                       .arg(interval.margin(), 0, 'f', 2));
    take->show();
  };
  for (const auto& [text, as] :
       {std::pair(tr("Must hold here"), Pinned::mustHold), std::pair(tr("Must part here"), Pinned::mustPart)}) {
    auto* button = new QPushButton(text);
    button->setToolTip(tr("Keep this run as one that decides on the strength"));
    row->addWidget(button);
    const Pinned which = as;
    connect(button, &QPushButton::clicked, this, [=, this] {
      if (session_.pin(which)) show();
    });
  }
  column_->addLayout(row);
  column_->addWidget(words);
  column_->addWidget(take);
  connect(take, &QPushButton::clicked, this, [this, joint] {
    const auto holds = session_.pinned(Pinned::mustHold), parts = session_.pinned(Pinned::mustPart);
    setStrength(rig::Dimension::force, run::strengthBetween(*holds, *parts, joint).middle());
  });
  show();
}

StrengthGauge* Card::buildGauge(const QString& title, rig::Dimension dimension) {
  const rig::Joint& joint = *session_.rig().joint(session_.selected());
  const std::optional<double> present = dimension == rig::Dimension::force ? joint.breakForce : joint.breakTorque;
  auto* row = new QWidget;
  auto* layout = new QHBoxLayout(row);
  layout->setContentsMargins(0, 0, 0, 0);
  auto* label = new QLabel(title);
  label->setFont(look::font(look::Size::text, true));
  auto* field = new QLineEdit(present ? look::words(*present, dimension) : QString());
  field->setPlaceholderText(tr("unbreakable"));
  field->setAlignment(Qt::AlignRight);
  field->setFixedWidth(110);
  field->setAccessibleName(title);
  layout->addWidget(label, 1);
  layout->addWidget(field);
  column_->addWidget(row);
  auto* gauge = new StrengthGauge(dimension);
  column_->addWidget(gauge);
  connect(field, &QLineEdit::editingFinished, this, [this, field, dimension, present] {
    const std::string text = field->text().trimmed().toStdString();
    if (text.empty()) return setStrength(dimension, std::nullopt);
    if (present && text == rig::formatQuantity(*present, dimension)) return;
    const auto value = rig::parseQuantity(text, dimension);
    if (!value || *value <= 0) {
      emit session_.message(tr("\"%1\" is no strength above 0; type for example 15 kN").arg(field->text()), true);
      field->setText(present ? look::words(*present, dimension) : QString());
      return;
    }
    setStrength(dimension, value);
  });
  connect(gauge, &StrengthGauge::dragging, this, [this, dimension](double strength) {
    const rig::Joint* j = session_.rig().joint(session_.selected());
    if (!j) return;
    dimension == rig::Dimension::force ? foretell(strength, j->breakTorque) : foretell(j->breakForce, strength);
  });
  connect(gauge, &StrengthGauge::chosen, this,
          [this, dimension](std::optional<double> strength) { setStrength(dimension, strength); });
  return gauge;
}

void Card::setStrength(rig::Dimension dimension, std::optional<double> strength) {
  const rig::Id id = session_.selected();
  const rig::Joint* joint = session_.rig().joint(id);
  if (!joint) return;
  const bool force = dimension == rig::Dimension::force;
  if ((force ? joint->breakForce : joint->breakTorque) == strength) return;
  const QString step =
      tr("set break %1 of %2").arg(force ? tr("force") : tr("torque"), QString::fromStdString(joint->name));
  session_.edit(step,
                [&](rig::Rig& rig) { (force ? rig.joint(id)->breakForce : rig.joint(id)->breakTorque) = strength; });
}

void Card::foretell(std::optional<double> force, std::optional<double> torque) {
  const auto index = jointIndex();
  if (!foretold_ || !index || !session_.hasFrames()) return;
  const auto parted = session_.recording()->partedAt(*index);
  if (parted && force == session_.rig().joints[*index].breakForce &&
      torque == session_.rig().joints[*index].breakTorque) {
    foretold_->setText(tr("Parted at %1 s in this run.").arg(*parted, 0, 'f', 2));
    return;
  }
  if (!force && !torque) return foretold_->setText(tr("Drag the handle along the recorded load to give a strength."));
  const auto at = run::wouldPartAt(*session_.recording(), *index, force, torque);
  foretold_->setText(at ? tr("At this strength it would part at %1 s.").arg(*at, 0, 'f', 2)
                        : tr("At this strength it would have held this run."));
}

}  // namespace calm::app
