// SPDX-License-Identifier: GPL-3.0-or-later
// Panels that act on many parts at once: copies, joints between many, cutting.
#pragma once

#include "app/make/maker.h"

namespace calm::app {

// A maker whose preview is the edit itself, tried on a copy of the rig.
class TrialMaker : public Maker {
  Q_OBJECT
 public:
  using Maker::Maker;
  void take(const Pick& pick) override;

 protected:
  QString preview(Preview& preview) override;
  // What the trial made, in words.
  virtual QString outcome(const rig::Rig& before, const rig::Rig& after) const = 0;
  // The parts that are selected, those of selected lines included.
  std::set<rig::Id> chosenParts() const;
  void addOutcome();

  QLabel* outcome_ = nullptr;
};

class CopyMaker : public TrialMaker {
  Q_OBJECT
 public:
  CopyMaker(Session& session, QWidget* parent);

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override { return tr("copy"); }
  void apply(rig::Rig& rig) override;
  QString outcome(const rig::Rig& before, const rig::Rig& after) const override;

  QComboBox *how_, *across_;
  QSpinBox* count_;
  PointField *step_, *through_;
};

class ManyJointsMaker : public TrialMaker {
  Q_OBJECT
 public:
  ManyJointsMaker(Session& session, QWidget* parent);

 private:
  QString preview(Preview& preview) override;
  QString stepName() const override { return tr("join many"); }
  void apply(rig::Rig& rig) override;
  QString outcome(const rig::Rig& before, const rig::Rig& after) const override;

  QComboBox *type_, *how_;
  Field* gap_;
  QSpinBox* most_;
};

class CutMaker : public TrialMaker {
  Q_OBJECT
 public:
  CutMaker(Session& session, QWidget* parent);

 private:
  QString stepName() const override { return tr("cut"); }
  void apply(rig::Rig& rig) override;
  QString outcome(const rig::Rig& before, const rig::Rig& after) const override;

  QSpinBox* count_;
  QComboBox* type_;
};

}  // namespace calm::app
