// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/strength_gauge.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/look/look.h"

namespace calm::app {

StrengthGauge::StrengthGauge(rig::Dimension dimension, QWidget* parent) : QWidget(parent), dimension_(dimension) {
  setMinimumHeight(44);
  setFocusPolicy(Qt::StrongFocus);
  setCursor(Qt::SizeHorCursor);
  setAccessibleName(dimension == rig::Dimension::force ? tr("Break force gauge") : tr("Break torque gauge"));
}

void StrengthGauge::show(double now, double peak, std::optional<double> strength) {
  now_ = now;
  peak_ = peak;
  strength_ = strength;
  update();
}

double StrengthGauge::scale() const {
  if (heldScale_ > 0) return heldScale_;
  const double largest = std::max(peak_, strength_.value_or(0)) * 1.25;
  return largest > 0 ? largest : (dimension_ == rig::Dimension::force ? 1000 : 100);
}

QRectF StrengthGauge::track() const {
  return {10, 10, width() - 32.0, 12};
}

QPointF StrengthGauge::handleAt(std::optional<double> strength) const {
  const QRectF t = track();
  if (!strength) return {t.right() + 12, t.center().y()};
  return {t.left() + t.width() * std::clamp(*strength / scale(), 0.0, 1.0), t.center().y()};
}

void StrengthGauge::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  const QRectF t = track();
  const auto at = [&](double value) { return t.left() + t.width() * std::clamp(value / scale(), 0.0, 1.0); };
  const auto words = [&](double value) { return QString::fromStdString(rig::formatQuantity(value, dimension_)); };
  const std::optional<double> strength = offEnd_ ? std::nullopt : shownStrength();
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kWell);
  painter.drawRoundedRect(t, 6, 6);
  const double fraction = strength ? peak_ / *strength : 0.75 * peak_ / scale();
  if (peak_ > 0) {
    painter.setBrush(look::loadColor(fraction));
    painter.drawRoundedRect(QRectF(t.left(), t.top(), std::max(12.0, at(peak_) - t.left()), t.height()), 6, 6);
    painter.setPen(QPen(look::kInk, 2));
    painter.drawLine(QPointF(at(peak_), t.top() - 3), QPointF(at(peak_), t.bottom() + 3));
    painter.setPen(QPen(look::kPaper, 1.5));
    painter.drawLine(QPointF(at(now_), t.top() + 2), QPointF(at(now_), t.bottom() - 2));
  }
  const QPointF handle = handleAt(strength);
  const bool fails = strength && peak_ > *strength;
  const QColor color = fails ? look::kBrick : look::kTeal;
  painter.setPen(QPen(color, 2.4));
  painter.setBrush(look::kPaper);
  painter.drawEllipse(handle, 7, 7);
  if (hasFocus()) {
    painter.setBrush(color);
    painter.drawEllipse(handle, 2.5, 2.5);
  }
  painter.setFont(look::font(look::Size::small));
  const QRectF line(0, t.bottom() + 4, width(), 16);
  painter.setPen(look::kMuted);
  const QString peakWords = tr("peak %1").arg(words(peak_));
  const QString strengthWords = strength ? words(*strength) : tr("unbreakable");
  const double peakWidth = painter.fontMetrics().horizontalAdvance(peakWords);
  const double strengthWidth = painter.fontMetrics().horizontalAdvance(strengthWords);
  double strengthX = std::clamp(handle.x() - strengthWidth / 2, 0.0, width() - strengthWidth);
  double peakX = std::clamp(at(peak_) - peakWidth / 2, 0.0, width() - peakWidth);
  // The two labels may not overlap: the peak's gives way.
  if (peakX + peakWidth > strengthX - 8 && peakX < strengthX + strengthWidth + 8)
    peakX = strengthX > peakWidth + 8 ? strengthX - peakWidth - 8 : strengthX + strengthWidth + 8;
  painter.drawText(QRectF(peakX, line.y(), peakWidth + 2, line.height()), Qt::AlignLeft, peakWords);
  painter.setPen(color);
  painter.drawText(QRectF(strengthX, line.y(), strengthWidth + 2, line.height()), Qt::AlignLeft, strengthWords);
}

void StrengthGauge::mousePressEvent(QMouseEvent* event) {
  heldScale_ = scale();
  mouseMoveEvent(event);
}

void StrengthGauge::mouseMoveEvent(QMouseEvent* event) {
  if (heldScale_ <= 0) return;
  const QRectF t = track();
  const double fraction = (event->position().x() - t.left()) / t.width();
  offEnd_ = fraction > 1.02;
  dragged_ = std::max(fraction, 0.005) * heldScale_;
  if (!offEnd_) emit dragging(*dragged_);
  update();
}

void StrengthGauge::mouseReleaseEvent(QMouseEvent*) {
  if (heldScale_ <= 0) return;
  const std::optional<double> choice = offEnd_ ? std::nullopt : dragged_;
  heldScale_ = 0;
  dragged_.reset();
  offEnd_ = false;
  emit chosen(choice);
}

void StrengthGauge::keyPressEvent(QKeyEvent* event) {
  const double step = event->modifiers() & Qt::ShiftModifier ? 0.1 : 0.01;
  const double from = strength_.value_or(scale());
  if (event->key() == Qt::Key_Left)
    emit chosen(std::max(from * (1 - step), 1e-6));
  else if (event->key() == Qt::Key_Right && strength_)
    emit chosen(from * (1 + step));
  else if (event->key() == Qt::Key_Delete)
    emit chosen(std::nullopt);
  else
    QWidget::keyPressEvent(event);
}

}  // namespace calm::app
