// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/dials/axis_dial.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "app/look/look.h"
#include "rig/units.h"

namespace calm::app {

namespace {
using std::numbers::pi;
constexpr double kNone = std::numeric_limits<double>::infinity();
constexpr double kHandleReach = 14;  // px around a handle

}  // namespace

AxisDial::AxisDial(bool turns, QWidget* parent) : QWidget(parent), turns_(turns), low_(-kNone), high_(kNone) {
  setFixedHeight(sizeHint().height());
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setToolTip(turns ? tr("Drag the stops. Past the bottom there is none. Ctrl: whole steps of 15\u00b0.")
                   : tr("Drag the stops. Off the end there is none. Ctrl: whole centimetres."));
}

QSize AxisDial::sizeHint() const {
  return {240, turns_ ? 150 : 56};
}

void AxisDial::setStops(double low, double high) {
  low_ = low, high_ = high;
  update();
}

void AxisDial::setReading(std::optional<double> now, std::optional<std::pair<double, double>> swept) {
  now_ = now;
  swept_ = swept;
  update();
}

void AxisDial::setTrying(bool trying) {
  trying_ = trying;
  needleHeld_ = false;
  update();
}

QPointF AxisDial::center() const {
  return {width() / 2.0, 74};
}

double AxisDial::radius() const {
  return 50;
}

std::pair<double, double> AxisDial::span() const {
  if (heldSpan_) return *heldSpan_;
  double from = 0, to = 0;
  const auto include = [&](double v) {
    if (std::isfinite(v)) from = std::min(from, v), to = std::max(to, v);
  };
  include(low_), include(high_);
  if (now_) include(*now_);
  if (swept_) include(swept_->first), include(swept_->second);
  const double pad = std::max(0.25 * (to - from), 0.1);
  return {from - pad, to + pad};
}

// Zero is at the top, and turns count clockwise as seen along the axis; half a turn either way is at the bottom.
QPointF AxisDial::at(double value) const {
  if (turns_) {
    const double angle = std::clamp(value, -pi, pi);
    return center() + radius() * QPointF(std::sin(angle), -std::cos(angle));
  }
  const auto [from, to] = span();
  return {28 + (width() - 56) * (value - from) / (to - from), 22};
}

QPointF AxisDial::parked(bool high) const {
  if (turns_) return center() + QPointF(high ? 13 : -13, radius() + 10);
  return {high ? width() - 10.0 : 10.0, 22};
}

QPointF AxisDial::handleAt(bool high) const {
  const double value = high ? high_ : low_;
  return std::isfinite(value) ? at(value) : parked(high);
}

double AxisDial::valueAt(const QPointF& point) const {
  if (turns_) {
    const QPointF d = point - center();
    return std::atan2(d.x(), -d.y());
  }
  const auto [from, to] = span();
  return from + (to - from) * (point.x() - 28) / (width() - 56);
}

void AxisDial::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  turns_ ? paintProtractor(painter) : paintRuler(painter);
  paintHandles(painter);
}

