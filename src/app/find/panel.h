// SPDX-License-Identifier: GPL-3.0-or-later
// Find (/): every action with its keys, every part, joint and line by name, and joints by rule.
#pragma once

#include <QAction>
#include <QFrame>
#include <functional>
#include <vector>

#include "app/session.h"

class QLineEdit;
class QListWidget;

namespace calm::app {

// Joints by rule: "hinges", "hinges with load above 80 %", "load above 2 kN". Nothing if the text is no rule.
struct JointRule {
  std::optional<JointType> type;
  std::optional<double> loadAbove;   // of the strength
  std::optional<double> forceAbove;  // N
};
std::optional<JointRule> parseRule(const QString& text);
// The joints that the rule means, by the peaks of the run.
std::set<rig::Id> jointsBy(const JointRule& rule, const Session& session);

class FindPanel : public QFrame {
  Q_OBJECT
 public:
  FindPanel(Session& session, QWidget* parent);
  void toggle();

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  struct Hit {
    QString text, keys;
    std::function<void()> take;
  };
  void list();
  void take();
  std::vector<Hit> hits(const QString& text) const;

  Session& session_;
  QLineEdit* words_;
  QListWidget* list_;
  std::vector<Hit> hits_;
};

}  // namespace calm::app
