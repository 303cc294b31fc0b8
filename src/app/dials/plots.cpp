// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/dials/plots.h"

#include <QPainter>
#include <QPainterPath>
#include <cmath>

#include "app/look/look.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr int kHeight = 84, kEdge = 4, kFoot = 16;

QString quantity(double value, rig::Dimension dimension) {
  return QString::fromStdString(rig::formatQuantity(value, dimension));
}
}  // namespace

StepPlot::StepPlot(const run::SpringResponse& response, QWidget* parent) : QWidget(parent), response_(response) {
  setFixedHeight(kHeight);
  setAccessibleName(tr("Step response"));
  setToolTip(tr("Let go at one, how the spring alone would bring its two parts to rest"));
}

QString StepPlot::words() const {
  const QString spring = tr("%1, damping ratio %2")
                             .arg(quantity(response_.frequency, rig::Dimension::frequency))
                             .arg(response_.dampingRatio, 0, 'g', 3);
  const auto settling = response_.settling();
  return settling ? tr("%1; at rest after %2").arg(spring, quantity(*settling, rig::Dimension::time))
                  : tr("%1; swings on").arg(spring);
}

void StepPlot::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  const QRectF area = QRectF(rect()).adjusted(kEdge, kEdge, -kEdge, -kFoot);
  const double period = 1 / response_.frequency;
  const double span = std::clamp(response_.settling().value_or(4 * period) * 1.25, period, 8 * period);
  const double low = response_.dampingRatio < 1 ? -1 : -0.2;
  const auto at = [&](double t, double x) {
    return QPointF(area.left() + area.width() * t / span, area.bottom() - area.height() * (x - low) / (1 - low));
  };
  painter.fillRect(QRectF(at(0, 0.02), at(span, -0.02)).normalized().adjusted(0, -1, 0, 1), look::kTealTint);
  painter.setPen(look::kHairline);
  painter.drawLine(at(0, 0), at(span, 0));
  QPainterPath path(at(0, 1));
  for (int i = 1; i <= 240; ++i) path.lineTo(at(span * i / 240, response_.at(span * i / 240)));
  painter.setPen(QPen(look::kTeal, 1.8));
  painter.drawPath(path);
  painter.setPen(look::kMuted);
  painter.setFont(look::font(look::Size::small));
  painter.drawText(QRectF(area.left(), area.bottom(), area.width(), kFoot), Qt::AlignRight | Qt::AlignVCenter,
                   quantity(span, rig::Dimension::time));
  painter.drawText(QRectF(area.left(), area.bottom(), area.width(), kFoot), Qt::AlignLeft | Qt::AlignVCenter,
                   tr("let go"));
}

EnvelopePlot::EnvelopePlot(const AxisDef& axis, bool turns, QWidget* parent)
    : QWidget(parent), axis_(axis), turns_(turns) {
  setFixedHeight(kHeight);
  setAccessibleName(tr("Motor envelope"));
  setToolTip(tr("Effort over rate: what the motor may push with, and where the run took it"));
}

void EnvelopePlot::setTrail(std::vector<QPointF> trail) {
  trail_ = std::move(trail);
  update();
}

double EnvelopePlot::used() const {
  double most = 0;
  for (const QPointF& p : trail_) most = std::max(most, std::abs(p.y()));
  return axis_.cap > 0 ? most / axis_.cap : 0;
}

QString EnvelopePlot::words() const {
  const QString cap = quantity(axis_.cap, turns_ ? rig::Dimension::torque : rig::Dimension::force);
  return trail_.empty() ? tr("up to %1").arg(cap)
                        : tr("up to %1; the run took up to %2 %").arg(cap).arg(100 * used(), 0, 'f', 0);
}

void EnvelopePlot::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  const QRectF area = QRectF(rect()).adjusted(kEdge, kEdge, -kEdge, -kFoot);
  double fastest = std::abs(axis_.speed), strongest = axis_.cap;
  for (const QPointF& p : trail_)
    fastest = std::max(fastest, std::abs(p.x())), strongest = std::max(strongest, std::abs(p.y()));
  fastest = 1.3 * std::max(fastest, 1e-3), strongest *= 1.25;
  const auto at = [&](double rate, double effort) {
    return QPointF(area.center().x() + area.width() / 2 * rate / fastest,
                   area.center().y() - area.height() / 2 * effort / strongest);
  };
  // Below its speed the motor pushes on, beyond it back.
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kTealTint);
  painter.drawRect(QRectF(at(-fastest, axis_.cap), at(axis_.speed, 0)).normalized());
  painter.drawRect(QRectF(at(axis_.speed, 0), at(fastest, -axis_.cap)).normalized());
  painter.setPen(look::kHairline);
  painter.drawLine(at(-fastest, 0), at(fastest, 0));
  painter.drawLine(at(0, -strongest), at(0, strongest));
  painter.setPen(QPen(look::kTeal, 1.6));
  painter.drawPolyline(QPolygonF{at(-fastest, axis_.cap), at(axis_.speed, axis_.cap), at(axis_.speed, -axis_.cap),
                                 at(fastest, -axis_.cap)});
  painter.setPen(QPen(look::kInk, 1));
  QPolygonF trail;
  for (const QPointF& p : trail_) trail << at(p.x(), p.y());
  painter.drawPolyline(trail);
  painter.setPen(look::kMuted);
  painter.setFont(look::font(look::Size::small));
  const QRectF foot(area.left(), area.bottom(), area.width(), kFoot);
  painter.drawText(foot, Qt::AlignLeft | Qt::AlignVCenter, tr("effort over rate"));
  painter.drawText(foot, Qt::AlignRight | Qt::AlignVCenter,
                   quantity(fastest, turns_ ? rig::Dimension::turnRate : rig::Dimension::speed));
}

}  // namespace calm::app
