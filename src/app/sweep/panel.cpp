// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/sweep/panel.h"

#include <qcustomplot.h>

#include <QApplication>
#include <QCompleter>
#include <QFileDialog>
#include <QPointer>
#include <QProgressBar>
#include <QThreadPool>
#include <cmath>
#include <thread>

#include "app/look/look.h"
#include "app/look/plots.h"
#include "rig/file.h"

namespace calm::app {

namespace {

rig::Dimension dimensionOf(const run::Outcome& outcome, const rig::Rig& rig) {
  return outcome.of == run::Outcome::Of::partedAt ? rig::Dimension::time : rig::dimensionOf(outcome.reading, rig);
}

}  // namespace

SweepPanel::Axis SweepPanel::addAxis(QVBoxLayout* column, const QString& name, const QString& none) {
  Axis axis{};
  axis.setting = new QComboBox;
  axis.setting->setEditable(true);
  axis.setting->setInsertPolicy(QComboBox::NoInsert);
  axis.setting->setAccessibleName(name);
  axis.setting->lineEdit()->setPlaceholderText(none);
  axis.setting->lineEdit()->setAccessibleName(tr("%1 setting").arg(name));
  axis.setting->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  axis.setting->setFixedWidth(250);
  column->addWidget(axis.setting);
  auto* row = new QHBoxLayout;
  row->setSpacing(4);
  const auto field = [&](const QString& word, const QString& pale, int width) {
    auto* line = new QLineEdit;
    line->setAccessibleName(name + " " + word);
    line->setPlaceholderText(pale);
    line->setFixedWidth(width);
    row->addWidget(line);
    return line;
  };
  axis.from = field(tr("from"), tr("from"), 88);
  axis.to = field(tr("to"), tr("to"), 88);
  axis.count = field(tr("points"), tr("points"), 66);
  row->addStretch();
  column->addLayout(row);
  return axis;
}

SweepPanel::SweepPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setAccessibleName(tr("Sweep"));
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(look::kMargin, 4, look::kMargin, 8);
  auto* side = new QVBoxLayout;
  side->setSpacing(4);
  axes_[0] = addAxis(side, tr("Vary"), tr("what to vary, as in: mass of stone block"));
  axes_[1] = addAxis(side, tr("And"), tr("and another, for a map"));
  auto* outcome = new QHBoxLayout;
  outcome->setSpacing(4);
  what_ = new QComboBox;
  what_->setAccessibleName(tr("Outcome"));
  what_->addItems({tr("peak"), tr("least"), tr("most"), tr("mean"), tr("end"), tr("parting of")});
  reading_ = new QComboBox;
  reading_->setEditable(true);
  reading_->setInsertPolicy(QComboBox::NoInsert);
  reading_->setAccessibleName(tr("Outcome's reading"));
  reading_->lineEdit()->setPlaceholderText(tr("reading, or joint"));
  reading_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  outcome->addWidget(what_);
  outcome->addWidget(reading_, 1);
  side->addLayout(outcome);
  auto* buttons = new QHBoxLayout;
  run_ = new QPushButton(tr("Sweep"));
  run_->setAccessibleName(tr("Run the sweep"));
  run_->setProperty("primary", true);
  save_ = new QPushButton(tr("Save table\u2026"));
  progress_ = new QProgressBar;
  progress_->setTextVisible(true);
  buttons->addWidget(run_);
  buttons->addWidget(progress_, 1);
  buttons->addWidget(save_);
  side->addLayout(buttons);
  told_ = new QLabel;
  told_->setObjectName("sweepTold");
  told_->setWordWrap(true);
  told_->setFixedWidth(250);
  told_->setFont(look::font(look::Size::small));
  side->addWidget(told_);
  side->addStretch();
  row->addLayout(side);
  plot_ = new QCustomPlot;
  plot_->setAccessibleName(tr("Sweep's plot"));
  look::dressPlot(*plot_);
  row->addWidget(plot_, 1);
  connect(run_, &QPushButton::clicked, this, [this] { running_ ? cancel() : start(); });
  connect(save_, &QPushButton::clicked, this, [this] {
    const QString path = QFileDialog::getSaveFileName(this, tr("Save the table"), "sweep.csv", tr("Tables (*.csv)"));
    if (path.isEmpty() || !plan_) return;
    std::string table = run::sweepHeader(*plan_);
    for (const run::SweepPoint& p : points_) table += run::sweepRow(p);
    try {
      rig::writeWholeFile(path.toStdString(), table);
      emit session_.message(tr("Saved %1").arg(path), false);
    } catch (const std::exception& e) {
      emit session_.message(QString::fromStdString(e.what()), true);
    }
  });
  connect(plot_, &QCustomPlot::mousePress, this, [this](QMouseEvent* event) {
    if (const auto point = pointAt(event->position())) openPoint(*point);
  });
  connect(&session_, &Session::selectionChanged, this, [this] {
    if (isVisible()) listSettings();
  });
  progress_->hide();
  save_->setEnabled(false);
}