void AxisDial::paintProtractor(QPainter& painter) {
  const QPointF c = center();
  const double r = radius();
  const QRectF disc(c.x() - r, c.y() - r, 2 * r, 2 * r);
  const auto degrees = [](double angle) { return 90 - angle * 180 / pi; };  // Qt's: from three o'clock, left round
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kWell);
  painter.drawEllipse(disc);
  const double low = std::max(low_, -pi), high = std::min(high_, pi);
  painter.setBrush(look::kTealTint);
  if (std::isfinite(low_) || std::isfinite(high_))
    painter.drawPie(disc, int(degrees(low) * 16), -int((high - low) * 180 / pi * 16));
  for (int d = -180; d < 180; d += 15) {
    const double a = d * pi / 180, inner = r - (d % 45 == 0 ? 9 : 5);
    painter.setPen(QPen(look::kMuted, d % 45 == 0 ? 1.2 : 0.7));
    painter.drawLine(c + r * QPointF(std::sin(a), -std::cos(a)), c + inner * QPointF(std::sin(a), -std::cos(a)));
  }
  if (swept_) {
    const QRectF band = disc.adjusted(-5, -5, 5, 5);
    const double from = swept_->first, to = std::min(swept_->second, from + 2 * pi);
    painter.setPen(QPen(look::loadColor(0.55), 3, Qt::SolidLine, Qt::FlatCap));
    painter.setBrush(Qt::NoBrush);
    painter.drawArc(band, int(degrees(from) * 16), -std::max(int((to - from) * 180 / pi * 16), 8));
  }
  if (now_) {
    painter.setPen(QPen(trying_ ? look::kTeal : look::kInk, trying_ ? 3 : 2, Qt::SolidLine, Qt::RoundCap));
    painter.drawLine(c, c + (r - 4) * QPointF(std::sin(*now_), -std::cos(*now_)));
    painter.setBrush(look::kInk);
    painter.drawEllipse(c, 3, 3);
  }
  painter.setFont(look::font(look::Size::small));
  painter.setPen(look::kMuted);
  painter.drawText(QRectF(c.x() - 30, 2, 60, 14), Qt::AlignCenter, "0\u00b0");
  const auto corner = [&](double value, bool right, const QString& none) {
    painter.setPen(std::isfinite(value) ? look::kTeal : look::kMuted);
    const QRectF box = right ? QRectF(c.x() + r + 6, height() - 18, width() - c.x() - r - 6, 16)
                             : QRectF(0, height() - 18, c.x() - r - 6, 16);
    painter.drawText(box, right ? Qt::AlignRight : Qt::AlignLeft,
                     std::isfinite(value) ? look::words(value, rig::Dimension::angle, 4) : none);
  };
  corner(low_, false, tr("no low stop"));
  corner(high_, true, tr("no high stop"));
}

void AxisDial::paintRuler(QPainter& painter) {
  const auto [from, to] = span();
  const QRectF track(28, 16, width() - 56, 12);
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kWell);
  painter.drawRoundedRect(track, 3, 3);
  const double left = std::isfinite(low_) ? at(low_).x() : track.left();
  const double right = std::isfinite(high_) ? at(high_).x() : track.right();
  if (std::isfinite(low_) || std::isfinite(high_)) {
    painter.setBrush(look::kTealTint);
    painter.drawRect(QRectF(left, track.top(), std::max(right - left, 1.0), track.height()));
  }
  const double step = std::pow(10, std::floor(std::log10((to - from) / 3)));
  for (double v = std::ceil(from / step) * step; v <= to; v += step) {
    painter.setPen(QPen(look::kMuted, std::abs(v) < step / 2 ? 1.6 : 0.7));
    painter.drawLine(QPointF(at(v).x(), track.bottom() - 5), QPointF(at(v).x(), track.bottom()));
  }
  if (swept_) {
    painter.setPen(QPen(look::loadColor(0.55), 3, Qt::SolidLine, Qt::FlatCap));
    const double end = std::max(at(swept_->second).x(), at(swept_->first).x() + 1);
    painter.drawLine(QPointF(at(swept_->first).x(), track.bottom() + 3), QPointF(end, track.bottom() + 3));
  }
  if (now_) {
    painter.setPen(QPen(trying_ ? look::kTeal : look::kInk, trying_ ? 3 : 2));
    painter.drawLine(QPointF(at(*now_).x(), track.top() - 4), QPointF(at(*now_).x(), track.bottom() + 2));
  }
  painter.setFont(look::font(look::Size::small));
  for (const bool high : {false, true}) {
    const double value = high ? high_ : low_;
    painter.setPen(std::isfinite(value) ? look::kTeal : look::kMuted);
    const QString text = std::isfinite(value) ? look::words(value, rig::Dimension::length, 4)
                         : high               ? tr("no high stop")
                                              : tr("no low stop");
    painter.drawText(QRectF(0, 38, width(), 16), high ? Qt::AlignRight : Qt::AlignLeft, text);
  }
}

