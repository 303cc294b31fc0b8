// SPDX-License-Identifier: GPL-3.0-or-later
// Expect (E): what every run of this rig is to do, pinned to it.
#pragma once

#include "app/make/maker.h"

namespace calm::app {

class ExpectMaker : public Maker {
  Q_OBJECT
 public:
  ExpectMaker(Session& session, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override { return tr("expect"); }
  void apply(rig::Rig& rig) override;
  void listReadings();
  rig::Expectation expectation() const;  // throws std::invalid_argument, saying what to type

  QComboBox *kind_, *of_, *reading_;
  QLineEdit *low_, *high_;
  Field *speed_, *from_, *until_;
  Field* share_;
  QLabel* outcome_;
  std::vector<rig::Reading> readings_;
};

}  // namespace calm::app
