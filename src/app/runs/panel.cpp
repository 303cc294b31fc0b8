// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/runs/panel.h"

#include <QApplication>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QLineEdit>
#include <QPointer>
#include <QProgressBar>
#include <QScrollArea>
#include <QThreadPool>

#include "exchange/recording/hdf5.h"

namespace calm::app {

namespace {
QString sizeOf(std::size_t bytes) {
  return bytes < (1u << 20) ? RunsPanel::tr("%1 kB").arg(bytes / 1024) : RunsPanel::tr("%1 MB").arg(bytes >> 20);
}
}  // namespace

RunsPanel::RunsPanel(Session& session, QWidget* parent)
    : FloatingPanel("runsPanel", tr("Runs"), parent), session_(session) {
  head_->setText(tr("Runs"));
  connect(close_, &QPushButton::clicked, this, &QFrame::hide);
  auto* row = new QHBoxLayout;
  name_ = new QLineEdit;
  name_->setAccessibleName(tr("Run's name"));
  name_->setPlaceholderText(tr("name this run, as in: heavier block"));
  row->addWidget(name_, 1);
  auto* keep = new QPushButton(tr("Keep this run"));
  keep->setProperty("primary", true);
  row->addWidget(keep);
  auto* open = new QPushButton(tr("Open\u2026"));
  open->setAccessibleName(tr("Open a run"));
  row->addWidget(open);
  column_->addLayout(row);
  const auto keepIt = [this] {
    const QString name = name_->text().trimmed();
    if (name.isEmpty()) return (void)(emit session_.message(tr("Give the run a name first."), true));
    if (session_.keep(name)) name_->clear();
  };
  connect(keep, &QPushButton::clicked, this, keepIt);
  connect(name_, &QLineEdit::returnPressed, this, keepIt);
  connect(open, &QPushButton::clicked, this, [this] {
    const QString path = QFileDialog::getOpenFileName(this, tr("Open a run"), folder(), tr("Runs (*.h5)"));
    if (!path.isEmpty()) this->open(path);
  });
  auto* scroll = new QScrollArea;
  scroll->setWidgetResizable(true);
  scroll->setFrameShape(QFrame::NoFrame);
  list_ = new QWidget;
  rows_ = new QVBoxLayout(list_);
  rows_->setContentsMargins(0, 0, 4, 0);
  scroll->setWidget(list_);
  column_->addWidget(scroll, 1);
  auto* foot = new QHBoxLayout;
  progress_ = new QProgressBar;
  progress_->setRange(0, 100);
  cancel_ = new QPushButton(tr("Cancel"));
  cancel_->setAccessibleName(tr("Cancel what is under way"));
  foot->addWidget(progress_, 1);
  foot->addWidget(cancel_);
  column_->addLayout(foot);
  progress_->hide();
  cancel_->hide();
  connect(cancel_, &QPushButton::clicked, this, [this] {
    if (stop_) *stop_ = true;
  });
  connect(&session_, &Session::changed, this, [this, seen = std::size_t(0)]() mutable {
    if (isVisible() && session_.kept().size() != seen) rebuild();
    seen = session_.kept().size();
  });
}

RunsPanel::~RunsPanel() {
  if (stop_) *stop_ = true;
}

QString RunsPanel::folder() const {
  const QString path = session_.path();
  return path.isEmpty() ? QString() : path.section('/', -1).isEmpty() ? QString() : path + ".runs";
}

void RunsPanel::toggle() {
  if (isVisible()) return hide();
  rebuild();
  popUp();
  name_->setFocus();
}

void RunsPanel::rebuild() {
  while (QLayoutItem* item = rows_->takeAt(0)) {
    if (QWidget* widget = item->widget()) widget->setParent(nullptr), widget->deleteLater();
    delete item;
  }
  for (std::size_t i = 0; i < session_.kept().size(); ++i) addRun(i);
  const QDir kept(folder());
  if (!folder().isEmpty())
    for (const QString& file : kept.entryList({"*.h5"}, QDir::Files, QDir::Name)) addFile(kept.filePath(file));
  if (rows_->count() == 0) {
    auto* none = new QLabel(tr("None is kept yet. A kept run can be compared with any later one, and saved as HDF5."));
    none->setWordWrap(true);
    rows_->addWidget(none);
  }
  rows_->addStretch();
}

void RunsPanel::addRun(std::size_t i) {
  const std::shared_ptr<run::Recording> recording = session_.kept()[i];
  auto* row = new QWidget;
  auto* cells = new QHBoxLayout(row);
  cells->setContentsMargins(0, 2, 0, 2);
  const QString name = QString::fromStdString(recording->name());
  auto* words = new QLabel(
      tr("%1<br><span style='color:%2; font-size:8.5pt'>%3, %4 s, %5</span>")
          .arg(name.toHtmlEscaped(), look::kMuted.name(), QString::fromStdString(recording->rig().name).toHtmlEscaped())
          .arg(recording->endTime(), 0, 'f', 1)
          .arg(sizeOf(recording->bytes())));
  cells->addWidget(words, 1);
  const auto button = [&](const QString& text, const QString& verb, const std::function<void()>& act) {
    auto* b = new QPushButton(text);
    b->setAccessibleName(tr("%1: %2").arg(verb, name));
    connect(b, &QPushButton::clicked, this, act);
    cells->addWidget(b);
  };
  button(tr("Pin"), tr("Pin"), [this, recording] { session_.pin(recording, Pinned::toCompare); });
  button(tr("Its rig"), tr("Take its rig"), [this, recording] {
    session_.edit(tr("take the rig of %1").arg(QString::fromStdString(recording->name())),
                  [&](rig::Rig& rig) { rig = recording->rig(); });
  });
  button(tr("Save\u2026"), tr("Save"), [this, recording] { ask(recording); });
  button(tr("Forget"), tr("Forget"), [this, i] { session_.forget(i); });
  rows_->addWidget(row);
}

void RunsPanel::addFile(const QString& path) {
  for (const auto& known : session_.kept())
    if (QString::fromStdString(known->name()) == QFileInfo(path).completeBaseName()) return;
  auto* row = new QWidget;
  auto* cells = new QHBoxLayout(row);
  cells->setContentsMargins(0, 2, 0, 2);
  auto* words = new QLabel(tr("%1<br><span style='color:%2; font-size:8.5pt'>kept with the rig, %3</span>")
                               .arg(QFileInfo(path).completeBaseName().toHtmlEscaped(), look::kMuted.name(),
                                    sizeOf(std::size_t(QFileInfo(path).size()))));
  cells->addWidget(words, 1);
  auto* open = new QPushButton(tr("Open"));
  open->setAccessibleName(tr("Open: %1").arg(QFileInfo(path).completeBaseName()));
  connect(open, &QPushButton::clicked, this, [this, path] { this->open(path); });
  cells->addWidget(open);
  rows_->addWidget(row);
}

void RunsPanel::ask(const std::shared_ptr<run::Recording>& recording) {
  if (!folder().isEmpty()) QDir().mkpath(folder());
  const QString name = QString::fromStdString(recording->name()) + ".h5";
  const QString suggestion = folder().isEmpty() ? name : folder() + "/" + name;
  const QString path = QFileDialog::getSaveFileName(this, tr("Save the run"), suggestion, tr("Runs (*.h5)"));
  if (!path.isEmpty()) save(recording, path);
}

void RunsPanel::work(const QString& what,
                     const std::function<QString(const std::atomic<bool>&, const std::function<void(int)>&)>& job) {
  if (stop_) return (void)(emit session_.message(tr("Wait: another run is being written or read."), true));
  stop_ = std::make_shared<std::atomic<bool>>(false);
  head_->setText(what);
  progress_->setValue(0);
  progress_->show();
  cancel_->show();
  const auto post = [self = QPointer<RunsPanel>(this)](std::function<void(RunsPanel&)> then) {
    QMetaObject::invokeMethod(qApp, [self, then = std::move(then)] {
      if (self) then(*self);
    });
  };
  QThreadPool::globalInstance()->start([job, stop = stop_, post] {
    QString outcome;
    bool fault = false;
    try {
      outcome = job(*stop, [&](int percent) { post([percent](RunsPanel& p) { p.progress_->setValue(percent); }); });
    } catch (const std::exception& e) {
      outcome = QString::fromStdString(e.what());
      fault = true;
    }
    post([outcome, fault](RunsPanel& p) {
      p.stop_.reset();
      p.head_->setText(tr("Runs"));
      p.progress_->hide();
      p.cancel_->hide();
      emit p.session_.message(outcome, fault);
      if (p.isVisible()) p.rebuild();
    });
  });
}

namespace {
// Tells of whole percents only.
exchange::Progress percents(const std::function<void(int)>& tell) {
  return [tell, last = -1](std::size_t done, std::size_t all) mutable {
    const int percent = static_cast<int>(100 * done / all);
    if (percent != last) tell(last = percent);
  };
}
}  // namespace

void RunsPanel::save(const std::shared_ptr<run::Recording>& recording, const QString& path) {
  work(tr("Saving %1\u2026").arg(QFileInfo(path).fileName()),
       [recording, path](const std::atomic<bool>& stop, const std::function<void(int)>& tell) {
         const bool done = exchange::saveRecording(*recording, path.toStdString(), percents(tell), &stop);
         return done ? tr("Saved %1").arg(path) : tr("Not saved: cancelled");
       });
}

void RunsPanel::open(const QString& path) {
  work(tr("Opening %1\u2026").arg(QFileInfo(path).fileName()),
       [path, self = QPointer<RunsPanel>(this)](const std::atomic<bool>& stop, const std::function<void(int)>& tell) {
         auto recording = exchange::loadRecording(path.toStdString(), percents(tell), &stop);
         if (!recording) return tr("Not opened: cancelled");
         if (recording->name().empty()) recording->setName(QFileInfo(path).completeBaseName().toStdString());
         QMetaObject::invokeMethod(qApp, [self, recording] {
           if (self) self->session_.keep(recording);
         });
         return tr("Opened %1").arg(path);
       });
}

}  // namespace calm::app
