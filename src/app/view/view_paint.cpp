// SPDX-License-Identifier: GPL-3.0-or-later
// What the View draws: the scene, and the words and signs over it.
#include <QPainter>
#include <QPainterPath>

#include "app/look/look.h"
#include "app/view/view.h"
#include "engine/math/rotation.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr double kMarkerRadius = 4;  // px
}

void View::paintGL() {
  camera_.setViewport(size());
  if (!framed_ && !(session_.rig().parts.empty() && session_.preview().reference.empty())) {
    frameAll();
    framed_ = true;
  }
  overlay_->update();
  if (!error_.isEmpty()) return;
  const rig::Rig& rig = session_.rig();
  renderer_.begin(camera_, size() * devicePixelRatio());
  if (rig.stage.groundHeight) {
    renderer_.drawGround(*rig.stage.groundHeight);
    for (std::size_t i = 0; i < rig.parts.size(); ++i)
      if (poseOf(i).position.y() > *rig.stage.groundHeight && !hidden_.count(rig.parts[i].id))
        renderer_.drawShadow(rig.parts[i].shape, poseOf(i), *rig.stage.groundHeight);
  }
  const auto& chosen = session_.selection();
  const auto& partners = session_.preview().partners;
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    const rig::Part& p = rig.parts[i];
    if (hidden_.count(p.id)) continue;
    const bool marked = chosen.count(p.id) || (p.group && chosen.count(p.group)) ||
                        std::find(partners.begin(), partners.end(), p.id) != partners.end();
    const QColor base = p.role == Role::dynamic ? look::kGlass : p.role == Role::kinematic ? look::kSand : look::kStone;
    const QColor color = marked ? QColor(0x5F, 0xA8, 0xB6) : base;
    renderer_.drawShape(p.shape, poseOf(i), color, marked ? look::kTeal : base.darker(165), seesThrough_ ? 0.3 : 1);
  }
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    const Vec3 at = pivotOf(j);
    const bool marked = chosen.count(rig.joints[j].id) > 0;
    const double radius = camera_.metresPerPixel(at) * kMarkerRadius * signSize_ * (marked ? 1.5 : 1);
    const QColor color = isParted(j) ? look::kBrick : look::loadColor(jointValue(j));
    const std::vector<Vec3> course = isParted(j) ? std::vector<Vec3>{} : courseOf(j);
    for (std::size_t k = 1; k < course.size(); ++k) drawRope(course[k - 1], course[k], marked ? look::kTeal : color);
    renderer_.drawMarker(at, radius, marked && !isParted(j) ? look::kTeal : color, jointsThrough_);
  }
  if (const run::Frame* frame = session_.frame())
    for (const run::CueSample& c : frame->cues) {
      if (c.body == run::CueSample::Body::none) continue;
      const Shape ball = Sphere{c.radius};
      const Shape probe = run::probeShape(c.radius);
      renderer_.drawShape(c.body == run::CueSample::Body::ball ? ball : probe, c.pose, look::kSand,
                          look::kSand.darker(140));
    }
  if (const auto pinned = session_.pinned(Pinned::toCompare); pinned && pinned->size() > 0) {
    const run::Frame& then = pinned->frame(pinned->indexAt(session_.playhead()));
    for (std::size_t i = 0; i < then.parts.size(); ++i)
      if (pinned->rig().parts[i].role != Role::fixed)
        renderer_.drawShape(pinned->rig().parts[i].shape, then.parts[i].pose, look::kSand, look::kSand, 0.3);
  }
  for (const rig::Part& p : session_.preview().reference)
    renderer_.drawShape(p.shape, p.pose, look::kSand, look::kSand.darker(140));
  for (const rig::Part& p : session_.preview().moved)
    renderer_.drawShape(p.shape, p.pose, look::kTeal, look::kTeal, 0.45);
  if (session_.preview().part)
    renderer_.drawShape(session_.preview().part->shape, session_.preview().part->pose, look::kTeal, look::kTeal, 0.45);
}

