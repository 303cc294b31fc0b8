// SPDX-License-Identifier: GPL-3.0-or-later
// The list behind the amber chip: what is wrong or will be, with its evidence, a way to it, and what mends it.
#pragma once

#include <QFrame>
#include <functional>

#include "app/session.h"

class QVBoxLayout;

namespace calm::app {

class AdvicePanel : public QFrame {
  Q_OBJECT
 public:
  // `partings` tells what parted in the run, in words.
  AdvicePanel(Session& session, std::function<QStringList()> partings, QWidget* parent);
  // Shows it above the transport, or hides it.
  void toggle();

 private:
  void rebuild();
  void place();
  void addRow(const rig::Finding& finding);

  Session& session_;
  std::function<QStringList()> partings_;
  QWidget* list_ = nullptr;
  QVBoxLayout* rows_ = nullptr;
};

}  // namespace calm::app
