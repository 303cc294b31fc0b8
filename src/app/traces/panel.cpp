// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/traces/panel.h"

#include <qcustomplot.h>

#include <QFileDialog>
#include <QScrollArea>
#include <QSvgGenerator>
#include <cmath>

#include "app/look/look.h"
#include "app/look/plots.h"
#include "rig/file.h"
#include "run/expect.h"
#include "run/spectrum.h"

namespace calm::app {

namespace {

constexpr int kSide = 236;  // px, of the choices beside the plot

// Told apart by their dashes, too.
const QColor kInks[] = {
    look::kTeal, look::kInk, look::kAmber, look::kSand.darker(130), look::kMuted, look::kGlass.darker(130)};
constexpr Qt::PenStyle kDashes[] = {Qt::SolidLine, Qt::DashLine, Qt::DashDotLine, Qt::DotLine};

QPen penOf(std::size_t i) {
  return QPen(kInks[i % std::size(kInks)], 1.6, kDashes[i / std::size(kInks) % std::size(kDashes)]);
}

// Of a reading that the recording's rig has, too.
std::optional<std::vector<double>> seriesIn(const run::Recording& recording, const rig::Reading& reading) {
  if (rig::isMissing(reading, recording.rig())) return std::nullopt;
  const rig::Joint* joint = recording.rig().joint(reading.of);
  if (joint && reading.axis >= axesOf(joint->type).all()) return std::nullopt;
  return run::seriesOf(recording, reading);
}

}  // namespace

TracesPanel::TracesPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setAccessibleName(tr("Traces"));
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(look::kMargin, 4, look::kMargin, 8);
  auto* side = new QVBoxLayout;
  side->setSpacing(5);
  side->setContentsMargins(0, 0, 6, 0);
  const auto combo = [&](const QString& name) {
    auto* box = new QComboBox;
    box->setAccessibleName(name);
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    box->setFixedWidth(kSide);
    side->addWidget(box);
    return box;
  };
  of_ = combo(tr("Trace of"));
  reading_ = combo(tr("Trace"));
  auto* buttons = new QHBoxLayout;
  auto* add = new QPushButton(tr("Add"));
  add->setAccessibleName(tr("Add trace"));
  add->setProperty("primary", true);
  mode_ = new QPushButton(tr("Frequencies"));
  mode_->setCheckable(true);
  auto* save = new QPushButton(tr("Export\u2026"));
  for (QPushButton* b : {add, mode_, save}) buttons->addWidget(b);
  side->addLayout(buttons);
  auto* list = new QWidget;
  keys_ = new QVBoxLayout(list);
  keys_->setContentsMargins(0, 0, 0, 0);
  keys_->setSpacing(2);
  side->addWidget(list);
  told_ = new QLabel;
  told_->setObjectName("traceTold");
  told_->setWordWrap(true);
  told_->setFixedWidth(kSide);
  told_->setFont(look::font(look::Size::small));
  side->addWidget(told_);
  side->addStretch();
  auto* content = new QWidget;
  content->setLayout(side);
  auto* scroll = new QScrollArea;
  scroll->setWidget(content);
  scroll->setWidgetResizable(true);
  scroll->setFrameShape(QFrame::NoFrame);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  scroll->setFixedWidth(kSide + 22);
  row->addWidget(scroll);
  plot_ = new QCustomPlot;
  plot_->setAccessibleName(tr("Plot"));
  plot_->setMinimumHeight(120);
  look::dressPlot(*plot_);
  plot_->setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
  plot_->axisRect()->setRangeDrag(Qt::Horizontal);
  plot_->axisRect()->setRangeZoom(Qt::Horizontal);
  cursor_ = new QCPItemStraightLine(plot_);
  cursor_->setPen(QPen(look::kInk, 1.2));
  second_ = new QCPItemStraightLine(plot_);
  second_->setPen(QPen(look::kTeal, 1.2, Qt::DashLine));
  second_->setVisible(false);
  row->addWidget(plot_, 1);
  connect(of_, &QComboBox::currentIndexChanged, this, [this] { listReadings(); });
  connect(add, &QPushButton::clicked, this, [this] {
    if (reading_->currentIndex() >= 0) this->add(choices_[std::size_t(reading_->currentIndex())]);
  });
  connect(mode_, &QPushButton::toggled, this, &TracesPanel::setShowsFrequencies);
  connect(save, &QPushButton::clicked, this, [this] {
    const QString path = QFileDialog::getSaveFileName(this, tr("Export traces"), "traces.png",
                                                      tr("Pictures (*.png *.svg *.pdf);;Tables (*.csv)"));
    if (!path.isEmpty()) exportTo(path);
  });
  connect(plot_, &QCustomPlot::mousePress, this, [this](QMouseEvent* event) {
    if (event->button() == Qt::LeftButton && !frequencies_)
      pressAt(plot_->xAxis->pixelToCoord(event->position().x()), event->modifiers() & Qt::ShiftModifier);
  });
  connect(&session_, &Session::changed, this, &TracesPanel::refresh);
  connect(&session_, &Session::rigChanged, this, [this] {
    std::erase_if(readings_, [this](const rig::Reading& r) { return rig::isMissing(r, session_.rig()); });
    if (isVisible()) listReadings(), rebuildKeys();
    drawn_ = nullptr;
    refresh();
  });
}

