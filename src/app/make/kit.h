// SPDX-License-Identifier: GPL-3.0-or-later
// The Kit panel: ring, ladder, door from a few choices, seen in the View before they are made.
#pragma once

#include "app/make/many.h"

namespace calm::app {

class ChoiceFields;

class KitMaker : public TrialMaker {
  Q_OBJECT
 public:
  KitMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString stepName() const override { return tr("make %1").arg(name_->text()); }
  void apply(rig::Rig& rig) override;
  QString outcome(const rig::Rig& before, const rig::Rig& after) const override;
  void chooseForm();

  QComboBox *kind_, *holder_;
  QLineEdit* name_;
  PointField* at_;
  Field* heading_;
  ChoiceFields* choices_ = nullptr;
};

}  // namespace calm::app
