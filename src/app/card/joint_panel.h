// SPDX-License-Identifier: GPL-3.0-or-later
// The settings of the selected joints: type, what only some types have, and a panel for each free axis.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QVBoxLayout;

namespace calm::app {

class AxisPanel;
class ConeDial;

class JointPanel : public QWidget {
  Q_OBJECT
 public:
  // Of joints of one type.
  JointPanel(Session& session, const std::vector<rig::Id>& joints, QWidget* parent = nullptr);
  void refresh();

 private:
  void addType();
  void addCone();
  void addFormField(const QString& label, double JointForm::*member, rig::Dimension dimension);
  void addSwitch(const QString& label, const QString& tip, bool rig::Joint::*member);
  void set(const QString& what, const std::function<void(rig::Joint&)>& change);
  const rig::Joint& first() const { return *session_.rig().joint(joints_.front()); }

  Session& session_;
  std::vector<rig::Id> joints_;
  QVBoxLayout* column_;
  std::vector<AxisPanel*> axes_;
  ConeDial* cone_ = nullptr;
};

}  // namespace calm::app