SweepPanel::~SweepPanel() {
  if (stop_) *stop_ = true;
}

void SweepPanel::showEvent(QShowEvent* event) {
  QWidget::showEvent(event);
  listSettings();
}

// Of what is selected; others may be typed by name.
void SweepPanel::listSettings() {
  for (Axis& axis : axes_) {
    const QString typed = axis.setting->currentText();
    axis.setting->clear();
    for (const rig::Setting& s : rig::settingsOf(session_.rig(), session_.selected()))
      axis.setting->addItem(QString::fromStdString(s.name));
    axis.setting->setCurrentText(typed);
  }
  const QString typed = reading_->currentText();
  reading_->clear();
  for (const rig::Id id : {session_.selected(), rig::kNone})
    for (const rig::Reading& r : rig::readingsOf(id, session_.rig()))
      if (reading_->findText(QString::fromStdString(rig::textOf(r, session_.rig()))) < 0)
        reading_->addItem(QString::fromStdString(rig::textOf(r, session_.rig())));
  reading_->setCurrentText(typed);
}

std::optional<std::string> SweepPanel::textOf(const Axis& axis) const {
  const QString name = axis.setting->currentText().trimmed();
  if (name.isEmpty()) return std::nullopt;
  const QString count = axis.count->text().trimmed();
  return tr("%1 = %2..%3 : %4")
      .arg(name, axis.from->text().trimmed(), axis.to->text().trimmed(), count.isEmpty() ? "9" : count)
      .toStdString();
}

run::SweepPlan SweepPanel::plan() const {
  run::SweepPlan plan;
  plan.rig = session_.rig();
  for (const Axis& axis : axes_)
    if (const auto text = textOf(axis)) plan.axes.push_back(run::sweepAxis(*text, plan.rig));
  if (plan.axes.empty()) throw std::invalid_argument("say what to vary");
  static constexpr const char* kWhat[] = {"peak ", "least ", "most ", "mean ", "end ", "parting of "};
  const std::string outcome = kWhat[what_->currentIndex()] + reading_->currentText().trimmed().toStdString();
  plan.outcomes.push_back(run::outcomeFrom(outcome, plan.rig));
  return plan;
}

void SweepPanel::cancel() {
  if (stop_) *stop_ = true;
}