void TracesPanel::showEvent(QShowEvent* event) {
  QWidget::showEvent(event);
  listReadings();
  addSelected();
  drawn_ = nullptr;
  refresh();
}

void TracesPanel::listReadings() {
  const QSignalBlocker quiet(of_);
  const QVariant present = of_->count() ? of_->currentData() : QVariant(session_.selected());
  const int chosen = reading_->currentIndex();
  of_->clear();
  of_->addItem(tr("all of it"), rig::kNone);
  for (const rig::Joint& j : session_.rig().joints) of_->addItem(QString::fromStdString(j.name), j.id);
  for (const rig::Part& p : session_.rig().parts) of_->addItem(QString::fromStdString(p.name), p.id);
  of_->setCurrentIndex(std::max(0, of_->findData(present)));
  choices_ = rig::readingsOf(of_->currentData().toInt(), session_.rig());
  reading_->clear();
  for (const rig::Reading& r : choices_)
    reading_->addItem(QString::fromStdString(rig::textOf(r, session_.rig())).section(" of ", 0, 0));
  reading_->setCurrentIndex(chosen >= 0 && chosen < reading_->count() ? chosen : 0);
}

void TracesPanel::addSelected() {
  if (!readings_.empty()) return;
  using What = rig::Reading::What;
  const rig::Id id = session_.selected();
  if (session_.rig().joint(id))
    add({What::force, id, 0, rig::kNone});
  else if (session_.rig().part(id))
    add({What::speed, id, 0, rig::kNone});
  else
    add({What::energy, rig::kNone, 0, rig::kNone});
}

bool TracesPanel::add(const rig::Reading& reading) {
  if (std::find(readings_.begin(), readings_.end(), reading) != readings_.end()) return true;
  std::set<rig::Dimension> kinds{rig::dimensionOf(reading, session_.rig())};
  for (const rig::Reading& r : readings_) kinds.insert(rig::dimensionOf(r, session_.rig()));
  if (kinds.size() > 2) {
    emit session_.message(tr("Two kinds of quantity fit beside each other; take one of these off first."), true);
    return false;
  }
  readings_.push_back(reading);
  rebuildKeys();
  drawn_ = nullptr;
  refresh();
  return true;
}

void TracesPanel::remove(std::size_t i) {
  readings_.erase(readings_.begin() + static_cast<std::ptrdiff_t>(i));
  rebuildKeys();
  drawn_ = nullptr;
  refresh();
}

void TracesPanel::setShowsFrequencies(bool on) {
  frequencies_ = on;
  mode_->setChecked(on);
  drawn_ = nullptr;
  refresh();
}

void TracesPanel::rebuildKeys() {
  while (QLayoutItem* item = keys_->takeAt(0)) {
    if (QWidget* widget = item->widget()) widget->setParent(nullptr), widget->deleteLater();
    delete item;
  }
  for (std::size_t i = 0; i < readings_.size(); ++i) {
    auto* row = new QWidget;
    auto* cells = new QHBoxLayout(row);
    cells->setContentsMargins(0, 0, 0, 0);
    const QString text = QString::fromStdString(rig::textOf(readings_[i], session_.rig()));
    auto* sign = new QLabel;
    QPixmap line(22, 10);
    line.fill(Qt::transparent);
    QPainter painter(&line);
    painter.setPen(penOf(i));
    painter.drawLine(1, 5, 21, 5);
    painter.end();
    sign->setPixmap(line);
    cells->addWidget(sign);
    auto* name = new QLabel;
    name->setFont(look::font(look::Size::small));
    name->setText(name->fontMetrics().elidedText(text, Qt::ElideRight, 150));
    name->setToolTip(text);
    cells->addWidget(name, 1);
    auto* off = new QPushButton(QStringLiteral("\u00d7"));
    off->setAccessibleName(tr("Take off: %1").arg(text));
    off->setFixedSize(22, 20);
    off->setStyleSheet("padding: 0; border: none");
    cells->addWidget(off);
    connect(off, &QPushButton::clicked, this, [this, i] { remove(i); });
    keys_->addWidget(row);
  }
}