void AxisDial::paintHandles(QPainter& painter) {
  for (const bool high : {false, true}) {
    const bool there = std::isfinite(high ? high_ : low_);
    painter.setPen(QPen(look::kTeal, 2.2, there ? Qt::SolidLine : Qt::DotLine));
    painter.setBrush(look::kPaper);
    painter.drawEllipse(handleAt(high), 6, 6);
    if (hasFocus() && high == highChosen_) {
      painter.setBrush(look::kTeal);
      painter.drawEllipse(handleAt(high), 2.5, 2.5);
    }
  }
}

void AxisDial::mousePressEvent(QMouseEvent* event) {
  const auto away = [&](bool high) {
    const QPointF d = event->position() - handleAt(high);
    return std::hypot(d.x(), d.y());
  };
  const bool high = away(true) <= away(false);
  if (away(high) > kHandleReach) {
    needleHeld_ = trying_;
    heldSpan_ = span();
    return mouseMoveEvent(event);
  }
  held_ = high ? 1 : -1;
  highChosen_ = high;
  before_ = {low_, high_};
  heldSpan_ = span();
}

void AxisDial::mouseMoveEvent(QMouseEvent* event) {
  if (needleHeld_) {
    now_ = std::clamp(valueAt(event->position()), low_, high_);
    emit tried(*now_);
    return update();
  }
  if (held_ == 0) {
    const auto near = [&](bool high) {
      return (event->position() - handleAt(high)).manhattanLength() < 1.5 * kHandleReach;
    };
    setCursor(near(true) || near(false) ? Qt::OpenHandCursor : Qt::ArrowCursor);
    return;
  }
  double value = valueAt(event->position());
  const double step =
      event->modifiers() & Qt::ControlModifier ? (turns_ ? pi / 12 : 0.01) : (turns_ ? pi / 180 : 0.001);
  value = std::round(value / step) * step;
  // Across the bottom of the protractor, or off the ruler's end, the stop is taken away.
  const bool off = turns_ ? (held_ > 0 ? value < 0 && event->position().y() > center().y() + radius() / 2
                                       : value > 0 && event->position().y() > center().y() + radius() / 2)
                          : (held_ > 0 ? event->position().x() > width() - 14 : event->position().x() < 14);
  if (held_ > 0)
    high_ = off ? kNone : std::max(value, std::isfinite(low_) ? low_ : -kNone);
  else
    low_ = off ? -kNone : std::min(value, high_);
  emit dragging(low_, high_);
  update();
}

void AxisDial::mouseReleaseEvent(QMouseEvent*) {
  needleHeld_ = false;
  if (held_ == 0) return heldSpan_.reset();
  held_ = 0;
  heldSpan_.reset();
  if (std::pair(low_, high_) != before_) emit chosen(low_, high_);
  update();
}

void AxisDial::keyPressEvent(QKeyEvent* event) {
  const double step = (turns_ ? pi / 180 : 0.001) * (event->modifiers() & Qt::ShiftModifier ? 10 : 1);
  double& stop = highChosen_ ? high_ : low_;
  const double from = std::isfinite(stop) ? stop : turns_ ? (highChosen_ ? pi : -pi) : now_.value_or(0);
  switch (event->key()) {
    case Qt::Key_Left:
      stop = from - step;
      break;
    case Qt::Key_Right:
      stop = from + step;
      break;
    case Qt::Key_Up:
    case Qt::Key_Down:
      highChosen_ = !highChosen_;
      return update();
    case Qt::Key_Delete:
      stop = highChosen_ ? kNone : -kNone;
      break;
    default:
      return QWidget::keyPressEvent(event);
  }
  if (low_ > high_) (highChosen_ ? low_ : high_) = stop;
  emit chosen(low_, high_);
  update();
}

}  // namespace calm::app
