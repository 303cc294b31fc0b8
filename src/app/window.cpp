// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/window.h"

#include <QCloseEvent>
#include <QComboBox>
#include <QDropEvent>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QPushButton>
#include <QScrollArea>
#include <QSettings>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

#include "app/advice/panel.h"
#include "app/card/card.h"
#include "app/compare/panel.h"
#include "app/effort/panel.h"
#include "app/find/panel.h"
#include "app/ledger/ledger.h"
#include "app/look/look.h"
#include "app/make/cue.h"
#include "app/make/expect.h"
#include "app/make/import.h"
#include "app/make/kit.h"
#include "app/make/maker.h"
#include "app/make/many.h"
#include "app/make/share.h"
#include "app/recovery.h"
#include "app/runs/panel.h"
#include "app/sweep/panel.h"
#include "app/traces/panel.h"
#include "app/view/hands_strip.h"
#include "app/view/view.h"
#include "app/why/panel.h"
#include "rig/copies.h"
#include "rig/demos.h"
#include "rig/edits.h"
#include "rig/kits/group.h"
#include "rig/selection.h"
#include "run/expect.h"
#include "run/restart.h"

namespace calm::app {

namespace {
QLabel* chip(const QString& name) {
  auto* label = new QLabel;
  label->setObjectName(name);
  label->setFixedHeight(24);
  label->setStyleSheet(QString("padding: 3px 10px; border: 1px solid %1; border-radius: 11px; background: %2")
                           .arg(look::kHairline.name(), look::kWell.name()));
  return label;
}
}  // namespace

Window::Window(Session& session) : session_(session) {
  setAcceptDrops(true);
  setStyleSheet(look::styleSheet());
  QApplication::setFont(look::font(look::Size::text));
  resize(1280, 800);
  setMinimumSize(1024, 640);
  auto* central = new QWidget;
  auto* column = new QVBoxLayout(central);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  column->addWidget(buildHeader());
  auto* body = new QHBoxLayout;
  body->setSpacing(0);
  auto* split = new QSplitter(Qt::Vertical);
  split->setHandleWidth(1);
  split->addWidget(buildStageArea());
  auto* lower = new QWidget;
  auto* lowerColumn = new QVBoxLayout(lower);
  lowerColumn->setContentsMargins(0, 0, 0, 0);
  lowerColumn->setSpacing(0);
  lowerColumn->addWidget(buildTransport());
  ledger_ = new Ledger(session_);
  connect(ledger_, &Ledger::cueWanted, this, &Window::openCue);
  traces_ = new TracesPanel(session_);
  sweep_ = new SweepPanel(session_);
  lower_ = new QStackedWidget;
  for (QWidget* page : std::initializer_list<QWidget*>{ledger_, traces_, sweep_}) lower_->addWidget(page);
  lowerColumn->addWidget(lower_, 1);
  split->addWidget(lower);
  split->setSizes({470, 270});
  split->setStretchFactor(0, 1);
  body->addWidget(split, 1);
  card_ = new Card(session_);
  auto* scroll = new QScrollArea;
  scroll->setWidget(card_);
  scroll->setWidgetResizable(true);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  scroll->setFrameShape(QFrame::NoFrame);
  scroll->setFixedWidth(look::kCardWidth + 1);
  scroll->setStyleSheet(QString("QScrollArea { border-left: 1px solid %1; }").arg(look::kHairline.name()));
  body->addWidget(scroll);
  column->addLayout(body, 1);
  setCentralWidget(central);
  buildActions();
  connect(&session_, &Session::changed, this, &Window::refresh);
  connect(&session_, &Session::rigChanged, this, &Window::refreshTitle);
  advicePanel_ = new AdvicePanel(
      session_, [this] { return ledger_->partings(); }, this);
  find_ = new FindPanel(session_, this);
  why_ = new WhyPanel(session_, this);
  compare_ = new ComparePanel(session_, this);
  runs_ = new RunsPanel(session_, this);
  effort_ = new EffortPanel(session_, this);
  connect(card_, &Card::whyWanted, why_, &WhyPanel::toggle);
  connect(card_, &Card::cueWanted, this, [this](double time) { openCue(time); });
  connect(&session_, &Session::adviceChanged, this, &Window::refreshAdvice);
  connect(&session_, &Session::rigChanged, this, &Window::noteRecent);
  connect(&session_, &Session::message, this, &Window::showMessage);
  messageTimer_.setSingleShot(true);
  connect(&messageTimer_, &QTimer::timeout, message_, [this] { message_->hide(); });
  refreshTitle();
  refresh();
}

QWidget* Window::buildHeader() {
  auto* header = new QWidget;
  header->setFixedHeight(44);
  auto* row = new QHBoxLayout(header);
  row->setContentsMargins(look::kMargin, 0, look::kMargin, 0);
  title_ = new QLabel;
  title_->setFont(look::font(look::Size::heading, true));
  state_ = new QLabel;
  state_->setProperty("muted", true);
  row->addWidget(title_);
  row->addWidget(state_);
  row->addSpacing(10);
  message_ = new QLabel;
  message_->setObjectName("message");
  message_->hide();
  row->addWidget(message_);
  row->addStretch();
  verdicts_ = new QPushButton;
  verdicts_->setObjectName("verdicts");
  verdicts_->setAccessibleName(tr("Expectations"));
  verdicts_->setFixedHeight(26);
  verdicts_->setFocusPolicy(Qt::TabFocus);
  verdicts_->hide();
  connect(verdicts_, &QPushButton::clicked, this, [this] { session_.select({}); });
  row->addWidget(verdicts_);
  advice_ = new QPushButton;
  advice_->setObjectName("advice");
  advice_->setAccessibleName(tr("Advice"));
  advice_->setFixedHeight(26);
  advice_->setFocusPolicy(Qt::TabFocus);
  advice_->hide();
  connect(advice_, &QPushButton::clicked, this, [this] { advicePanel_->toggle(); });
  row->addWidget(advice_);
  for (const char* name : {"gravity", "rate", "units", "ground"}) {
    chips_ << chip(name);
    row->addWidget(chips_.back());
  }
  return header;
}

QWidget* Window::buildStageArea() {
  stageArea_ = new QWidget;
  auto* layout = new QVBoxLayout(stageArea_);
  layout->setContentsMargins(0, 0, 0, 0);
  if (View::available()) {
    view_ = new View(session_);
    layout->addWidget(view_);
  } else {
    auto* notice =
        new QLabel(tr("There is no OpenGL 3.3 here, so the View cannot be drawn.\n"
                      "Everything else works: add by typing, run, and read the Ledger."));
    notice->setObjectName("noView");
    notice->setAlignment(Qt::AlignCenter);
    notice->setStyleSheet(QString("background: %1").arg(look::kHazeHigh.name()));
    layout->addWidget(notice);
  }
  stageArea_->installEventFilter(this);
  if (view_) {
    hands_ = new HandsStrip(*view_, stageArea_);
    connect(hands_, &HandsStrip::resized, this, &Window::placeFloating);
  }
  addStrip_ = new QFrame(stageArea_);
  addStrip_->setObjectName("addStrip");
  addStrip_->setStyleSheet(
      QString("#addStrip { border: 1px solid %1; border-radius: 8px; }").arg(look::kHairline.name()));
  auto* strip = new QVBoxLayout(addStrip_);
  strip->setContentsMargins(8, 8, 8, 8);
  strip->setSpacing(5);
  auto* word = new QLabel(tr("Add"));
  word->setFont(look::font(look::Size::small, true));
  word->setProperty("muted", true);
  strip->addWidget(word);
  for (const auto& [kind, text] :
       {std::pair("part", tr("Part   P")), std::pair("joint", tr("Joint   J")), std::pair("line", tr("Line   L")),
        std::pair("kit", tr("Kit   K")), std::pair("import", tr("Import"))}) {
    auto* button = new QPushButton(text);
    button->setObjectName(QString("add-") + kind);
    const QString name = kind;
    connect(button, &QPushButton::clicked, this, [this, name] { openPanel(name); });
    strip->addWidget(button);
  }
  return stageArea_;
}

QWidget* Window::buildTransport() {
  auto* bar = new QWidget;
  bar->setFixedHeight(42);
  auto* row = new QHBoxLayout(bar);
  row->setContentsMargins(look::kMargin, 0, look::kMargin, 0);
  const auto button = [&](const QString& text, const QString& name, const QString& tip,
                          const std::function<void()>& run) {
    auto* b = new QPushButton(text);
    b->setAccessibleName(name);
    b->setToolTip(tip);
    b->setFocusPolicy(Qt::TabFocus);
    connect(b, &QPushButton::clicked, this, run);
    row->addWidget(b);
    return b;
  };
  play_ =
      button(tr("Run"), tr("Run"), tr("Run or pause (Space)"), [this] { session_.setPlaying(!session_.playing()); });
  play_->setProperty("primary", true);
  play_->setFixedWidth(76);
  auto* back =
      button(QStringLiteral("\u2039"), tr("Step back"), tr("One frame back (,)"), [this] { session_.stepFrames(-1); });
  auto* on =
      button(QStringLiteral("\u203a"), tr("Step on"), tr("One frame on (.)"), [this] { session_.stepFrames(1); });
  for (QPushButton* step : {back, on}) step->setFixedWidth(34);
  spare_ << back << on
         << button(tr("Start"), tr("Back to the start"), tr("Back to the start (Home)"), [this] { session_.reset(); });
  time_ = new QLabel;
  time_->setFont(look::font(look::Size::heading, true));
  time_->setMinimumWidth(118);
  row->addWidget(time_);
  auto* rate = new QComboBox;
  rate->setAccessibleName(tr("Play speed"));
  rate->setToolTip(tr("How fast the run is shown"));
  rate->setFocusPolicy(Qt::TabFocus);
  for (const double r : {1.0, 0.5, 0.25, 0.1, 0.02}) rate->addItem(r == 1 ? tr("1\u00d7") : tr("1/%1").arg(1 / r), r);
  connect(rate, &QComboBox::currentIndexChanged, this,
          [this, rate] { session_.setPlayRate(rate->currentData().toDouble()); });
  row->addWidget(rate);
  row->addStretch();
  for (const auto& [text, tip] : {std::pair(tr("Ledger"), tr("A row a joint, its run as a lane")),
                                  std::pair(tr("Traces"), tr("Readings over time (V)")),
                                  std::pair(tr("Sweep"), tr("A setting over a range (Z)"))}) {
    auto* tab = new QPushButton(text);
    tab->setAccessibleName(tr("Show %1").arg(text));
    tab->setToolTip(tip);
    tab->setCheckable(true);
    tab->setFocusPolicy(Qt::TabFocus);
    row->addWidget(tab);
    connect(tab, &QPushButton::clicked, this, [this, at = tabs_.size()] { showLower(static_cast<Lower>(at)); });
    tabs_ << tab;
  }
  tabs_.front()->setChecked(true);
  const auto choice = [&](const QString& name, const QStringList& words, const std::function<void(int)>& choose) {
    auto* label = new QLabel(name);
    label->setProperty("muted", true);
    row->addWidget(label);
    spare_ << label;
    auto* box = new QComboBox;
    box->setAccessibleName(name);
    box->addItems(words);
    box->setFocusPolicy(Qt::TabFocus);
    connect(box, &QComboBox::currentIndexChanged, this, choose);
    row->addWidget(box);
  };
  choice(tr("Lanes"), {tr("load"), tr("separation"), tr("stops"), tr("drive"), tr("speed"), tr("energy")},
         [this](int i) { session_.setQuantity(static_cast<Quantity>(i)); });
  choice(tr("Order"), {tr("rail"), tr("worst"), tr("type")},
         [this](int i) { ledger_->setOrder(static_cast<Ledger::Order>(i)); });
  auto* filter = new QLineEdit;
  filter->setAccessibleName(tr("Filter"));
  filter->setPlaceholderText(tr("filter"));
  filter->setFixedWidth(84);
  connect(filter, &QLineEdit::textChanged, this, [this](const QString& text) { ledger_->setFilter(text); });
  row->addWidget(filter);
  return bar;
}

Window::Lower Window::lower() const {
  return static_cast<Lower>(lower_->currentIndex());
}

void Window::showLower(Lower what) {
  lower_->setCurrentIndex(static_cast<int>(what));
  for (qsizetype i = 0; i < tabs_.size(); ++i) tabs_[i]->setChecked(i == static_cast<int>(what));
}

void Window::openCue(double time, double lasts) {
  // The run goes on behind the panel: a cue belongs to a moment of it.
  const double now = time >= 0 ? time : session_.playhead();
  if (time >= 0 && session_.rig().cue(session_.selected())) session_.select({});
  closeMaker();
  session_.setPlaying(false);
  const double frame = 1 / session_.rig().stage.frameRate;
  showMaker(new CueMaker(session_, std::round(now / frame) * frame, lasts, stageArea_), "cue");
}

void Window::startHere(bool moving) {
  if (!session_.hasFrames()) return;
  const auto recording = session_.sharedRecording();
  const std::size_t frame = recording->indexAt(session_.playhead());
  session_.edit(moving ? tr("start at %1 s, moving").arg(session_.playhead(), 0, 'f', 2)
                       : tr("start at %1 s, at rest").arg(session_.playhead(), 0, 'f', 2),
                [&](rig::Rig& rig) { rig = run::startingAt(*recording, frame, moving); });
}

void Window::bake(bool on) {
  if (on && (!session_.hasFrames() || session_.computing()))
    return showMessage(tr("Wait for the run: there is no motion to bake yet."), true);
  std::set<rig::Id> parts;
  for (const rig::Part& p : session_.rig().parts)
    if (session_.selection().count(p.id) || (p.group && session_.selection().count(p.group))) parts.insert(p.id);
  const auto recording = session_.sharedRecording();
  session_.edit(on ? tr("bake to keys") : tr("free from keys"),
                [&](rig::Rig& rig) { on ? run::bake(rig, *recording, parts) : run::unbake(rig, parts); });
}

// How many expectations the finished run met.
void Window::refreshVerdicts() {
  const run::Recording* recording = session_.computing() || session_.onTrial() ? nullptr : session_.recording();
  if (recording == judged_) return;
  judged_ = recording;
  const auto& expected = session_.rig().expectations;
  verdicts_->setVisible(recording && session_.hasFrames() && !expected.empty());
  if (!verdicts_->isVisibleTo(this)) return;
  std::ptrdiff_t met = 0;
  for (const run::Verdict& v : run::judgeAll(*recording)) met += v.met;
  const bool all = met == static_cast<std::ptrdiff_t>(expected.size());
  verdicts_->setText(all ? tr("\u2713 as expected")
                         : tr("\u2717 %1 of %2 not met").arg(expected.size() - std::size_t(met)).arg(expected.size()));
  verdicts_->setStyleSheet(
      QString("padding: 4px 12px; border: none; border-radius: 12px; font-weight: normal; color: %1; background: %2")
          .arg((all ? look::kTeal : look::kBrick).name(), (all ? look::kTealTint : look::kAmberTint).name()));
}

void Window::openPanel(const QString& kind) {
  if (kind == "advice") return advicePanel_->toggle();
  if (kind == "find") return find_->toggle();
  if (kind == "why") return why_->toggle();
  if (kind == "compare") return compare_->toggle();
  if (kind == "runs") return runs_->toggle();
  if (kind == "effort") return effort_->toggle();
  if (kind == "traces") return showLower(Lower::traces);
  if (kind == "sweep") return showLower(Lower::sweep);
  if (kind == "cue") return openCue(-1);
  const bool same = maker_ && maker_->property("kind").toString() == kind;
  closeMaker();
  if (same) return;
  // What is being made stands in the start pose.
  session_.setPlaying(false);
  session_.reset();
  Maker* maker = nullptr;
  if (kind == "part") maker = new PartMaker(session_, stageArea_);
  if (kind == "joint") maker = new JointMaker(session_, stageArea_);
  if (kind == "line") maker = new LineMaker(session_, stageArea_);
  if (kind == "kit") maker = new KitMaker(session_, stageArea_);
  if (kind == "import") maker = new ImportMaker(session_, stageArea_);
  if (kind == "copies") maker = new CopyMaker(session_, stageArea_);
  if (kind == "joints") maker = new ManyJointsMaker(session_, stageArea_);
  if (kind == "share") maker = new ShareMaker(session_, stageArea_);
  if (kind == "expect") maker = new ExpectMaker(session_, stageArea_);
  if (kind == "cut") maker = new CutMaker(session_, stageArea_);
  if (maker) showMaker(maker, kind);
}

void Window::showMaker(Maker* maker, const QString& kind) {
  maker_ = maker;
  maker_->setProperty("kind", kind);
  connect(maker_, &Maker::done, this, &Window::closeMaker);
  if (view_)
    view_->setTaker([this](const Pick& pick) {
      if (!maker_) return;
      maker_->take(pick);
      maker_->refresh();
      maker_->setFocus();  // for Return and the panel's other keys
    });
  maker_->refresh();
  maker_->show();
  placeFloating();
  maker_->setFocus();
}

bool Window::isImporting() const {
  const auto* import = qobject_cast<ImportMaker*>(maker_);
  return import && import->isFitting();
}

bool Window::isAsking() const {
  return why_->isTrying();
}

void Window::closeMaker() {
  if (!maker_) return;
  maker_->hide();
  maker_->deleteLater();
  maker_ = nullptr;
  session_.preview() = {};
  session_.previewChanged();
  if (view_) {
    view_->setTaker({});
    view_->setFocus();
  }
  placeFloating();
}

void Window::placeFloating() {
  addStrip_->adjustSize();
  addStrip_->move(12, 12);
  if (maker_) {
    maker_->fit();
    maker_->move(addStrip_->geometry().right() + 10, 12);
    maker_->raise();
  }
  if (!hands_) return;
  // In the middle of what the panel leaves free, if that is enough.
  const int left = maker_ ? maker_->geometry().right() : 0, room = stageArea_->width() - left;
  hands_->setVisible(room > hands_->width() + 16);
  hands_->move(left + (room - hands_->width()) / 2, stageArea_->height() - hands_->height() - 10);
}

bool Window::eventFilter(QObject* watched, QEvent* event) {
  if (watched == stageArea_ && (event->type() == QEvent::Resize || event->type() == QEvent::Show)) placeFloating();
  return QMainWindow::eventFilter(watched, event);
}

void Window::resizeEvent(QResizeEvent* event) {
  QMainWindow::resizeEvent(event);
  constexpr int kRoomy = 1240;  // px
  for (QWidget* widget : spare_) widget->setVisible(width() >= kRoomy);
  placeFloating();
}

void Window::refresh() {
  const double duration = session_.rig().stage.duration;
  time_->setText(QString("%1 s  <span style='color:%2; font-weight:normal; font-size:9pt'>/ %3</span>")
                     .arg(session_.playhead(), 0, 'f', 2)
                     .arg(look::kMuted.name())
                     .arg(duration, 0, 'f', 2));
  play_->setText(session_.playing() ? tr("Pause") : tr("Run"));
  refreshAdvice();
  refreshVerdicts();
}

void Window::refreshAdvice() {
  const QStringList partings = ledger_->partings();
  const auto& advice = session_.advice();
  const qsizetype count = partings.size() + static_cast<qsizetype>(advice.size());
  QString text;
  if (count > 0) {
    const QString first = partings.isEmpty() ? QString::fromStdString(advice.front().text) : partings.front();
    text = tr("\u26a0 %1 to look at: %2").arg(count).arg(first);
    text = advice_->fontMetrics().elidedText(text, Qt::ElideRight, std::clamp(width() - 860, 150, 380));
  }
  if (text == advice_->text()) return;
  advice_->setText(text);
  advice_->setVisible(!text.isEmpty());
  advice_->setStyleSheet(
      QString("padding: 4px 12px; border: none; border-radius: 12px; font-weight: normal; color: %1; background: %2")
          .arg(look::kAmber.name(), look::kAmberTint.name()));
}

void Window::refreshTitle() {
  const rig::Rig& rig = session_.rig();
  title_->setText(QString::fromStdString(rig.name));
  state_->setText(session_.unsaved() ? tr("not saved") : session_.path().isEmpty() ? QString() : tr("saved"));
  setWindowTitle(tr("%1 \u2013 Calm Tether").arg(QString::fromStdString(rig.name)));
  const bool down = rig.stage.gravity.y() <= 0;
  chips_[0]->setText(tr("%1 m/s\u00b2 %2").arg(rig.stage.gravity.norm()).arg(down ? "\u2193" : ""));
  chips_[1]->setText(tr("%1 Hz \u00d7 %2").arg(rig.stage.frameRate).arg(rig.stage.substeps));
  chips_[2]->setText(tr("metres"));
  chips_[3]->setText(rig.stage.groundHeight ? tr("ground on") : tr("no ground"));
}

void Window::showMessage(const QString& text, bool fault) {
  message_->setText(message_->fontMetrics().elidedText(text, Qt::ElideRight, std::max(160, width() - 860)));
  message_->setToolTip(text);
  message_->setStyleSheet(QString("color: %1").arg((fault ? look::kBrick : look::kMuted).name()));
  message_->show();
  messageTimer_.start(fault ? 12000 : 4000);
}

}  // namespace calm::app
