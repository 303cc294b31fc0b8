// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/kit.h"

#include <QFormLayout>

#include "app/card/choices.h"
#include "app/card/group_panel.h"
#include "rig/kits/placed.h"

namespace calm::app {

namespace {
const std::vector<rig::Form>& kits() {
  static const std::vector<rig::Form> all = {rig::Door{}, rig::Ladder{}, rig::Ring{}};
  return all;
}
}  // namespace

KitMaker::KitMaker(Session& session, QWidget* parent)
    : TrialMaker(session, tr("Kit"), tr("Click in the View where it is to stand, on a part to tie it there."),
                 tr("Make it"), parent) {
  QStringList words;
  for (const rig::Form& form : kits()) words << rig::word(form);
  kind_ = addChoice(tr("Kit"), words);
  name_ = new QLineEdit;
  name_->setAccessibleName(tr("Name"));
  addRow(tr("Name"), name_);
  connect(name_, &QLineEdit::textEdited, this, &Maker::refresh);
  at_ = new PointField(tr("Stands at"));
  at_->setPoint({1.5, 0, 0.8});
  addRow(tr("At"), at_);
  connect(at_, &PointField::changed, this, &Maker::refresh);
  heading_ = addField(tr("Heading"), rig::Dimension::angle, 0);
  heading_->setToolTip(tr("Turned about the vertical"));
  holder_ = addPartChoice(tr("Tied to"), true);
  chooseForm();
  connect(kind_, &QComboBox::currentIndexChanged, this, &KitMaker::chooseForm);
  addOutcome();
}

void KitMaker::chooseForm() {
  if (choices_) form_->removeRow(choices_);
  const rig::Form& form = kits()[static_cast<std::size_t>(kind_->currentIndex())];
  choices_ = new ChoiceFields(form);
  form_->insertRow(5, choices_);
  connect(choices_, &ChoiceFields::typed, this, &Maker::refresh);
  name_->setText(QString::fromStdString(session_.rig().freeName(rig::word(form))));
  {
    const QSignalBlocker quiet(holder_);
    if (holder_->findData(-1) >= 0) holder_->removeItem(holder_->findData(-1));
    const bool ladder = std::holds_alternative<rig::Ladder>(form);
    if (!ladder) holder_->insertItem(0, tr("nothing else"), -1);
    holder_->setCurrentIndex(0);
  }
  if (outcome_) refresh();
}

void KitMaker::apply(rig::Rig& rig) {
  if (!at_->point() || !heading_->value()) throw std::invalid_argument("Type where it stands, for example 1 m, 0, 0.");
  rig::Standing standing;
  standing.pose = {*at_->point(), Quat(Eigen::AngleAxisd(*heading_->value(), Vec3::UnitY()))};
  if (const int holder = holder_->currentData().toInt(); holder >= 0) standing.holder = holder;
  rig::Form form = choices_->form();
  // A door that is tied to something hangs on that.
  if (auto* door = std::get_if<rig::Door>(&form); door && standing.holder) door->posts = false;
  made_ = {rig::makePlaced(rig, form, name_->text().trimmed().toStdString(), standing)};
}

QString KitMaker::outcome(const rig::Rig& before, const rig::Rig& after) const {
  const QString made = tr("%1 parts, %2 joints. ")
                           .arg(after.parts.size() - before.parts.size())
                           .arg(after.joints.size() - before.joints.size());
  return made + remarkOn(choices_->form());
}

void KitMaker::take(const Pick& pick) {
  if (pick.part != rig::kNone) holder_->setCurrentIndex(std::max(0, holder_->findData(pick.part)));
  if (pick.point) at_->setPoint(*pick.point);
}

}  // namespace calm::app