void SweepPanel::start() {
  cancel();
  try {
    plan_ = std::make_shared<const run::SweepPlan>(plan());
  } catch (const std::exception& e) {
    emit session_.message(QString::fromStdString(e.what()), true);
    return;
  }
  points_.clear();
  running_ = true;
  run_->setText(tr("Cancel"));
  progress_->setRange(0, static_cast<int>(plan_->points()));
  progress_->setValue(0);
  progress_->show();
  told_->clear();
  draw();
  stop_ = std::make_shared<std::atomic<bool>>(false);
  const auto post = [self = QPointer<SweepPanel>(this), stop = stop_](std::function<void(SweepPanel&)> then) {
    QMetaObject::invokeMethod(qApp, [self, stop, then = std::move(then)] {
      if (self && self->stop_ == stop) then(*self);
    });
  };
  QThreadPool::globalInstance()->start([plan = plan_, stop = stop_, post] {
    run::SweepOptions options;
    options.threads = static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));
    options.stop = stop.get();
    options.onPoint = [&](const run::SweepPoint& point) { post([point](SweepPanel& p) { p.take(point); }); };
    QString fault;
    try {
      run::sweep(*plan, options);
    } catch (const std::exception& e) {
      fault = QString::fromStdString(e.what());
    }
    post([fault, stopped = stop->load()](SweepPanel& p) {
      p.running_ = false;
      p.run_->setText(tr("Sweep"));
      p.progress_->hide();
      p.save_->setEnabled(!p.points_.empty());
      if (!fault.isEmpty()) emit p.session_.message(fault, true);
      if (stopped) p.told_->setText(tr("Stopped after %1 of %2 points.").arg(p.points_.size()).arg(p.plan_->points()));
    });
  });
}

void SweepPanel::take(const run::SweepPoint& point) {
  points_.push_back(point);
  std::sort(points_.begin(), points_.end(), [](const auto& a, const auto& b) { return a.index < b.index; });
  progress_->setValue(static_cast<int>(points_.size()));
  draw();
}

void SweepPanel::draw() {
  plot_->clearGraphs();
  if (map_) plot_->removePlottable(map_), map_ = nullptr;
  if (plan_) plan_->axes.size() == 1 ? drawCurve() : drawMap();
  plot_->replot();
  if (points_.empty() || !plan_) return;
  const rig::Dimension d = dimensionOf(plan_->outcomes[0], plan_->rig);
  double least = HUGE_VAL, most = -HUGE_VAL;
  std::size_t faults = 0;
  for (const run::SweepPoint& p : points_) {
    faults += !p.fault.empty();
    if (p.outcomes.empty() || std::isnan(p.outcomes[0])) continue;
    least = std::min(least, p.outcomes[0]), most = std::max(most, p.outcomes[0]);
  }
  QString text = QString::fromStdString(run::textOf(plan_->outcomes[0], plan_->rig));
  if (least <= most) text += tr(": %1 to %2").arg(look::words(least, d, 4), look::words(most, d, 4));
  if (faults) text += tr("; %1 points could not run").arg(faults);
  told_->setText(text + tr(". Click a point to make it the rig."));
}

void SweepPanel::drawCurve() {
  const rig::Dimension x = plan_->axes[0].setting.dimension, y = dimensionOf(plan_->outcomes[0], plan_->rig);
  QVector<double> xs, ys;
  for (const run::SweepPoint& p : points_)
    if (!p.outcomes.empty() && !std::isnan(p.outcomes[0]))
      xs << p.settings[0] * look::plotFactor(x), ys << p.outcomes[0] * look::plotFactor(y);
  QCPGraph* graph = plot_->addGraph();
  graph->setPen(QPen(look::kTeal, 1.8));
  graph->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssDisc, look::kTeal, 7));
  graph->setData(xs, ys);
  if (scale_) scale_->setVisible(false);
  plot_->xAxis->setLabel(QString("%1, %2").arg(QString::fromStdString(plan_->axes[0].setting.name), look::plotUnit(x)));
  plot_->yAxis->setLabel(
      QString("%1, %2").arg(QString::fromStdString(run::textOf(plan_->outcomes[0], plan_->rig)), look::plotUnit(y)));
  plot_->rescaleAxes();
  const double low = plan_->axes[0].values.front() * look::plotFactor(x),
               high = plan_->axes[0].values.back() * look::plotFactor(x);
  plot_->xAxis->setRange(std::min(low, high), std::max(low, high));
  for (QCPAxis* axis : {plot_->xAxis, plot_->yAxis}) axis->scaleRange(1.1);
}

