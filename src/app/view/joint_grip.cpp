// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/joint_grip.h"

#include <QPainter>
#include <cmath>

#include "app/look/look.h"
#include "rig/features.h"
#include "rig/joining.h"

namespace calm::app {

namespace {
constexpr double kJointReach = 12;  // px, within which a handle is taken
constexpr double kSnap = 14;        // px, within which a place is snapped to
constexpr double kAxisLength = 72;  // px
constexpr double kEndReach = 46;    // px, at most, from the pivot to an end's knob

double pixelsBetween(const std::optional<QPointF>& a, const QPointF& b) {
  return a ? std::hypot(a->x() - b.x(), a->y() - b.y()) : 1e300;
}

bool hasAxis(JointType type) {
  return type != JointType::ball && type != JointType::fixed && type != JointType::distance &&
         type != JointType::spring && type != JointType::pulley && type != JointType::winch;
}

// Where the ray meets the plane through `at` that faces the camera.
Vec3 facing(const Camera& camera, const QPointF& pixel, const Vec3& at) {
  const Ray ray = camera.ray(pixel);
  const Vec3 towards = camera.ray(camera.project(at).value_or(pixel)).direction;
  return ray.origin + ray.direction * ((at - ray.origin).dot(towards) / ray.direction.dot(towards));
}
}  // namespace

const rig::Joint* JointGrip::joint() const {
  return session_.rig().joint(session_.selected());
}
Vec3 JointGrip::pivot() const {
  return held_ ? pivot_ : rig::restPivot(session_.rig(), *joint());
}
Vec3 JointGrip::axis() const {
  return held_ ? axis_ : rig::restFrame(session_.rig(), joint()->a).rotation * Vec3::UnitX();
}

std::vector<JointHandle> JointGrip::handles(const Camera& camera) const {
  std::vector<JointHandle> list;
  const rig::Joint* j = joint();
  if (!j || session_.playing() || session_.playhead() > 0) return list;
  const Vec3 at = pivot();
  const double pixel = camera.metresPerPixel(at);
  if (hasAxis(j->type)) list.push_back({JointHandle::Kind::axis, 0, at + kAxisLength * pixel * axis()});
  for (const int end : {0, 1}) {
    const rig::Side& side = end == 0 ? j->a : j->b;
    const rig::Part* part = session_.rig().part(side.part);
    const Vec3 own = rig::restFrame(session_.rig(), side).position;
    const Vec3 towards = part ? Vec3(part->pose.position - own) : Vec3(0, -1, 0);
    const double reach = std::min(towards.norm(), kEndReach * pixel);
    list.push_back(
        {JointHandle::Kind::end, end, towards.norm() > 1e-9 ? Vec3(own + towards.normalized() * reach) : own});
  }
  list.push_back({JointHandle::Kind::pivot, 0, at});
  return list;
}

std::optional<JointHandle> JointGrip::handleAt(const Camera& camera, const QPointF& pixel) const {
  std::optional<JointHandle> best;
  double nearest = kJointReach;
  for (const JointHandle& h : handles(camera))
    if (const double d = pixelsBetween(camera.project(h.at), pixel); d < nearest) nearest = d, best = h;
  return best;
}

bool JointGrip::begin(const Camera& camera, const QPointF& pixel) {
  const auto handle = handleAt(camera, pixel);
  if (!handle) return false;
  pivot_ = pivot(), axis_ = axis();
  held_ = handle;
  moved_ = false;
  part_.reset();
  word_.clear();
  return true;
}

// Along what an axis may lie: the world's axes, and those of the two parts.
std::vector<std::pair<Vec3, QString>> JointGrip::directions() const {
  std::vector<std::pair<Vec3, QString>> list;
  constexpr const char* kNames[] = {"x", "y", "z"};
  for (int k = 0; k < 3; ++k) list.emplace_back(Vec3::Unit(k), QObject::tr("world %1").arg(kNames[k]));
  for (const rig::Side* side : {&joint()->a, &joint()->b})
    if (const rig::Part* part = session_.rig().part(side->part))
      for (int k = 0; k < 3; ++k)
        list.emplace_back(part->pose.rotation * Vec3::Unit(k),
                          QObject::tr("%1's %2").arg(QString::fromStdString(part->name), kNames[k]));
  for (std::size_t i = list.size(); i-- > 0;) list.emplace_back(-list[i].first, list[i].second);
  return list;
}

void JointGrip::drag(const Camera& camera, const QPointF& pixel, rig::Id under, bool freely) {
  moved_ = true;
  word_.clear();
  Preview& preview = session_.preview();
  preview = {};
  if (held_->kind == JointHandle::Kind::end) {
    part_ = under;
    held_->at = facing(camera, pixel, held_->at);
    if (under != rig::kNone) preview.partners = {under};
    word_ = QString::fromStdString(session_.rig().partName(under));
    return session_.previewChanged();
  }
  double nearest = kSnap;
  if (held_->kind == JointHandle::Kind::pivot) {
    pivot_ = facing(camera, pixel, pivot_);
    std::vector<rig::Feature> places;
    const rig::Part *a = session_.rig().part(joint()->a.part), *b = session_.rig().part(joint()->b.part);
    const auto take = [&](const std::vector<rig::Feature>& more) {
      places.insert(places.end(), more.begin(), more.end());
    };
    if (a && b) take(rig::featuresBetween(*a, *b));
    if (a) take(rig::featuresOf(*a));
    if (b) take(rig::featuresOf(*b));
    for (const rig::Feature& f : places)
      if (const double d = pixelsBetween(camera.project(f.at), pixel); !freely && d < nearest)
        nearest = d, pivot_ = f.at, word_ = QString::fromStdString(f.word);
    preview.pivot = pivot_;
  } else {
    const double length = kAxisLength * camera.metresPerPixel(pivot_);
    const Vec3 towards = facing(camera, pixel, pivot_) - pivot_;
    if (towards.norm() > 1e-9) axis_ = towards.normalized();
    for (const auto& [direction, word] : directions())
      if (const double d = pixelsBetween(camera.project(pivot_ + length * direction), pixel); !freely && d < nearest)
        nearest = d, axis_ = direction, word_ = word;
  }
  session_.previewChanged();
}

void JointGrip::letGo() {
  const auto held = std::exchange(held_, std::nullopt);
  session_.preview() = {};
  if (!held || !moved_ || !joint()) return session_.previewChanged();
  const rig::Id id = joint()->id;
  const QString name = QString::fromStdString(joint()->name);
  if (held->kind == JointHandle::Kind::pivot)
    session_.edit(QObject::tr("move pivot of %1").arg(name), [&](rig::Rig& rig) { rig::movePivot(rig, id, pivot_); });
  else if (held->kind == JointHandle::Kind::axis)
    session_.edit(QObject::tr("turn axis of %1").arg(name), [&](rig::Rig& rig) { rig::turnAxis(rig, id, axis_); });
  else if (part_ && *part_ != (held->end == 0 ? joint()->a.part : joint()->b.part))
    session_.edit(QObject::tr("tie %1 to %2").arg(name, QString::fromStdString(session_.rig().partName(*part_))),
                  [&](rig::Rig& rig) { rig::moveEnd(rig, id, held->end, *part_); });
  session_.previewChanged();
}

void JointGrip::drop() {
  held_.reset();
  session_.preview() = {};
  session_.previewChanged();
}

void JointGrip::paint(QPainter& painter, const Camera& camera) const {
  const auto list = handles(camera);
  if (list.empty()) return;
  const auto center = camera.project(pivot());
  if (!center) return;
  for (const JointHandle& h : list) {
    const bool held = held_ && held_->kind == h.kind && held_->end == h.end;
    const auto at = camera.project(held && h.kind == JointHandle::Kind::end ? held_->at : h.at);
    if (!at) continue;
    painter.setPen(QPen(look::kTeal, 1.6, h.kind == JointHandle::Kind::end ? Qt::DotLine : Qt::SolidLine));
    painter.setBrush(look::kPaper);
    if (h.kind == JointHandle::Kind::pivot) {
      const QPolygonF diamond{*at + QPointF(0, -7), *at + QPointF(7, 0), *at + QPointF(0, 7), *at + QPointF(-7, 0)};
      painter.drawPolygon(diamond);
      continue;
    }
    painter.drawLine(*center, *at);
    painter.setPen(QPen(look::kTeal, 1.6));
    if (h.kind == JointHandle::Kind::axis)
      painter.drawEllipse(*at, 5, 5);
    else
      painter.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
  }
  if (!held_ || word_.isEmpty()) return;
  const auto at = camera.project(held_->kind == JointHandle::Kind::axis
                                     ? Vec3(pivot() + kAxisLength * camera.metresPerPixel(pivot()) * axis())
                                 : held_->kind == JointHandle::Kind::end ? held_->at
                                                                         : pivot());
  if (!at) return;
  painter.setPen(look::kInk);
  painter.setFont(look::font(look::Size::text, true));
  painter.drawText(*at + QPointF(14, -10), word_);
}

}  // namespace calm::app