bool TracesPanel::ofLeftAxis(std::size_t i) const {
  return rig::dimensionOf(readings_[i], session_.rig()) == rig::dimensionOf(readings_.front(), session_.rig());
}

void TracesPanel::refresh() {
  if (!isVisible() || !session_.hasFrames()) return;
  const run::Recording* recording = session_.recording();
  // While the run is computed it is drawn every half second of it.
  const bool more =
      recording->size() >= drawnFrames_ + 30 || (!session_.computing() && recording->size() != drawnFrames_);
  if (recording != drawn_ || more) {
    plot_->clearGraphs();
    if (!readings_.empty()) frequencies_ ? plotFrequencies() : plotTimes();
    drawn_ = recording;
    drawnFrames_ = recording->size();
  }
  cursor_->setVisible(!frequencies_);
  cursor_->point1->setCoords(session_.playhead(), 0);
  cursor_->point2->setCoords(session_.playhead(), 1);
  second_->setVisible(!frequencies_ && secondAt_ >= 0);
  second_->point1->setCoords(secondAt_, 0);
  second_->point2->setCoords(secondAt_, 1);
  told_->setText(told());
  told_->setMinimumHeight(told_->heightForWidth(kSide));
  plot_->replot(QCustomPlot::rpQueuedReplot);
}

void TracesPanel::addGraph(std::size_t i, const std::vector<double>& x, const std::vector<double>& y, bool pinned,
                           double factor) {
  QCPGraph* graph = plot_->addGraph(plot_->xAxis, ofLeftAxis(i) ? plot_->yAxis : plot_->yAxis2);
  QPen pen = penOf(i);
  if (pinned) pen = QPen(look::kSand, 1.2);
  graph->setPen(pen);
  QVector<double> values(y.begin(), y.end());
  for (double& v : values) v *= factor;
  graph->setData(QVector<double>(x.begin(), x.end()), values, true);
  graph->setName(QString::fromStdString(rig::textOf(readings_[i], session_.rig())));
  if (pinned) graph->setLayer("grid");
}

void TracesPanel::plotTimes() {
  plot_->yAxis2->setVisible(false);
  const auto draw = [&](const run::Recording& recording, bool pinned) {
    std::vector<double> times(recording.size());
    for (std::size_t f = 0; f < times.size(); ++f) times[f] = recording.frame(f).time;
    for (std::size_t i = 0; i < readings_.size(); ++i) {
      const auto series = seriesIn(recording, readings_[i]);
      if (!series) continue;
      addGraph(i, times, *series, pinned, look::plotFactor(rig::dimensionOf(readings_[i], session_.rig())));
    }
  };
  if (const auto pinned = session_.pinned(Pinned::toCompare)) draw(*pinned, true);
  draw(*session_.recording(), false);
  plot_->xAxis->setLabel(tr("s"));
  for (std::size_t i = 0; i < readings_.size(); ++i) {
    QCPAxis* axis = ofLeftAxis(i) ? plot_->yAxis : plot_->yAxis2;
    axis->setVisible(true);
    axis->setLabel(look::plotUnit(rig::dimensionOf(readings_[i], session_.rig())));
  }
  plot_->rescaleAxes();
  plot_->xAxis->setRange(0, session_.rig().stage.duration);
  for (QCPAxis* axis : {plot_->yAxis, plot_->yAxis2}) axis->scaleRange(1.08);
}

