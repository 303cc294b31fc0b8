// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/part_panel.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFormLayout>
#include <QLabel>

#include "app/card/field.h"
#include "app/card/tags.h"

namespace calm::app {

PartPanel::PartPanel(Session& session, const std::vector<rig::Id>& parts, QWidget* parent)
    : QWidget(parent), session_(session), parts_(parts) {
  form_ = new QFormLayout(this);
  form_->setContentsMargins(0, 0, 0, 0);
  form_->setHorizontalSpacing(8);
  form_->setVerticalSpacing(3);
  addRole();
  auto* caption = new QLabel(tr("Tags"));
  caption->setProperty("muted", true);
  form_->addRow(caption, tagsField(session_, parts_));
  using rig::Dimension;
  using rig::Part;
  for (const auto& [name, k] :
       {std::pair(tr("Place x"), 0), std::pair(tr("Place y"), 1), std::pair(tr("Place z"), 2)}) {
    const int i = k;
    addField(
        name, Dimension::length, [i](const Part& p) { return std::optional(p.pose.position[i]); },
        [i](Part& p, double v) { p.pose.position[i] = v; });
  }
  addSizes();
  const auto plain = [&](const QString& label, Dimension dimension, double Part::*member) {
    addField(
        label, dimension, [member](const Part& p) { return std::optional(p.*member); },
        [member](Part& p, double v) { p.*member = v; });
  };
  plain(tr("Friction"), Dimension::number, &Part::friction);
  plain(tr("Rebound"), Dimension::number, &Part::restitution);
  plain(tr("Damping, 1/s"), Dimension::number, &Part::linearDamping);
  plain(tr("Turning damping, 1/s"), Dimension::number, &Part::angularDamping);
  plain(tr("Share of gravity"), Dimension::number, &Part::gravityScale);
  for (const auto& [name, k] :
       {std::pair(tr("Start speed x"), 0), std::pair(tr("Start speed y"), 1), std::pair(tr("Start speed z"), 2)}) {
    const int i = k;
    addField(
        name, Dimension::speed, [i](const Part& p) { return std::optional(p.velocity[i]); },
        [i](Part& p, double v) { p.velocity[i] = v; });
  }
}

void PartPanel::set(const QString& what, const std::function<void(rig::Part&)>& change) {
  session_.editEach(what, parts_, [change](rig::Rig& rig, rig::Id id) {
    if (rig::Part* part = rig.part(id)) change(*part);
  });
}

void PartPanel::addRole() {
  auto* box = new QComboBox;
  box->setAccessibleName(tr("Role"));
  for (const auto& [role, word] : rig::kRoleWords) box->addItem(word, static_cast<int>(role));
  const Role present = session_.rig().part(parts_.front())->role;
  box->setCurrentIndex(box->findData(static_cast<int>(present)));
  auto* caption = new QLabel(tr("Role"));
  caption->setProperty("muted", true);
  form_->addRow(caption, box);
  connect(box, &QComboBox::activated, this, [this, box] {
    const auto role = static_cast<Role>(box->currentData().toInt());
    set(tr("make %1 the role").arg(rig::word(role)), [=](rig::Part& p) { p.role = role; });
  });
}

void PartPanel::addSizes() {
  using rig::Part;
  const auto& shape = session_.rig().part(parts_.front())->shape;
  const auto same = [&](rig::Id id) { return session_.rig().part(id)->shape.index() == shape.index(); };
  if (!std::all_of(parts_.begin(), parts_.end(), same)) return;
  const auto size = [&](const QString& label, auto get) {
    addField(
        label, rig::Dimension::length, [get](const Part& p) { return std::optional(*get(const_cast<Part&>(p))); },
        [get](Part& p, double v) { *get(p) = v; });
  };
  if (std::holds_alternative<calm::Box>(shape)) {
    size(tr("Width"), [](Part& p) { return &std::get<calm::Box>(p.shape).size[0]; });
    size(tr("Height"), [](Part& p) { return &std::get<calm::Box>(p.shape).size[1]; });
    size(tr("Depth"), [](Part& p) { return &std::get<calm::Box>(p.shape).size[2]; });
  }
  if (std::holds_alternative<Sphere>(shape))
    size(tr("Radius"), [](Part& p) { return &std::get<Sphere>(p.shape).radius; });
  if (std::holds_alternative<Capsule>(shape)) {
    size(tr("Radius"), [](Part& p) { return &std::get<Capsule>(p.shape).radius; });
    size(tr("Length"), [](Part& p) { return &std::get<Capsule>(p.shape).length; });
  }
  if (std::holds_alternative<Cylinder>(shape)) {
    size(tr("Radius"), [](Part& p) { return &std::get<Cylinder>(p.shape).radius; });
    size(tr("Length"), [](Part& p) { return &std::get<Cylinder>(p.shape).length; });
  }
}

void PartPanel::addField(const QString& label, rig::Dimension dimension, const Get& get, const Set& set) {
  const auto present = get(*session_.rig().part(parts_.front()));
  const bool differ =
      std::any_of(parts_.begin(), parts_.end(), [&](rig::Id id) { return get(*session_.rig().part(id)) != present; });
  auto* field = new Field(dimension, present.value_or(0));
  if (differ) {
    field->setMaySayNothing(true);
    field->clear();
    field->setPlaceholderText(tr("they differ"));
  }
  field->setAlignment(Qt::AlignRight);
  field->setAccessibleName(label);
  auto* caption = new QLabel(label);
  caption->setProperty("muted", true);
  form_->addRow(caption, field);
  const QString before = field->text();
  connect(field, &QLineEdit::editingFinished, this, [=, this] {
    if (field->text() == before) return;
    const auto value = field->value();
    if (!value) {
      emit session_.message(tr("\"%1\" is no value for %2").arg(field->text(), label.toLower()), true);
      return field->setText(before);
    }
    this->set(tr("set %1").arg(label.toLower()), [=](rig::Part& p) { set(p, *value); });
  });
}

}  // namespace calm::app
