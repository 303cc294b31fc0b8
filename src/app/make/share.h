// SPDX-License-Identifier: GPL-3.0-or-later
// Share settings: what one of the selected joints has, to the others, mirrored where they are.
#pragma once

#include "app/make/maker.h"
#include "rig/sharing.h"

class QCheckBox;

namespace calm::app {

class ShareMaker : public Maker {
  Q_OBJECT
 public:
  ShareMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override { return tr("share settings of %1").arg(from_->currentText()); }
  void apply(rig::Rig& rig) override;
  void listJoints();
  void addSwitch(const QString& label, bool rig::Shared::*member);

  QComboBox* from_;
  QLabel* outcome_;
  rig::Shared what_;
};

}  // namespace calm::app
