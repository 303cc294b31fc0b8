// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/dials/cone_dial.h"

#include <QMouseEvent>
#include <QPainter>
#include <cmath>
#include <numbers>

#include "app/look/look.h"

namespace calm::app {

namespace {
using std::numbers::pi;
constexpr double kLeastReach = pi / 2;  // rad, at the edge
constexpr double kHandle = 6.5;         // px
constexpr double kGrab = 12;            // px
constexpr double kStep = pi / 36;       // what a dragged rim snaps to
constexpr double kParked = 0.93;        // of the edge, where the handle of a rim that is not there waits
}  // namespace

ConeDial::ConeDial(QWidget* parent) : QWidget(parent) {
  setFixedHeight(150);
  setAccessibleName(tr("Cone"));
  setToolTip(tr("Drag the rim: upwards for leaning about beside, sideways for leaning about across"));
}

void ConeDial::setCone(double aboutY, double aboutZ) {
  y_ = aboutY, z_ = aboutZ;
  update();
}

void ConeDial::setReading(std::optional<QPointF> now, std::vector<QPointF> trail) {
  now_ = now;
  trail_ = std::move(trail);
  update();
}

// The cone fills most of the plot; a rim that is dragged does not change the scale under the hand.
double ConeDial::reach() const {
  return held_ ? heldReach_ : std::clamp(1.4 * std::max(y_, z_), kLeastReach, pi);
}

// Leaning about z moves the tip up, about y sideways.
QPointF ConeDial::at(double aboutY, double aboutZ) const {
  const double scale = (height() / 2.0 - 10) / reach();
  return {width() / 2.0 + scale * aboutY, height() / 2.0 - scale * aboutZ};
}

QPointF ConeDial::leaningAt(const QPointF& point) const {
  const double scale = (height() / 2.0 - 10) / reach();
  return {(point.x() - width() / 2.0) / scale, (height() / 2.0 - point.y()) / scale};
}

void ConeDial::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  const QPointF center = at(0, 0);
  const double edge = center.y() - at(0, reach()).y();
  painter.setPen(look::kHairline);
  painter.setBrush(Qt::NoBrush);
  for (const double ring : {pi / 6, pi / 3, pi / 2, pi})
    if (ring <= reach() + 1e-9) painter.drawEllipse(center, edge * ring / reach(), edge * ring / reach());
  painter.drawLine(at(-reach(), 0), at(reach(), 0));
  painter.drawLine(at(0, -reach()), at(0, reach()));
  const bool cone = y_ > 0 || z_ > 0;
  if (cone) {
    painter.setPen(QPen(look::kTeal, 1.8));
    painter.setBrush(look::kTealTint);
    painter.drawEllipse(center, at(y_, 0).x() - center.x(), center.y() - at(0, z_).y());
  }
  painter.setPen(QPen(look::kInk, 1));
  QPolygonF trail;
  for (const QPointF& p : trail_) trail << at(p.x(), p.y());
  painter.drawPolyline(trail);
  if (now_) {
    painter.setBrush(look::kInk);
    painter.drawEllipse(at(now_->x(), now_->y()), 3.5, 3.5);
  }
  painter.setPen(QPen(look::kTeal, 1.6));
  painter.setBrush(look::kPaper);
  for (const QPointF& h : {at(y_ > 0 ? y_ : kParked * reach(), 0), at(0, z_ > 0 ? z_ : kParked * reach())})
    painter.drawEllipse(h, kHandle, kHandle);
}

void ConeDial::mousePressEvent(QMouseEvent* event) {
  heldReach_ = reach();
  const auto near = [&](const QPointF& h) {
    return std::hypot(h.x() - event->position().x(), h.y() - event->position().y()) < kGrab;
  };
  held_ = near(at(y_ > 0 ? y_ : kParked * reach(), 0)) ? 1 : near(at(0, z_ > 0 ? z_ : kParked * reach())) ? 2 : 0;
}

void ConeDial::mouseMoveEvent(QMouseEvent* event) {
  if (held_ == 0) return;
  const QPointF lean = leaningAt(event->position());
  double angle = std::clamp(held_ == 1 ? lean.x() : lean.y(), kStep, reach() - kStep);
  if (!(event->modifiers() & Qt::AltModifier)) angle = std::round(angle / kStep) * kStep;
  (held_ == 1 ? y_ : z_) = angle;
  // A cone has two radii: the first that is drawn gives the other.
  if (y_ == 0) y_ = angle;
  if (z_ == 0) z_ = angle;
  update();
}

void ConeDial::mouseReleaseEvent(QMouseEvent*) {
  if (std::exchange(held_, 0) != 0) emit chosen(y_, z_);
}

}  // namespace calm::app