void TracesPanel::plotFrequencies() {
  plot_->yAxis2->setVisible(false);
  for (std::size_t i = 0; i < readings_.size(); ++i) {
    const auto series = seriesIn(*session_.recording(), readings_[i]);
    if (!series) continue;
    const run::Spectrum s = run::spectrumOf(*series, session_.recording()->frameTime());
    if (s.frequency.empty()) continue;
    // Without the mean, which would dwarf the rest.
    addGraph(i, {s.frequency.begin() + 1, s.frequency.end()}, {s.amplitude.begin() + 1, s.amplitude.end()}, false,
             look::plotFactor(rig::dimensionOf(readings_[i], session_.rig())));
    QCPAxis* axis = ofLeftAxis(i) ? plot_->yAxis : plot_->yAxis2;
    axis->setVisible(true);
    axis->setLabel(tr("amplitude, %1").arg(look::plotUnit(rig::dimensionOf(readings_[i], session_.rig()))));
  }
  plot_->xAxis->setLabel(tr("Hz"));
  plot_->rescaleAxes();
}

void TracesPanel::pressAt(double time, bool second) {
  if (second) {
    secondAt_ = std::clamp(time, 0.0, session_.recording() ? session_.recording()->endTime() : 0.0);
    return refresh();
  }
  session_.setPlaying(false);
  session_.setPlayhead(time);
}

QString TracesPanel::told() const {
  if (!session_.hasFrames()) return {};
  const run::Recording& recording = *session_.recording();
  QStringList lines;
  for (const rig::Reading& r : readings_) {
    const auto series = seriesIn(recording, r);
    if (!series || series->empty()) continue;
    const rig::Dimension d = rig::dimensionOf(r, session_.rig());
    if (frequencies_) {
      const run::Spectrum s = run::spectrumOf(*series, recording.frameTime());
      lines << tr("strongest at %1 Hz: %2").arg(s.peakFrequency, 0, 'f', 2).arg(look::words(s.peakAmplitude, d, 4));
      continue;
    }
    const auto peak =
        std::max_element(series->begin(), series->end(), [](double a, double b) { return std::abs(a) < std::abs(b); });
    QString line =
        tr("now %1, peak %2 at %3 s")
            .arg(look::words((*series)[std::min(recording.indexAt(session_.playhead()), series->size() - 1)], d, 4),
                 look::words(*peak, d, 4))
            .arg(recording.frame(std::size_t(peak - series->begin())).time, 0, 'f', 2);
    if (secondAt_ >= 0) line += tr(", dashed %1").arg(look::words((*series)[recording.indexAt(secondAt_)], d, 4));
    lines << line;
  }
  if (!frequencies_ && secondAt_ >= 0)
    lines << tr("%1 s between the cursors").arg(std::abs(secondAt_ - session_.playhead()), 0, 'f', 3);
  return lines.join("\n");
}

bool TracesPanel::exportTable(const QString& path) {
  const run::Recording& recording = *session_.recording();
  QString text = "time_s";
  std::vector<std::vector<double>> columns;
  for (const rig::Reading& r : readings_) {
    const auto series = seriesIn(recording, r);
    if (!series) continue;
    text += ",\"" + QString::fromStdString(rig::textOf(r, session_.rig())).replace("\"", "\"\"") + "\"";
    columns.push_back(*series);
  }
  text += "\n";
  for (std::size_t f = 0; f < recording.size(); ++f) {
    text += QString::number(recording.frame(f).time, 'g', 12);
    for (const auto& column : columns) text += "," + QString::number(column[f], 'g', 12);
    text += "\n";
  }
  rig::writeWholeFile(path.toStdString(), text.toStdString());
  return true;
}

bool TracesPanel::exportTo(const QString& path) {
  if (!session_.hasFrames() || readings_.empty()) {
    emit session_.message(tr("There is nothing to export yet."), true);
    return false;
  }
  const QString kind = QFileInfo(path).suffix().toLower();
  constexpr int kWidth = 1000, kHeight = 480;
  bool done = false;
  try {
    if (kind == "csv") done = exportTable(path);
  } catch (const std::exception& e) {
    emit session_.message(QString::fromStdString(e.what()), true);
    return false;
  }
  if (kind == "png") done = plot_->savePng(path, kWidth, kHeight, 2);
  if (kind == "pdf") done = plot_->savePdf(path, kWidth, kHeight);
  if (kind == "svg") {
    QSvgGenerator svg;
    svg.setFileName(path);
    svg.setSize({kWidth, kHeight});
    svg.setViewBox(QRect(0, 0, kWidth, kHeight));
    QCPPainter painter;
    done = painter.begin(&svg);
    if (done) plot_->toPainter(&painter, kWidth, kHeight);
  }
  emit session_.message(done ? tr("Exported %1").arg(path)
                             : tr("%1: cannot be written; its name must end with .png, .svg, .pdf or .csv").arg(path),
                        !done);
  return done;
}

}  // namespace calm::app
