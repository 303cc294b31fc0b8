// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/grip.h"

#include <QKeyEvent>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "app/look/look.h"
#include "rig/edits.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr double kArm = 76, kBow = 52, kGripReach = 11;  // px
using std::numbers::pi;
constexpr const char* kAxisNames[] = {"x", "y", "z"};

// Sizes along the part's own axes that can be dragged, as full lengths; 0 where there is none.
Vec3 sizesOf(const Shape& shape) {
  if (const auto* box = std::get_if<Box>(&shape)) return box->size;
  if (const auto* sphere = std::get_if<Sphere>(&shape)) return {2 * sphere->radius, 0, 0};
  if (const auto* capsule = std::get_if<Capsule>(&shape)) return {2 * capsule->radius, capsule->length, 0};
  if (const auto* cylinder = std::get_if<Cylinder>(&shape)) return {2 * cylinder->radius, cylinder->length, 0};
  return Vec3::Zero();
}

void setSize(Shape& shape, int axis, double size) {
  size = std::max(size, 1e-3);
  if (auto* box = std::get_if<Box>(&shape)) box->size[axis] = size;
  if (auto* sphere = std::get_if<Sphere>(&shape)) sphere->radius = size / 2;
  if (auto* capsule = std::get_if<Capsule>(&shape)) {
    if (axis == 0)
      capsule->radius = size / 2;
    else
      capsule->length = size;
    capsule->radius = std::min(capsule->radius, capsule->length / 2);
  }
  if (auto* cylinder = std::get_if<Cylinder>(&shape))
    (axis == 0 ? cylinder->radius : cylinder->length) = axis == 0 ? size / 2 : size;
}

}  // namespace

std::vector<const rig::Part*> Grip::parts() const {
  std::vector<const rig::Part*> list;
  const auto& chosen = session_.selection();
  for (const rig::Part& p : session_.rig().parts)
    if (chosen.count(p.id) || (p.group && chosen.count(p.group))) list.push_back(&p);
  return list;
}

Vec3 Grip::center() const {
  const auto list = parts();
  if (list.size() == 1) return list[0]->pose.position;
  Aabb box;
  for (const rig::Part* p : list) box.include(boundsOf(p->shape, p->pose));
  return (box.low + box.high) / 2;
}

Mat3 Grip::axes() const {
  const auto list = parts();
  return ownAxes_ && list.size() == 1 ? list[0]->pose.rotation.toRotationMatrix() : Mat3(Mat3::Identity());
}

std::vector<GripHandle> Grip::handles(const Camera& camera) const {
  std::vector<GripHandle> list;
  const auto chosen = parts();
  if (chosen.empty() || session_.playing() || session_.playhead() > 0) return list;
  const Vec3 middle = center();
  const Mat3 lines = axes();
  const double pixel = camera.metresPerPixel(middle);
  for (int k = 0; k < 3; ++k)
    list.push_back({GripHandle::Kind::move, k, 1, middle + kArm * pixel * lines.col(k), lines.col(k)});
  for (int k = 0; k < 3; ++k) {
    const Vec3 between = (lines.col((k + 1) % 3) + lines.col((k + 2) % 3)).normalized();
    list.push_back({GripHandle::Kind::turn, k, 1, middle + kBow * pixel * between, lines.col(k)});
  }
  if (chosen.size() > 1) return list;
  const Vec3 sizes = sizesOf(chosen[0]->shape);
  const Mat3 own = chosen[0]->pose.rotation.toRotationMatrix();
  for (int k = 0; k < 3; ++k)
    for (const double side : {1.0, -1.0})
      if (sizes[k] > 0)
        list.push_back({GripHandle::Kind::size, k, side, middle + side * sizes[k] / 2 * own.col(k), own.col(k)});
  return list;
}

std::optional<GripHandle> Grip::handleAt(const Camera& camera, const QPointF& pixel) const {
  std::optional<GripHandle> best;
  double nearest = kGripReach;
  for (const GripHandle& h : handles(camera))
    if (const auto p = camera.project(h.at)) {
      const double d = std::hypot(p->x() - pixel.x(), p->y() - pixel.y());
      if (d < nearest) nearest = d, best = h;
    }
  return best;
}

void Grip::begin(const Camera& camera, const QPointF& pixel) {
  held_ = handleAt(camera, pixel);
  if (!held_) return;
  heldCenter_ = center();
  change_ = 0;
  typed_.clear();
  moved_ = false;
  grabbed_ = measure(camera, pixel);
}

// The point of the axis that is nearest to the pixel's ray, or the angle at which the ray meets the plane of turning.
double Grip::measure(const Camera& camera, const QPointF& pixel) const {
  const Ray ray = camera.ray(pixel);
  const Vec3& line = held_->line;
  if (held_->kind != GripHandle::Kind::turn) {
    const Vec3 between = heldCenter_ - ray.origin;
    const double mixed = line.dot(ray.direction), square = 1 - mixed * mixed;
    if (square < 1e-6) return grabbed_;
    return (mixed * ray.direction.dot(between) - line.dot(between)) / square;
  }
  const double towards = ray.direction.dot(line);
  if (std::abs(towards) < 1e-3) return grabbed_;
  const Vec3 hit = ray.origin + ray.direction * (heldCenter_ - ray.origin).dot(line) / towards - heldCenter_;
  const Vec3 first = anyPerpendicular(line);
  return std::atan2(line.cross(first).dot(hit), first.dot(hit));
}

