// SPDX-License-Identifier: GPL-3.0-or-later
// Why (W): what made the selected joint's load or separation what it was, and what would help, by how much. Remedies
// are tried on copies in the background and told only then.
#pragma once

#include <QPointer>
#include <atomic>
#include <memory>

#include "app/look/floating_panel.h"
#include "app/session.h"
#include "run/why.h"

namespace calm::app {

class WhyPanel : public FloatingPanel {
  Q_OBJECT
 public:
  WhyPanel(Session& session, QWidget* parent);
  ~WhyPanel() override;
  // About the selected joint, or away again.
  void toggle();
  bool isTrying() const { return trying_; }
  const std::vector<run::Cause>& causes() const { return causes_; }

 private:
  void ask();
  void cancel();
  void rebuild();
  void addCause(const run::Cause& cause);
  QString quantity(double value) const;

  Session& session_;
  QLabel* state_;
  QWidget* list_;
  QVBoxLayout* rows_;
  run::Trouble trouble_;
  rig::RigPtr about_;
  std::vector<run::Cause> causes_;
  std::shared_ptr<std::atomic<bool>> stop_;
  bool trying_ = false;
};

}  // namespace calm::app