// About as thick as a line of chart ink.
void View::drawRope(const Vec3& from, const Vec3& to, const QColor& color) {
  constexpr double kThickness = 1.6;  // px
  const Vec3 along = to - from;
  if (along.norm() < 1e-6) return;
  const Shape rope = Cylinder{camera_.metresPerPixel((from + to) / 2) * kThickness, along.norm()};
  renderer_.drawShape(rope, {(from + to) / 2, turnBetween(Vec3::UnitY(), along)}, color, color);
}

void View::paintOverlay(QPainter& painter) {
  painter.setRenderHint(QPainter::Antialiasing);
  if (!error_.isEmpty()) {
    painter.fillRect(rect(), look::kHazeHigh);
    painter.setPen(look::kBrick);
    painter.drawText(rect(), Qt::AlignCenter, tr("This graphics driver cannot draw the View: %1").arg(error_));
    return;
  }
  const rig::Rig& rig = session_.rig();
  for (std::size_t j = 0; j < rig.joints.size(); ++j)
    if (rig.joints[j].id == session_.selected()) paintCallout(painter, j);
  paintPreview(painter);
  if (showsNames_) paintNames(painter);
  paintHand(painter);
  if (!taker_ && !measure_.isOn() && hands_.tool() == Hands::Tool::none) {
    grip_.paint(painter, camera_);
    jointGrip_.paint(painter, camera_);
  }
  measure_.paint(painter, camera_);
  if (boxing_ && dragged_) {
    painter.setPen(QPen(look::kTeal, 1.4, Qt::DashLine));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(QRectF(pressed_, last_).normalized());
  }
  if (rig.parts.empty() && !taker_) {
    painter.setPen(look::kInk);
    painter.setFont(look::font(look::Size::heading));
    painter.drawText(rect(), Qt::AlignCenter, tr("What are you building?\nBegin with a Part (P) or a Line (L)."));
  }
}

// From what the hand holds to where it is.
void View::paintHand(QPainter& painter) {
  const auto hand = hands_.handAt();
  const auto held = hands_.heldPoint();
  if (!hand || !held) return;
  const auto from = camera_.project(*held), to = camera_.project(*hand);
  if (!from || !to) return;
  painter.setPen(QPen(look::kTeal, 2));
  painter.setBrush(look::kTeal);
  painter.drawLine(*from, *to);
  painter.drawEllipse(*from, 4, 4);
  painter.setBrush(Qt::NoBrush);
  painter.drawEllipse(*to, 9, 9);
}

void View::paintCallout(QPainter& painter, std::size_t joint) {
  const auto at = camera_.project(pivotOf(joint));
  const run::Frame* frame = session_.frame();
  if (!at || !frame) return;
  const rig::Joint& j = session_.rig().joints[joint];
  const bool parted = isParted(joint);
  const auto newtons = [](double f) { return QString::fromStdString(rig::formatQuantity(f, rig::Dimension::force)); };
  const QString name = QString::fromStdString(j.name);
  QString reading = parted ? tr("parted at %1 s").arg(*session_.recording()->partedAt(joint), 0, 'f', 2)
                           : newtons(frame->joints[joint].force);
  if (!parted && j.breakForce) reading += tr(" of %1").arg(newtons(*j.breakForce));
  painter.setFont(look::font(look::Size::text, true));
  const double width =
      std::max(painter.fontMetrics().horizontalAdvance(name), painter.fontMetrics().horizontalAdvance(reading)) + 20;
  QRectF box(at->x() + 34, at->y() - 50, width, 40);
  if (box.right() > this->width() - 8) box.moveRight(at->x() - 34);
  if (box.top() < 8) box.moveTop(at->y() + 16);
  const bool failing = parted || jointValue(joint) >= 1;
  const QColor edge = failing ? look::kBrick : look::kTeal;
  painter.setPen(QPen(edge, 1.2));
  painter.drawLine(*at, QPointF(box.left() > at->x() ? box.left() : box.right(), box.center().y()));
  painter.setBrush(look::kPaper);
  painter.drawRoundedRect(box, 4, 4);
  painter.setPen(edge);
  painter.drawText(box.adjusted(10, 4, -6, -20), Qt::AlignLeft | Qt::AlignVCenter, name);
  painter.setPen(look::kInk);
  painter.setFont(look::font(look::Size::text));
  painter.drawText(box.adjusted(10, 20, -6, -4), Qt::AlignLeft | Qt::AlignVCenter, reading);
}

