// SPDX-License-Identifier: GPL-3.0-or-later
// The choices of a group that a kit made: changing one makes the group anew, hand-made settings kept.
#pragma once

#include <QWidget>

#include "app/session.h"

namespace calm::app {

class GroupPanel : public QWidget {
  Q_OBJECT
 public:
  GroupPanel(Session& session, rig::Id group, QWidget* parent = nullptr);
};

// What follows from a form, in words: a door's effort at its handle.
QString remarkOn(const rig::Form& form);

}  // namespace calm::app
