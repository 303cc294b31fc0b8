// SPDX-License-Identifier: GPL-3.0-or-later
// The settings of the selected parts: role, place, size, surface, damping. Edits go to all of them.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QFormLayout;

namespace calm::app {

class PartPanel : public QWidget {
  Q_OBJECT
 public:
  PartPanel(Session& session, const std::vector<rig::Id>& parts, QWidget* parent = nullptr);

 private:
  // A number of each part; where it has none (a ball's width), nothing.
  using Get = std::function<std::optional<double>(const rig::Part&)>;
  using Set = std::function<void(rig::Part&, double)>;
  void addField(const QString& label, rig::Dimension dimension, const Get& get, const Set& set);
  void addRole();
  void addSizes();
  void set(const QString& what, const std::function<void(rig::Part&)>& change);

  Session& session_;
  std::vector<rig::Id> parts_;
  QFormLayout* form_;
};

}  // namespace calm::app
