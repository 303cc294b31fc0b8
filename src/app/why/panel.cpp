// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/why/panel.h"

#include <QApplication>
#include <QScrollArea>
#include <QThreadPool>

namespace calm::app {

WhyPanel::WhyPanel(Session& session, QWidget* parent)
    : FloatingPanel("whyPanel", tr("Why"), parent), session_(session) {
  connect(close_, &QPushButton::clicked, this, &WhyPanel::toggle);
  state_ = new QLabel;
  state_->setObjectName("whyState");
  state_->setProperty("muted", true);
  state_->setWordWrap(true);
  column_->addWidget(state_);
  auto* scroll = new QScrollArea;
  scroll->setWidgetResizable(true);
  scroll->setFrameShape(QFrame::NoFrame);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list_ = new QWidget;
  rows_ = new QVBoxLayout(list_);
  rows_->setContentsMargins(0, 0, 4, 0);
  scroll->setWidget(list_);
  column_->addWidget(scroll, 1);
  // What was found is about the rig as it was.
  connect(&session_, &Session::rigChanged, this, [this] {
    if (isVisible()) toggle();
  });
}

WhyPanel::~WhyPanel() {
  cancel();
}

void WhyPanel::cancel() {
  if (stop_) *stop_ = true;
  trying_ = false;
}

QString WhyPanel::quantity(double value) const {
  return QString::fromStdString(rig::formatQuantity(value, rig::dimensionOf(trouble_.measure.reading, session_.rig())));
}

void WhyPanel::toggle() {
  if (isVisible()) {
    cancel();
    return hide();
  }
  if (!session_.rig().joint(session_.selected())) {
    emit session_.message(tr("Select a joint to ask about."), true);
    return;
  }
  if (!session_.hasFrames() || session_.computing()) {
    emit session_.message(tr("Wait for the run: what happened is not known yet."), true);
    return;
  }
  ask();
  popUp();
}

void WhyPanel::ask() {
  cancel();
  const rig::Id joint = session_.selected();
  const auto recording = session_.sharedRecording();
  trouble_ = run::troubleOf(*recording, joint);
  causes_ = run::causesOf(*recording, trouble_);
  head_->setText(tr("%1: %2 at %3 s")
                     .arg(QString::fromStdString(rig::textOf(trouble_.measure.reading, session_.rig())))
                     .arg(quantity(trouble_.before))
                     .arg(trouble_.at, 0, 'f', 2));
  stop_ = std::make_shared<std::atomic<bool>>(false);
  trying_ = true;
  state_->setText(tr("Trying what might help\u2026"));
  // Causes are known at once; remedies only when they have been tried.
  std::vector<run::Cause> untried = causes_;
  for (run::Cause& c : causes_) c.remedies.clear();
  rebuild();
  const auto post = [self = QPointer<WhyPanel>(this), stop = stop_](std::function<void(WhyPanel&)> then) {
    QMetaObject::invokeMethod(qApp, [self, stop, then = std::move(then)] {
      if (self && self->stop_ == stop && !*stop) then(*self);
    });
  };
  QThreadPool::globalInstance()->start([recording, trouble = trouble_, causes = std::move(untried), stop = stop_,
                                        post] {
    std::vector<run::Cause> tried = causes;
    run::tryRemedies(*recording, trouble, tried, stop.get(), [&](std::size_t done, std::size_t all) {
      post([done, all](WhyPanel& p) { p.state_->setText(tr("Trying what might help: %1 of %2").arg(done).arg(all)); });
    });
    post([tried](WhyPanel& p) {
      p.causes_ = tried;
      p.trying_ = false;
      std::size_t helped = 0;
      for (const run::Cause& c : tried) helped += c.remedies.size();
      p.state_->setText(helped ? tr("Each of these was run on a copy of the rig, alone.")
                               : tr("Nothing that was tried made it smaller by a hundredth or more."));
      p.rebuild();
    });
  });
}

void WhyPanel::rebuild() {
  while (QLayoutItem* item = rows_->takeAt(0)) {
    if (QWidget* widget = item->widget()) widget->setParent(nullptr), widget->deleteLater();
    delete item;
  }
  for (const run::Cause& cause : causes_) addCause(cause);
  if (causes_.empty()) rows_->addWidget(new QLabel(tr("Nothing out of the ordinary: it carries what hangs on it.")));
  rows_->addStretch();
}

void WhyPanel::addCause(const run::Cause& cause) {
  auto* words = new QLabel(QString("%1<br><span style='color:%2; font-size:8.5pt'>%3</span>")
                               .arg(QString::fromStdString(cause.text).toHtmlEscaped(), look::kMuted.name(),
                                    QString::fromStdString(cause.evidence).toHtmlEscaped()));
  words->setWordWrap(true);
  auto* row = new QWidget;
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 6, 0, 0);
  line->addWidget(words, 1);
  auto* go = new QPushButton(tr("Show"));
  connect(go, &QPushButton::clicked, this, [this, on = cause.on] { session_.select({on.begin(), on.end()}); });
  line->addWidget(go);
  rows_->addWidget(row);
  for (const run::Remedy& remedy : cause.remedies) {
    auto* one = new QWidget;
    auto* cells = new QHBoxLayout(one);
    cells->setContentsMargins(14, 0, 0, 0);
    QString text = QString::fromStdString("\u21b3 " + remedy.name).toHtmlEscaped();
    if (!remedy.price.empty())
      text += QString("<br><span style='color:%1; font-size:8.5pt'>%2</span>")
                  .arg(look::kAmber.name(), tr("but %1").arg(QString::fromStdString(remedy.price)).toHtmlEscaped());
    auto* name = new QLabel(text);
    name->setWordWrap(true);
    cells->addWidget(name, 1);
    auto* gain = new QLabel(
        tr("\u2212%1 %, to %2").arg(100 * run::gainOf(remedy, trouble_), 0, 'f', 0).arg(quantity(remedy.after)));
    gain->setStyleSheet(QString("color: %1").arg(look::kTeal.name()));
    cells->addWidget(gain);
    auto* take = new QPushButton(tr("Take"));
    take->setProperty("primary", true);
    take->setAccessibleName(tr("Take: %1").arg(QString::fromStdString(remedy.name)));
    connect(take, &QPushButton::clicked, this, [this, remedy] {
      const QString step = QString::fromStdString(remedy.name);
      session_.edit(step.left(1).toLower() + step.mid(1), remedy.apply);
    });
    cells->addWidget(take);
    rows_->addWidget(one);
  }
}

}  // namespace calm::app
