// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/measure.h"

#include <QPainter>

#include "app/look/look.h"
#include "rig/units.h"

namespace calm::app {

void Measure::setOn(bool on) {
  on_ = on;
  places_.clear();
  hover_.reset();
}

void Measure::take(const Vec3& at, const QString& word) {
  if (places_.size() == 2) places_.clear();
  places_.push_back(at);
  word_ = word;
}

void Measure::hover(const std::optional<Vec3>& at, const QString& word) {
  hover_ = at;
  word_ = word;
}

QString Measure::reading() const {
  if (places_.size() < 2) return {};
  const auto words = [](double v) { return QString::fromStdString(rig::formatQuantity(v, rig::Dimension::length, 4)); };
  const Vec3 d = places_[1] - places_[0];
  return QObject::tr("%1; x %2, y %3, z %4").arg(words(d.norm()), words(d.x()), words(d.y()), words(d.z()));
}

void Measure::paint(QPainter& painter, const Camera& camera) const {
  if (!on_) return;
  painter.setPen(QPen(look::kTeal, 1.8));
  painter.setBrush(look::kPaper);
  std::vector<QPointF> seen;
  for (const Vec3& p : places_)
    if (const auto at = camera.project(p)) seen.push_back(*at);
  const auto hover = hover_ ? camera.project(*hover_) : std::nullopt;
  if (seen.size() == 1 && hover) painter.drawLine(seen[0], *hover);
  if (seen.size() == 2) painter.drawLine(seen[0], seen[1]);
  for (const QPointF& p : seen) painter.drawEllipse(p, 4, 4);
  painter.setFont(look::font(look::Size::text, true));
  if (hover) {
    painter.drawRect(QRectF(hover->x() - 3, hover->y() - 3, 6, 6));
    painter.drawText(*hover + QPointF(12, -8), word_);
  }
  if (seen.size() < 2) return;
  const QRectF box(QPointF(), QSizeF(painter.fontMetrics().horizontalAdvance(reading()) + 20.0, 24));
  const QRectF placed = box.translated((seen[0] + seen[1]) / 2 + QPointF(10, 8));
  painter.drawRoundedRect(placed, 4, 4);
  painter.setPen(look::kInk);
  painter.drawText(placed, Qt::AlignCenter, reading());
}

}  // namespace calm::app
