// SPDX-License-Identifier: GPL-3.0-or-later
// Runs (U): those that are kept by name, with the rig or apart; to compare with, to save, to open.
#pragma once

#include <atomic>
#include <memory>

#include "app/look/floating_panel.h"
#include "app/session.h"

class QLineEdit;
class QProgressBar;

namespace calm::app {

class RunsPanel : public FloatingPanel {
  Q_OBJECT
 public:
  RunsPanel(Session& session, QWidget* parent);
  ~RunsPanel() override;
  void toggle();
  // In the background, with progress; a message tells how it ended.
  void save(const std::shared_ptr<run::Recording>& recording, const QString& path);
  void open(const QString& path);
  bool isBusy() const { return bool(stop_); }
  // Where the rig's own runs are kept: a folder beside its file; empty while it has none.
  QString folder() const;

 private:
  void rebuild();
  void addRun(std::size_t i);
  void addFile(const QString& path);
  void work(const QString& what,
            const std::function<QString(const std::atomic<bool>&, const std::function<void(int)>&)>& job);
  void ask(const std::shared_ptr<run::Recording>& recording);

  Session& session_;
  QLineEdit* name_;
  QWidget* list_;
  QVBoxLayout* rows_;
  QProgressBar* progress_;
  QPushButton* cancel_;
  std::shared_ptr<std::atomic<bool>> stop_;
};

}  // namespace calm::app
