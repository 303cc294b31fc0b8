// SPDX-License-Identifier: GPL-3.0-or-later
// What the selected parts weigh and how it is spread: mass by value, density or factor; centre of mass and inertia.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QLineEdit;
class QVBoxLayout;

namespace calm::app {

class MassPanel : public QWidget {
  Q_OBJECT
 public:
  MassPanel(Session& session, const std::vector<rig::Id>& parts, QWidget* parent = nullptr);

 private:
  // What a field shows of a part, and what it makes of a part when something else is typed (an empty field: nothing).
  // The reader says what the text means, or nothing if it means nothing.
  struct Row {
    QString label;
    std::function<QString(const rig::Part&)> show;
    std::function<void(rig::Part&, const QString&)> put;  // throws std::invalid_argument with what was expected
    QString nothing;                                      // pale words for an empty field
  };
  void addRow(const Row& row);
  void addCenter(int axis);
  void addInertia(int axis);

  Session& session_;
  std::vector<rig::Id> parts_;
  QVBoxLayout* column_;
};

}  // namespace calm::app
