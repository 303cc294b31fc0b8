// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/joint_panel.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QVBoxLayout>

#include "app/card/axis_panel.h"
#include "app/card/field.h"
#include "app/card/row.h"
#include "app/card/tags.h"
#include "app/dials/cone_dial.h"
#include "rig/joining.h"

namespace calm::app {

JointPanel::JointPanel(Session& session, const std::vector<rig::Id>& joints, QWidget* parent)
    : QWidget(parent), session_(session), joints_(joints) {
  column_ = new QVBoxLayout(this);
  column_->setContentsMargins(0, 0, 0, 0);
  column_->setSpacing(6);
  addType();
  column_->addLayout(captioned(tr("Tags"), tagsField(session_, joints_)));
  const JointType type = first().type;
  using rig::Dimension;
  if (type == JointType::limb) {
    addCone();
    addFormField(tr("Cone about across"), &JointForm::coneY, Dimension::angle);
    addFormField(tr("Cone about beside"), &JointForm::coneZ, Dimension::angle);
  }
  if (type == JointType::gear || type == JointType::pulley)
    addFormField(tr("Ratio"), &JointForm::ratio, Dimension::number);
  if (type == JointType::rack) addFormField(tr("Pinion radius"), &JointForm::radius, Dimension::length);
  if (type == JointType::screw) addFormField(tr("Lead, a turn"), &JointForm::lead, Dimension::length);
  addSwitch(tr("Can part"), tr("Whether the strengths below count from the start"), &rig::Joint::armed);
  addSwitch(tr("Neighbours collide"), tr("Whether the two parts that it joins touch each other"),
            &rig::Joint::neighboursCollide);
  for (int k = 0; k < axesOf(type).all(); ++k) {
    const bool cone = type == JointType::limb && k == 3;  // its stop is the cone itself
    if (!*rig::axisWord(type, k) || cone) continue;
    column_->addWidget(axes_.emplace_back(new AxisPanel(session_, joints_, k)));
  }
}

void JointPanel::refresh() {
  for (AxisPanel* axis : axes_) axis->refresh();
  const run::Frame* frame = session_.frame();
  if (!cone_ || !frame || joints_.size() != 1) return;
  const auto index = static_cast<std::size_t>(&first() - session_.rig().joints.data());
  const auto leaning = [&](const run::Frame& f) {
    return QPointF(f.joints[index].position[1], f.joints[index].position[2]);
  };
  std::vector<QPointF> trail;
  for (std::size_t f = 0; f < session_.recording()->size(); ++f)
    trail.push_back(leaning(session_.recording()->frame(f)));
  cone_->setReading(leaning(*frame), std::move(trail));
}

void JointPanel::addCone() {
  column_->addWidget(cone_ = new ConeDial);
  cone_->setCone(first().form.coneY, first().form.coneZ);
  connect(cone_, &ConeDial::chosen, this, [this](double y, double z) {
    set(tr("drag cone"), [=](rig::Joint& joint) { joint.form.coneY = y, joint.form.coneZ = z; });
  });
}

void JointPanel::set(const QString& what, const std::function<void(rig::Joint&)>& change) {
  session_.editEach(what, joints_, [change](rig::Rig& rig, rig::Id id) {
    if (rig::Joint* joint = rig.joint(id)) change(*joint);
  });
}

void JointPanel::addType() {
  auto* box = new QComboBox;
  box->setAccessibleName(tr("Joint type"));
  for (const auto& [type, word] : rig::kJointWords) box->addItem(word, static_cast<int>(type));
  box->setCurrentIndex(box->findData(static_cast<int>(first().type)));
  column_->addLayout(captioned(tr("Type"), box));
  connect(box, &QComboBox::activated, this, [this, box] {
    const auto type = static_cast<JointType>(box->currentData().toInt());
    if (type == first().type) return;
    const QString name =
        joints_.size() == 1 ? QString::fromStdString(first().name) : tr("%1 joints").arg(joints_.size());
    const std::vector<rig::Id> ids = joints_;
    if (!session_.edit(tr("make %1 a %2").arg(name, rig::word(type)), [&](rig::Rig& rig) {
          for (const rig::Id id : ids) rig::convert(rig, id, type);
        }))
      box->setCurrentIndex(box->findData(static_cast<int>(first().type)));
  });
}

void JointPanel::addFormField(const QString& label, double JointForm::*member, rig::Dimension dimension) {
  auto* row = new QHBoxLayout;
  auto* caption = new QLabel(label);
  caption->setProperty("muted", true);
  auto* field = new Field(dimension, first().form.*member);
  field->setAlignment(Qt::AlignRight);
  field->setFixedWidth(110);
  field->setAccessibleName(label);
  row->addWidget(caption, 1);
  row->addWidget(field);
  column_->addLayout(row);
  const QString before = field->text();
  connect(field, &QLineEdit::editingFinished, this, [=, this] {
    if (field->text() == before) return;
    const auto value = field->value();
    if (!value) {
      emit session_.message(tr("\"%1\" is no value for %2").arg(field->text(), label.toLower()), true);
      return field->setText(before);
    }
    set(tr("set %1").arg(label.toLower()), [=](rig::Joint& joint) { joint.form.*member = *value; });
  });
}

void JointPanel::addSwitch(const QString& label, const QString& tip, bool rig::Joint::*member) {
  auto* box = new QCheckBox(label);
  box->setAccessibleName(label);
  box->setToolTip(tip);
  const bool present = first().*member;
  const bool differ = std::any_of(joints_.begin(), joints_.end(),
                                  [&](rig::Id id) { return session_.rig().joint(id)->*member != present; });
  box->setCheckState(differ ? Qt::PartiallyChecked : present ? Qt::Checked : Qt::Unchecked);
  column_->addWidget(box);
  connect(box, &QCheckBox::clicked, this, [=, this](bool on) {
    set(tr("set %1").arg(label.toLower()), [=](rig::Joint& joint) { joint.*member = on; });
  });
}

}  // namespace calm::app
