// SPDX-License-Identifier: GPL-3.0-or-later
// The tags of the selected things, in one line.
#pragma once

#include <QLineEdit>

#include "app/session.h"
#include "rig/selection.h"

namespace calm::app {

inline QLineEdit* tagsField(Session& session, const std::vector<rig::Id>& ids) {
  const auto tagsOf = [&](rig::Id id) {
    const rig::Part* part = session.rig().part(id);
    return part ? part->tags : session.rig().joint(id)->tags;
  };
  const bool differ = std::any_of(ids.begin(), ids.end(), [&](rig::Id id) { return tagsOf(id) != tagsOf(ids[0]); });
  auto* field = new QLineEdit(differ ? QString() : QString::fromStdString(rig::tagText(tagsOf(ids[0]))));
  field->setAccessibleName(QObject::tr("Tags"));
  field->setPlaceholderText(differ ? QObject::tr("they differ") : QObject::tr("none; as in: left, wet"));
  const QString before = field->text();
  QObject::connect(field, &QLineEdit::editingFinished, field, [=, &session] {
    if (field->text() == before) return;
    const std::set<std::string> tags = rig::tagsIn(field->text().toStdString());
    session.edit(QObject::tr("tag %1 things").arg(ids.size()), [&](rig::Rig& rig) {
      rig::setTags(rig, {ids.begin(), ids.end()}, tags);
    });
  });
  return field;
}

}  // namespace calm::app
