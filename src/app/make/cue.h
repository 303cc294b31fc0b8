// SPDX-License-Identifier: GPL-3.0-or-later
// Cue (Q): what is to happen in the run, and when; for a new cue, or the selected one changed.
#pragma once

#include <array>

#include "app/make/maker.h"

namespace calm::app {

class CueMaker : public Maker {
  Q_OBJECT
 public:
  // Changes the selected cue, if one is; otherwise a new one, at this time (s): a push where it goes on for a while.
  CueMaker(Session& session, double time, double lasts, QWidget* parent);
  void take(const Pick& pick) override;

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override;
  void apply(rig::Rig& rig) override;
  rig::Cue cue() const;
  rig::Trigger trigger() const;
  void show(const rig::Cue& cue);
  void listReadings();
  void listAxes();
  void showVector();
  void showAxis(const rig::Cue& cue);
  struct AxisField {
    QLineEdit* line;
    double AxisDef::*number;
    rig::Dimension dimension;
    bool ofMotor;
  };
  std::array<AxisField, 5> axisFields(bool turns) const;
  QLineEdit* addLine(const QString& label, const QString& none);

  rig::Cue was_;
  QComboBox *act_, *when_, *of_, *reading_, *by_, *part_, *joint_, *role_, *axis_, *field_, *motor_;
  Field *at_, *delay_, *lasts_, *mass_, *radius_, *share_, *cap_;
  QLineEdit *value_, *x_, *y_, *z_, *low_, *high_, *speed_, *strength_, *target_;
  PointField* place_;
  std::vector<rig::Reading> readings_;
  bool ready_ = false;  // all fields are there
};

}  // namespace calm::app
