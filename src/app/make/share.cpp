// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/share.h"

#include <QCheckBox>

namespace calm::app {

ShareMaker::ShareMaker(Session& session, QWidget* parent)
    : Maker(
          session, tr("Share settings"),
          tr("From one of the selected joints to the others; click joints in the View to add them or leave them out."),
          tr("Share"), parent) {
  from_ = addChoice(tr("From"), {});
  from_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  addSwitch(tr("Stops"), &rig::Shared::stops);
  addSwitch(tr("Motor"), &rig::Shared::motor);
  addSwitch(tr("Friction"), &rig::Shared::friction);
  addSwitch(tr("Spring"), &rig::Shared::spring);
  addSwitch(tr("Cone"), &rig::Shared::cone);
  addSwitch(tr("Break strength"), &rig::Shared::strength);
  addSwitch(tr("The other way round where mirrored"), &rig::Shared::mirrored);
  outcome_ = new QLabel;
  outcome_->setObjectName("outcome");
  outcome_->setWordWrap(true);
  addRow(QString(), outcome_);
  listJoints();
  connect(&session_, &Session::selectionChanged, this, [this] {
    listJoints();
    refresh();
  });
}

void ShareMaker::addSwitch(const QString& label, bool rig::Shared::*member) {
  auto* box = new QCheckBox(label);
  box->setAccessibleName(label);
  box->setChecked(what_.*member);
  addRow(QString(), box);
  connect(box, &QCheckBox::toggled, this, [this, member](bool on) {
    what_.*member = on;
    refresh();
  });
}

void ShareMaker::listJoints() {
  const QSignalBlocker quiet(from_);
  const QVariant before = from_->currentData();
  from_->clear();
  for (const rig::Id id : session_.selection())
    if (const rig::Joint* joint = session_.rig().joint(id)) from_->addItem(QString::fromStdString(joint->name), id);
  from_->setCurrentIndex(std::max(0, from_->findData(before)));
}

void ShareMaker::take(const Pick& pick) {
  if (pick.joint != rig::kNone) session_.toggle(pick.joint);
}

QString ShareMaker::preview(Preview&) {
  outcome_->clear();
  if (from_->count() < 2) return tr("Select two joints or more.");
  rig::Rig trial = session_.rig();
  try {
    apply(trial);
  } catch (const std::exception& e) {
    return QString::fromStdString(e.what());
  }
  outcome_->setText(tr("To %1 joints.").arg(made_.size() - 1));
  return {};
}

void ShareMaker::apply(rig::Rig& rig) {
  const rig::Id from = from_->currentData().toInt();
  std::vector<rig::Id> to;
  made_.clear();
  for (int i = 0; i < from_->count(); ++i) {
    made_.insert(from_->itemData(i).toInt());
    if (from_->itemData(i).toInt() != from) to.push_back(from_->itemData(i).toInt());
  }
  rig::share(rig, from, to, what_);
}

}  // namespace calm::app
