// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/group_panel.h"

#include <QLabel>
#include <QVBoxLayout>

#include "app/card/choices.h"
#include "app/look/look.h"
#include "rig/kits/placed.h"

namespace calm::app {

QString remarkOn(const rig::Form& form) {
  const auto* door = std::get_if<rig::Door>(&form);
  if (!door) return QObject::tr("Its links have a little damping, so that it falls quiet when left alone.");
  const auto effort = [&](double angle) {
    return QString::fromStdString(rig::formatQuantity(rig::handleEffort(*door, angle), rig::Dimension::force));
  };
  QString words = QObject::tr("At the handle: %1 to start, %2 at the stop").arg(effort(0), effort(door->opens));
  if (door->latch > 0)
    words += QObject::tr("; %1 to free the latch")
                 .arg(QString::fromStdString(
                     rig::formatQuantity(door->latch + rig::handleEffort(*door, 0), rig::Dimension::force)));
  return words + ".";
}

GroupPanel::GroupPanel(Session& session, rig::Id group, QWidget* parent) : QWidget(parent) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  const rig::Group& now = *session.rig().group(group);
  auto* choices = new ChoiceFields(now.form);
  column->addWidget(choices);
  auto* remark = new QLabel(remarkOn(now.form));
  remark->setObjectName("remark");
  remark->setWordWrap(true);
  remark->setFont(look::font(look::Size::small));
  remark->setProperty("muted", true);
  column->addWidget(remark);
  connect(choices, &ChoiceFields::settled, this, [&session, choices, group](const QString& choice) {
    const QString name = QString::fromStdString(session.rig().group(group)->name);
    const bool done = session.edit(tr("set %1 of %2").arg(choice.toLower(), name),
                                   [&](rig::Rig& rig) { rig::remakeKit(rig, group, choices->form()); });
    if (!done) choices->reset();  // the Card shows what is, not what could not be made
  });
}

}  // namespace calm::app
