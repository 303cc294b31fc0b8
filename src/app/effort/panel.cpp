// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/effort/panel.h"

#include <QApplication>
#include <QPainter>
#include <QPointer>
#include <QThreadPool>

namespace calm::app {

namespace {

// A bar with its words before and its share behind.
class ShareBar : public QWidget {
 public:
  ShareBar(QString words, double seconds, double all) : words_(std::move(words)), seconds_(seconds), all_(all) {
    setFixedHeight(24);
    setAccessibleName(words_);
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    constexpr int kWords = 190, kNumbers = 120;
    painter.setPen(look::kInk);
    painter.drawText(QRect(0, 0, kWords, height()), Qt::AlignLeft | Qt::AlignVCenter, words_);
    const double share = all_ > 0 ? seconds_ / all_ : 0;
    const QRectF track(kWords, height() / 2.0 - 5, width() - kWords - kNumbers, 10);
    painter.setPen(Qt::NoPen);
    painter.setBrush(look::kWell);
    painter.drawRoundedRect(track, 4, 4);
    painter.setBrush(look::loadColor(0.55));
    painter.drawRoundedRect(QRectF(track.topLeft(), QSizeF(std::max(2.0, track.width() * share), 10)), 4, 4);
    painter.setPen(look::kMuted);
    painter.drawText(QRect(width() - kNumbers, 0, kNumbers, height()), Qt::AlignRight | Qt::AlignVCenter,
                     EffortPanel::tr("%1 %, %2 s").arg(100 * share, 0, 'f', 0).arg(seconds_, 0, 'f', 2));
  }