// Onto whole steps of a grid that fits what a few pixels span; and onto what other parts reach along the axis, which
// goes first.
double Grip::snapped(double value, const Camera& camera) const {
  if (held_->kind == GripHandle::Kind::turn) return std::round(value / (pi / 36)) * (pi / 36);
  const double pixel = camera.metresPerPixel(heldCenter_);
  const double decade = std::pow(10, std::floor(std::log10(10 * pixel)));
  const double step = decade * (10 * pixel / decade > 5 ? 10 : 10 * pixel / decade > 2 ? 5 : 2);
  double best = std::round(value / step) * step;
  if (held_->kind != GripHandle::Kind::move) return best;
  const auto extent = [&](const rig::Part& p) {
    const Aabb box = boundsOf(p.shape, p.pose);
    const Vec3 half = (box.high - box.low) / 2;
    const double at = held_->line.dot((box.low + box.high) / 2), reach = held_->line.cwiseAbs().dot(half);
    return std::array{at - reach, at, at + reach};
  };
  const auto mine = parts();
  double nearest = 8 * pixel;
  for (const rig::Part& other : session_.rig().parts) {
    if (std::find(mine.begin(), mine.end(), &other) != mine.end()) continue;
    for (const double to : extent(other))
      for (const double from : extent(*mine.front()))
        if (const double off = std::abs(to - from - value); off < nearest) nearest = off, best = to - from;
  }
  return best;
}

void Grip::drag(const Camera& camera, const QPointF& pixel, Qt::KeyboardModifiers modifiers) {
  moved_ = true;
  uniform_ = modifiers & Qt::ShiftModifier;
  if (!typed_.isEmpty()) return;
  double change = measure(camera, pixel) - grabbed_;
  if (held_->kind == GripHandle::Kind::turn) change = std::remainder(change, 2 * pi);
  change_ = modifiers & Qt::AltModifier ? change : snapped(change, camera);
  show();
}

bool Grip::type(QKeyEvent* event) {
  if (!held_) return false;
  if (event->key() == Qt::Key_Escape) {
    held_.reset();
    drop();
    return true;
  }
  if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) {
    letGo();
    return true;
  }
  if (event->key() == Qt::Key_Backspace)
    typed_.chop(1);
  else if (!event->text().isEmpty() && event->text()[0].isPrint())
    typed_ += event->text();
  else
    return false;
  const bool turns = held_->kind == GripHandle::Kind::turn;
  bool bare = false;
  typed_.toDouble(&bare);
  const QString text = bare && turns ? typed_ + " deg" : typed_;
  if (const auto value =
          rig::parseQuantity(text.toStdString(), turns ? rig::Dimension::angle : rig::Dimension::length)) {
    change_ = *value;
    // What is typed for a size is the size itself.
    if (held_->kind == GripHandle::Kind::size)
      change_ = held_->side * (*value - sizesOf(parts()[0]->shape)[held_->axis]);
  }
  moved_ = true;
  show();
  return true;
}

std::vector<rig::Part> Grip::changed() const {
  std::vector<rig::Part> list;
  const Pose here{heldCenter_, Quat::Identity()};
  for (const rig::Part* part : parts()) {
    rig::Part p = *part;
    if (held_->kind == GripHandle::Kind::move) p.pose.position += change_ * held_->line;
    if (held_->kind == GripHandle::Kind::turn)
      p.pose = here * Pose{Vec3::Zero(), Quat(Eigen::AngleAxisd(change_, held_->line))} * here.inverse() * p.pose;
    if (held_->kind == GripHandle::Kind::size) {
      // The other end stays where it is; round things grow about their axis.
      const double before = sizesOf(p.shape)[held_->axis];
      const bool radial = !std::holds_alternative<Box>(p.shape) && held_->axis == 0;
      setSize(p.shape, held_->axis, before + held_->side * change_ * (radial ? 2 : 1));
      const double grown = sizesOf(p.shape)[held_->axis] - before;
      if (uniform_) {
        p.shape = part->shape;
        const Vec3 sizes = sizesOf(p.shape);
        // Lengths before the radii that they bound.
        for (int k = 2; k >= 0; --k)
          if (sizes[k] > 0) setSize(p.shape, k, sizes[k] * (before + grown) / before);
      } else if (!radial)
        p.pose.position += held_->side * grown / 2 * held_->line;
    }
    list.push_back(p);
  }
  return list;
}

void Grip::show() {
  session_.preview().moved = changed();
  session_.previewChanged();
}

void Grip::drop() {
  session_.preview().moved.clear();
  session_.previewChanged();
}

