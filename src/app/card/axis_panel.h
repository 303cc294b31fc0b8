// SPDX-License-Identifier: GPL-3.0-or-later
// What one free axis of the selected joints may do: a dial for its stops, and fields for stops, motor, friction and
// spring. With several joints selected, edits go to all and differing values are marked.
#pragma once

#include <QWidget>

#include "app/session.h"
#include "rig/units.h"

class QFormLayout;
class QLabel;
class QVBoxLayout;

namespace calm::app {

class AxisDial;
class EnvelopePlot;

class AxisPanel : public QWidget {
  Q_OBJECT
 public:
  // Of axis k of these joints, which are of one type.
  AxisPanel(Session& session, const std::vector<rig::Id>& joints, int k, QWidget* parent = nullptr);
  // What moves with the playhead.
  void refresh();

 private:
  void addTry();
  void addMotor(const AxisDef& axis, bool turns);
  void addSpring(const AxisDef& axis);
  void tryAt(double value);
  void endTry();
  void addField(const QString& label, double AxisDef::*member, rig::Dimension dimension, double none,
                const QString& noneWord);
  QFormLayout* addForm(QVBoxLayout* column);
  QFormLayout* addFold(const QString& title, bool used);
  void set(const QString& what, const std::function<void(AxisDef&)>& change);
  const AxisDef& axisOf(rig::Id joint) const { return session_.rig().joint(joint)->axes[k_]; }

  Session& session_;
  std::vector<rig::Id> joints_;
  int k_;
  QString word_;
  AxisDial* dial_;
  QLabel* now_;
  EnvelopePlot* envelope_ = nullptr;
  QLabel* envelopeWords_ = nullptr;
  QFormLayout* form_;
  std::optional<double> triedAt_;  // m or rad, while the range is tried
  std::size_t trailFrames_ = 0;    // that the envelope shows
  std::size_t sweptFrames_ = 0;    // that swept_ covers
  std::optional<std::pair<double, double>> swept_;
};

}  // namespace calm::app
