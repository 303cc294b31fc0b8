// SPDX-License-Identifier: GPL-3.0-or-later
// The Card: the selected joint, part or group as instruments; the stage when nothing is selected.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QLabel;
class QLineEdit;
class QVBoxLayout;

namespace calm::app {

class JointPanel;
class StrengthGauge;
class Field;

class Card : public QWidget {
  Q_OBJECT
 public:
  explicit Card(Session& session, QWidget* parent = nullptr);
  // Puts the cursor into the name, all of it selected.
  void beginRename();

 signals:
  void whyWanted();
  // The selected cue is to be changed (a time below 0: where it is).
  void cueWanted(double time);

 private:
  void rebuild();
  void refresh();  // what changes with the playhead

  void buildHeader(const QString& kind, const QString& about);
  void buildJoint(const rig::Joint& joint);
  void buildPart(const rig::Part& part);
  void buildGroup(const rig::Group& group);
  void buildMany();
  void buildStage();
  void buildCue(const rig::Cue& cue);
  void addEvidence(rig::Id joint);
  void addExpectation(std::size_t i);
  void showVerdicts();
  StrengthGauge* buildGauge(const QString& title, rig::Dimension dimension);
  QLabel* reading(const QString& title);
  void heading(const QString& text);
  void rule();
  void setStrength(rig::Dimension dimension, std::optional<double> strength);
  void foretell(std::optional<double> force, std::optional<double> torque);
  std::optional<std::size_t> jointIndex() const;

  Session& session_;
  QWidget* content_ = nullptr;
  QVBoxLayout* column_ = nullptr;
  QLineEdit* name_ = nullptr;
  JointPanel* jointPanel_ = nullptr;
  std::vector<QLabel*> verdicts_;
  std::optional<bool> verdictsKnown_;  // whether they show what the finished run gave
  StrengthGauge *forceGauge_ = nullptr, *torqueGauge_ = nullptr;
  QLabel *foretold_ = nullptr, *forceNow_ = nullptr, *torqueNow_ = nullptr, *separationNow_ = nullptr,
         *peaks_ = nullptr, *speedNow_ = nullptr, *placeNow_ = nullptr, *energyNow_ = nullptr, *costNow_ = nullptr,
         *begunNow_ = nullptr, *putIn_ = nullptr;
};

}  // namespace calm::app