void SweepPanel::drawMap() {
  const auto& a = plan_->axes[0];
  const auto& b = plan_->axes[1];
  const rig::Dimension d = dimensionOf(plan_->outcomes[0], plan_->rig);
  map_ = new QCPColorMap(plot_->xAxis, plot_->yAxis);
  map_->setInterpolate(false);
  map_->data()->setSize(int(a.values.size()), int(b.values.size()));
  const auto range = [](const run::SweepAxis& axis) {
    const double f = look::plotFactor(axis.setting.dimension);
    return QCPRange(axis.values.front() * f, axis.values.back() * f);
  };
  map_->data()->setRange(range(a), range(b));
  map_->data()->fill(std::nan(""));
  for (const run::SweepPoint& p : points_)
    if (!p.outcomes.empty())
      map_->data()->setCell(int(p.index / b.values.size()), int(p.index % b.values.size()),
                            p.outcomes[0] * look::plotFactor(d));
  QCPColorGradient ramp;
  ramp.clearColorStops();
  for (int i = 0; i <= 8; ++i) ramp.setColorStopAt(i / 8.0, look::loadColor(0.999 * i / 8));
  ramp.setNanHandling(QCPColorGradient::nhTransparent);
  map_->setGradient(ramp);
  map_->rescaleDataRange(true);
  if (!scale_) {
    scale_ = new QCPColorScale(plot_);
    scale_->axis()->setTickLabelFont(look::font(look::Size::small));
    plot_->plotLayout()->addElement(0, 1, scale_);
  }
  scale_->setVisible(true);
  map_->setColorScale(scale_);
  scale_->setLabel(
      QString("%1, %2").arg(QString::fromStdString(run::textOf(plan_->outcomes[0], plan_->rig)), look::plotUnit(d)));
  plot_->xAxis->setLabel(
      QString("%1, %2").arg(QString::fromStdString(a.setting.name), look::plotUnit(a.setting.dimension)));
  plot_->yAxis->setLabel(
      QString("%1, %2").arg(QString::fromStdString(b.setting.name), look::plotUnit(b.setting.dimension)));
  plot_->rescaleAxes();
}

std::optional<std::size_t> SweepPanel::pointAt(const QPointF& pixel) const {
  if (!plan_ || points_.empty()) return std::nullopt;
  constexpr double kReach = 12;  // px, of a curve's point; a map's cells fill it
  std::optional<std::size_t> best;
  double nearest = 1e300;
  for (const run::SweepPoint& p : points_) {
    const double x = plot_->xAxis->coordToPixel(p.settings[0] * look::plotFactor(plan_->axes[0].setting.dimension));
    double value = 0;
    if (plan_->axes.size() > 1)
      value = p.settings[1] * look::plotFactor(plan_->axes[1].setting.dimension);
    else if (!p.outcomes.empty() && !std::isnan(p.outcomes[0]))
      value = p.outcomes[0] * look::plotFactor(dimensionOf(plan_->outcomes[0], plan_->rig));
    else
      continue;
    const double distance = std::hypot(x - pixel.x(), plot_->yAxis->coordToPixel(value) - pixel.y());
    if (distance < nearest) nearest = distance, best = p.index;
  }
  const bool hit = plan_->axes.size() > 1 ? plot_->axisRect()->rect().contains(pixel.toPoint()) : nearest <= kReach;
  return hit ? best : std::nullopt;
}

void SweepPanel::openPoint(std::size_t index) {
  if (!plan_) return;
  const std::vector<double> settings = plan_->settingsAt(index);
  QStringList names;
  for (std::size_t k = 0; k < settings.size(); ++k)
    names << tr("%1 = %2").arg(QString::fromStdString(plan_->axes[k].setting.name),
                               look::words(settings[k], plan_->axes[k].setting.dimension, 4));
  session_.edit(tr("take %1").arg(names.join(", ")), [&](rig::Rig& rig) {
    for (std::size_t k = 0; k < settings.size(); ++k) {
      const auto setting = rig::settingNamed(plan_->axes[k].setting.name, rig);
      if (!setting) throw std::invalid_argument("the rig no longer has " + plan_->axes[k].setting.name);
      setting->set(rig, settings[k]);
    }
  });
}

}  // namespace calm::app