// Of as many as can be told apart: a name that would cover another is left out.
void View::paintNames(QPainter& painter) {
  painter.setFont(look::font(look::Size::small));
  std::vector<QRectF> taken;
  const auto name = [&](const Vec3& where, const std::string& words, const QColor& color) {
    const auto at = camera_.project(where);
    if (!at || !rect().contains(at->toPoint())) return;
    const QString text = QString::fromStdString(words);
    const QRectF box(at->x() + 6, at->y() - 7, painter.fontMetrics().horizontalAdvance(text) + 4.0, 14);
    if (std::any_of(taken.begin(), taken.end(), [&](const QRectF& t) { return t.intersects(box); })) return;
    taken.push_back(box);
    painter.setPen(color);
    painter.drawText(box, Qt::AlignVCenter | Qt::AlignLeft, text);
  };
  const rig::Rig& rig = session_.rig();
  for (std::size_t i = 0; i < rig.parts.size(); ++i)
    if (!hidden_.count(rig.parts[i].id)) name(poseOf(i).position, rig.parts[i].name, look::kInk);
  for (std::size_t j = 0; j < rig.joints.size(); ++j) name(pivotOf(j), rig.joints[j].name, look::kTeal);
}

void View::paintPreview(QPainter& painter) {
  const Preview& preview = session_.preview();
  if (stroke_.isDrawn()) {
    QPolygonF through;
    for (const rig::Id id : stroke_.parts())
      if (const auto at = camera_.project(session_.rig().part(id)->pose.position)) through << *at;
    painter.setPen(QPen(look::kTeal, 2.4, Qt::DashLine, Qt::RoundCap));
    painter.setBrush(Qt::NoBrush);
    painter.drawPolyline(through);
    painter.setFont(look::font(look::Size::text, true));
    painter.drawText(last_ + QPointF(14, -10),
                     tr("%1 parts, %2s").arg(stroke_.parts().size()).arg(rig::word(session_.jointType())));
  }
  if (preview.line.size() > 1) {
    QPainterPath path;
    bool started = false;
    for (const Vec3& p : preview.line)
      if (const auto at = camera_.project(p)) {
        started ? path.lineTo(*at) : path.moveTo(*at);
        started = true;
      }
    painter.setPen(QPen(look::kTeal, 2.4, Qt::DashLine, Qt::RoundCap));
    painter.setBrush(Qt::NoBrush);
    painter.drawPath(path);
    painter.setBrush(look::kTeal);
    for (const Vec3& end : {preview.line.front(), preview.line.back()})
      if (const auto at = camera_.project(end)) painter.drawEllipse(*at, 4, 4);
  }
  const auto mark = [&](const std::vector<Vec3>& places, const QColor& color, bool cross) {
    painter.setPen(QPen(color, 1.6));
    painter.setBrush(Qt::NoBrush);
    for (const Vec3& place : places) {
      const auto at = camera_.project(place);
      if (!at) continue;
      if (!cross) {
        painter.drawEllipse(*at, 4, 4);
        continue;
      }
      painter.drawLine(*at - QPointF(4, 4), *at + QPointF(4, 4));
      painter.drawLine(*at - QPointF(4, -4), *at + QPointF(4, -4));
    }
  };
  mark(preview.outside, look::kBrick, true);
  mark(preview.emptiness, look::kAmber, false);
  if (preview.pivot)
    if (const auto at = camera_.project(*preview.pivot)) {
      painter.setPen(QPen(look::kTeal, 2));
      painter.setBrush(look::kPaper);
      painter.drawEllipse(*at, 7, 7);
      painter.drawLine(*at - QPointF(11, 0), *at + QPointF(11, 0));
      painter.drawLine(*at - QPointF(0, 11), *at + QPointF(0, 11));
    }
}

}  // namespace calm::app