void Grip::letGo() {
  const std::vector<rig::Part> list = moved_ && change_ != 0 ? changed() : std::vector<rig::Part>{};
  const GripHandle handle = *held_;
  held_.reset();
  drop();
  if (list.empty()) return;
  const QString name =
      list.size() == 1 ? QString::fromStdString(list[0].name) : QObject::tr("%1 parts").arg(list.size());
  const QString verb = handle.kind == GripHandle::Kind::move   ? QObject::tr("move %1")
                       : handle.kind == GripHandle::Kind::turn ? QObject::tr("turn %1")
                                                               : QObject::tr("size %1");
  session_.edit(verb.arg(name), [&](rig::Rig& rig) {
    std::map<rig::Id, Pose> poses;
    for (const rig::Part& p : list) poses[p.id] = p.pose, rig.part(p.id)->shape = p.shape;
    // A part that grows keeps its joints where they are in the world.
    rig::place(rig, poses);
    for (const rig::Fault& f : rig::faultsOf(rig)) throw std::invalid_argument(f.text());
  });
}

QString Grip::readout() const {
  const auto words = [&](double v, rig::Dimension d) { return QString::fromStdString(rig::formatQuantity(v, d, 4)); };
  if (!typed_.isEmpty()) return QString("%1: %2_").arg(kAxisNames[held_->axis], typed_);
  switch (held_->kind) {
    case GripHandle::Kind::move:
      return QString("%1 %2%3").arg(kAxisNames[held_->axis], change_ < 0 ? "" : "+",
                                    words(change_, rig::Dimension::length));
    case GripHandle::Kind::turn:
      return QObject::tr("about %1 %2").arg(kAxisNames[held_->axis], words(change_, rig::Dimension::angle));
    case GripHandle::Kind::size:
      return words(sizesOf(changed()[0].shape)[held_->axis], rig::Dimension::length);
  }
  return {};
}

void Grip::paint(QPainter& painter, const Camera& camera) const {
  const auto list = held_ ? std::vector{*held_} : handles(camera);
  if (list.empty()) return;
  const Vec3 middle = held_ ? heldCenter_ : center();
  const auto origin = camera.project(middle);
  if (!origin) return;
  painter.setFont(look::font(look::Size::small, true));
  for (const GripHandle& h : list) {
    Vec3 at = h.at;
    if (held_ && h.kind == GripHandle::Kind::move) at += change_ * h.line;
    const auto p = camera.project(at);
    if (!p) continue;
    painter.setPen(QPen(look::kTeal, 2, Qt::SolidLine, Qt::RoundCap));
    painter.setBrush(look::kPaper);
    if (h.kind == GripHandle::Kind::move) {
      const QPointF d = *p - *origin;
      const double length = std::hypot(d.x(), d.y());
      if (length < 14) continue;  // it points at the eye
      const QPointF u = d / length, n(-u.y(), u.x());
      painter.setPen(QPen(look::kPaper, 4.5, Qt::SolidLine, Qt::RoundCap));
      painter.drawLine(*origin + u * 8, *p - u * 4);
      painter.setPen(QPen(look::kTeal, 2, Qt::SolidLine, Qt::RoundCap));
      painter.drawLine(*origin + u * 8, *p - u * 8);
      painter.setBrush(look::kTeal);
      painter.drawPolygon(QPolygonF{*p + u * 3, *p - u * 9 + n * 5, *p - u * 9 - n * 5});
      painter.drawText(QRectF(p->x() + u.x() * 14 - 8, p->y() + u.y() * 14 - 8, 16, 16), Qt::AlignCenter,
                       kAxisNames[h.axis]);
    } else if (h.kind == GripHandle::Kind::turn) {
      QPainterPath bow;
      const Vec3 arm = h.at - middle;
      for (int i = -6; i <= 6; ++i) {
        const auto q = camera.project(middle + Eigen::AngleAxisd(i * 0.06, h.line) * arm);
        if (!q) continue;
        i == -6 ? bow.moveTo(*q) : bow.lineTo(*q);
      }
      painter.setBrush(Qt::NoBrush);
      painter.setPen(QPen(look::kPaper, 4.5, Qt::SolidLine, Qt::RoundCap));
      painter.drawPath(bow);
      painter.setPen(QPen(look::kTeal, 2, Qt::SolidLine, Qt::RoundCap));
      painter.drawPath(bow);
      painter.setBrush(look::kPaper);
      painter.drawEllipse(*p, 3.5, 3.5);
    } else {
      painter.drawRect(QRectF(p->x() - 3.5, p->y() - 3.5, 7, 7));
    }
  }
  if (!held_ || !moved_) return;
  const QString text = readout();
  painter.setFont(look::font(look::Size::text, true));
  QRectF box(0, 0, painter.fontMetrics().horizontalAdvance(text) + 18, 24);
  box.moveTopLeft(*origin + QPointF(22, 18));
  painter.setPen(QPen(look::kTeal, 1.2));
  painter.setBrush(look::kPaper);
  painter.drawRoundedRect(box, 4, 4);
  painter.setPen(look::kInk);
  painter.drawText(box, Qt::AlignCenter, text);
}

}  // namespace calm::app