 private:
  QString words_;
  double seconds_, all_;
};

QString length(double metres) {
  return metres < 1e-9 ? QStringLiteral("below 1 nm")
                       : QString::fromStdString(rig::formatQuantity(metres, rig::Dimension::length));
}

}  // namespace

EffortPanel::EffortPanel(Session& session, QWidget* parent)
    : FloatingPanel("effortPanel", tr("Effort"), parent), session_(session) {
  connect(close_, &QPushButton::clicked, this, &EffortPanel::toggle);
  bars_ = new QVBoxLayout;
  bars_->setSpacing(2);
  column_->addLayout(bars_);
  quality_ = new QLabel;
  quality_->setObjectName("quality");
  quality_->setWordWrap(true);
  column_->addWidget(quality_);
  auto* row = new QHBoxLayout;
  auto* words = new QLabel(tr("What more of the same would cost"));
  words->setFont(look::font(look::Size::text, true));
  row->addWidget(words, 1);
  measure_ = new QPushButton(tr("Measure"));
  row->addWidget(measure_);
  column_->addLayout(row);
  grown_ = new QLabel;
  grown_->setObjectName("growth");
  grown_->setWordWrap(true);
  column_->addWidget(grown_);
  column_->addStretch();
  connect(measure_, &QPushButton::clicked, this, &EffortPanel::measure);
  connect(&session_, &Session::rigChanged, this, [this] {
    growth_.clear();
    if (stop_) *stop_ = true;
    if (isVisible()) hide();
  });
}

EffortPanel::~EffortPanel() {
  if (stop_) *stop_ = true;
}

void EffortPanel::toggle() {
  if (isVisible()) {
    if (stop_) *stop_ = true;
    return hide();
  }
  if (!session_.hasFrames() || session_.computing()) {
    emit session_.message(tr("Wait for the run: what it costs is not known yet."), true);
    return;
  }
  fill();
  popUp();
}

void EffortPanel::fill() {
  const run::Effort e = run::effortOf(*session_.recording());
  const double all = e.time.total(), simulated = session_.recording()->endTime();
  head_->setText(tr("Computed in %1 s, %2 times real time")
                     .arg(all, 0, 'f', 2)
                     .arg(all > 0 ? simulated / all : 0, 0, 'f', all > 0 && simulated / all < 10 ? 1 : 0));
  while (QLayoutItem* item = bars_->takeAt(0)) {
    delete item->widget();
    delete item;
  }
  for (const auto& [words, seconds] :
       {std::pair(tr("joints, stops and drives"), e.time.joints), std::pair(tr("finding contacts"), e.time.finding),
        std::pair(tr("solving contacts"), e.time.contacts), std::pair(tr("moving, readings"), e.time.rest)})
    bars_->addWidget(new ShareBar(words, seconds, all));
  const rig::Stage& stage = session_.rig().stage;
  QString text = tr("%1 ms a frame, the slowest %2 ms at %3 s. Joints closed to %4.")
                     .arg(1e3 * e.perFrame, 0, 'f', 2)
                     .arg(1e3 * e.slowest, 0, 'f', 1)
                     .arg(e.slowestAt, 0, 'f', 2)
                     .arg(length(e.worst.linear));
  text += e.leastSubsteps == e.mostSubsteps
              ? tr(" %1 substeps a frame.").arg(e.mostSubsteps)
              : tr(" %1 to %2 substeps a frame.").arg(e.leastSubsteps).arg(e.mostSubsteps);
  if (e.fallbacks)
    text += tr(" %1 substeps could only be taken at velocity level, with less accuracy.").arg(e.fallbacks);
  if (stage.separationBudget > 0)
    text += e.overBudget ? tr(" In %1 frames %2 could not be kept, with %3 substeps either.")
                               .arg(e.overBudget)
                               .arg(length(stage.separationBudget))
                               .arg(e.mostSubsteps)
                         : tr(" All within the %1 that were asked for.").arg(length(stage.separationBudget));
  else
    text += tr(" A separation to keep within can be asked for on the stage's Card.");
  quality_->setText(text);
  showGrowth();
}

void EffortPanel::showGrowth() {
  QStringList lines;
  for (const run::Growth& g : growth_)
    lines << tr("%1 \u00d7: %2 parts, %3 joints, %4 ms a frame")
                 .arg(g.copies)
                 .arg(g.parts)
                 .arg(g.joints)
                 .arg(1e3 * g.perFrame, 0, 'f', 2);
  if (growth_.size() > 1) {
    const run::Growth& last = growth_.back();
    const double slope = run::exponentOf(growth_), room = 1 / session_.rig().stage.frameRate / last.perFrame;
    lines << tr("Cost grows as size to the power %1; about %2 of these would run in real time on this machine.")
                 .arg(slope, 0, 'f', 2)
                 .arg(std::max(0.0, std::floor(last.copies * std::pow(room, 1 / std::max(0.3, slope)))), 0, 'f', 0);
  }
  grown_->setText(lines.join("\n"));
  measure_->setText(stop_ ? tr("Cancel") : tr("Measure"));
}

void EffortPanel::measure() {
  if (stop_) {
    *stop_ = true;
    return;
  }
  growth_.clear();
  stop_ = std::make_shared<std::atomic<bool>>(false);
  showGrowth();
  grown_->setText(tr("Running 1, 2 and 4 of them side by side\u2026"));
  const auto post = [self = QPointer<EffortPanel>(this), stop = stop_](std::function<void(EffortPanel&)> then) {
    QMetaObject::invokeMethod(qApp, [self, stop, then = std::move(then)] {
      if (self && self->stop_ == stop) then(*self);
    });
  };
  QThreadPool::globalInstance()->start([rig = std::make_shared<const rig::Rig>(session_.rig()), stop = stop_, post] {
    QString fault;
    try {
      run::growthOf(*rig, stop.get(), [&](const run::Growth& g) {
        post([g](EffortPanel& p) {
          p.growth_.push_back(g);
          p.showGrowth();
        });
      });
    } catch (const std::exception& e) {
      fault = QString::fromStdString(e.what());
    }
    post([fault](EffortPanel& p) {
      p.stop_.reset();
      p.showGrowth();
      if (!fault.isEmpty()) emit p.session_.message(fault, true);
    });
  });
}

}  // namespace calm::app
