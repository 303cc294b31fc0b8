// SPDX-License-Identifier: GPL-3.0-or-later
// The main window: View above, Ledger below, Card at the right, Add at the View's left edge.
#pragma once

#include <QMainWindow>

#include "app/session.h"

class QLabel;
class QPushButton;
class QStackedWidget;

namespace calm::app {

class Card;
class AdvicePanel;
class FindPanel;
class WhyPanel;
class ComparePanel;
class EffortPanel;
class HandsStrip;
class RunsPanel;
class SweepPanel;
class TracesPanel;
class Ledger;
class Maker;
class View;

class Window : public QMainWindow {
  Q_OBJECT
 public:
  explicit Window(Session& session);

  // Opens a panel of the Add strip; pressing its key again closes it.
  // Asks what to do with work that a crash left behind.
  void offerRecovery(const QString& folder);
  void openPanel(const QString& kind);
  // Whether the file's name is that of a mesh.
  static bool isMesh(const QString& file);
  // Opens the Import panel with the file.
  void import(const QString& file);
  bool isImporting() const;
  // Whether Why is still trying remedies.
  bool isAsking() const;
  void closeMaker();
  Maker* maker() const { return maker_; }
  View* view() const { return view_; }
  Ledger* ledger() const { return ledger_; }
  Card* card() const { return card_; }
  HandsStrip* hands() const { return hands_; }
  TracesPanel* traces() const { return traces_; }
  SweepPanel* sweep() const { return sweep_; }
  RunsPanel* runs() const { return runs_; }
  EffortPanel* effort() const { return effort_; }
  // What stands below the View.
  enum class Lower { ledger, traces, sweep };
  void showLower(Lower what);
  Lower lower() const;
  // Opens the Cue panel: for the selected cue, or a new one at this time (s) that goes on for so long (s; 0: as usual).
  void openCue(double time, double lasts = 0);

 protected:
  void closeEvent(QCloseEvent* event) override;
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  QWidget* buildHeader();
  QWidget* buildStageArea();
  QWidget* buildTransport();
  void buildActions();
  void addRunActions(QMenu* run);
  void refreshVerdicts();
  void startHere(bool moving);
  void bake(bool on);
  QAction* action(const QString& text, const QKeySequence& key, const std::function<void()>& run);
  void showMaker(Maker* maker, const QString& kind);
  void placeFloating();
  void refresh();
  void refreshAdvice();
  void refreshTitle();
  void showMessage(const QString& text, bool fault);
  void duplicate();
  void group();
  void ungroup();
  void noteRecent();
  void fillRecent();
  void deleteSelection();
  bool mayLeave();
  void newRig();
  void openFile();
  bool saveFile(bool as);

  Session& session_;
  View* view_ = nullptr;
  Ledger* ledger_ = nullptr;
  Card* card_ = nullptr;
  Maker* maker_ = nullptr;
  QWidget *stageArea_ = nullptr, *addStrip_ = nullptr;
  QLabel *title_ = nullptr, *state_ = nullptr, *time_ = nullptr, *message_ = nullptr;
  QPushButton *advice_ = nullptr, *verdicts_ = nullptr;
  const run::Recording* judged_ = nullptr;
  AdvicePanel* advicePanel_ = nullptr;
  FindPanel* find_ = nullptr;
  WhyPanel* why_ = nullptr;
  ComparePanel* compare_ = nullptr;
  RunsPanel* runs_ = nullptr;
  EffortPanel* effort_ = nullptr;
  TracesPanel* traces_ = nullptr;
  SweepPanel* sweep_ = nullptr;
  HandsStrip* hands_ = nullptr;
  QStackedWidget* lower_ = nullptr;
  QList<QPushButton*> tabs_;
  QList<QWidget*> spare_;  // of the transport, hidden where the window is narrow; keys do the same
  QMenu* recent_ = nullptr;
  QList<QLabel*> chips_;
  QPushButton* play_ = nullptr;
  QTimer messageTimer_;
};

}  // namespace calm::app
