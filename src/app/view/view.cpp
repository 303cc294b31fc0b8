// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/view.h"

#include <QGuiApplication>
#include <QMouseEvent>
#include <QOffscreenSurface>
#include <QOpenGLContext>
#include <QPainter>
#include <QPainterPath>

#include "app/look/look.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr double kPickRadius = 9;    // px
constexpr double kMarkerRadius = 4;  // px
constexpr double kClickSlop = 4;     // px

QSurfaceFormat wantedFormat() {
  QSurfaceFormat format;
  format.setVersion(3, 3);
  format.setProfile(QSurfaceFormat::CoreProfile);
  format.setDepthBufferSize(24);
  format.setStencilBufferSize(8);
  format.setSamples(4);
  return format;
}

}  // namespace

// Words and signs over the scene. A widget of its own, drawn by Qt, so that the scene's OpenGL state is nobody else's
// concern.
class View::Overlay : public QWidget {
 public:
  explicit Overlay(View& view) : QWidget(&view), view_(view) {
    setAttribute(Qt::WA_TransparentForMouseEvents);
    setAttribute(Qt::WA_TranslucentBackground);
    setStyleSheet("background: transparent");
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter painter(this);
    view_.paintOverlay(painter);
  }

 private:
  View& view_;
};

bool View::available() {
  // This platform may hand out a context, but QOpenGLWidget cannot compose with it.
  if (QGuiApplication::platformName() == "offscreen") return false;
  QOpenGLContext context;
  context.setFormat(wantedFormat());
  if (!context.create()) return false;
  QOffscreenSurface surface;
  surface.setFormat(context.format());
  surface.create();
  if (!context.makeCurrent(&surface)) return false;
  context.doneCurrent();
  return context.format().version() >= qMakePair(3, 3);
}

View::View(Session& session, QWidget* parent) : QOpenGLWidget(parent), session_(session), grip_(session) {
  setFormat(wantedFormat());
  setMinimumSize(320, 200);
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setAccessibleName(tr("View"));
  overlay_ = new Overlay(*this);
  connect(&session_, &Session::changed, this, qOverload<>(&QWidget::update));
  connect(&session_, &Session::selectionChanged, this, qOverload<>(&QWidget::update));
}

View::~View() {
  makeCurrent();
}

void View::resizeEvent(QResizeEvent* event) {
  QOpenGLWidget::resizeEvent(event);
  overlay_->resize(size());
}

void View::initializeGL() {
  if (!renderer_.initialize()) error_ = renderer_.error();
}

void View::setTaker(std::function<void(const Pick&)> taker) {
  taker_ = std::move(taker);
  setCursor(taker_ ? Qt::CrossCursor : Qt::ArrowCursor);
}

void View::setJointsThrough(bool on) {
  jointsThrough_ = on;
  update();
}

Pose View::poseOf(std::size_t part) const {
  const run::Frame* frame = session_.frame();
  return frame ? frame->parts[part].pose : session_.rig().parts[part].pose;
}

Vec3 View::pivotOf(std::size_t joint) const {
  const rig::Rig& rig = session_.rig();
  const rig::Joint& j = rig.joints[joint];
  const rig::Side& side = j.b.part != rig::kNone ? j.b : j.a;
  const rig::Part* part = rig.part(side.part);
  if (!part) return side.at;
  return poseOf(static_cast<std::size_t>(part - rig.parts.data())).apply(side.at);
}

Aabb View::boundsOfParts(const std::set<rig::Id>& ids) const {
  Aabb box;
  const auto& parts = session_.rig().parts;
  for (std::size_t i = 0; i < parts.size(); ++i)
    if (ids.empty() || ids.count(parts[i].id) || ids.count(parts[i].line))
      box.include(boundsOf(parts[i].shape, poseOf(i)));
  const auto& joints = session_.rig().joints;
  for (std::size_t j = 0; j < joints.size(); ++j)
    if (ids.count(joints[j].id)) box.include({pivotOf(j) - Vec3::Constant(0.25), pivotOf(j) + Vec3::Constant(0.25)});
  return box;
}

void View::frameAll() {
  const Aabb box = boundsOfParts({});
  if ((box.low.array() <= box.high.array()).all()) camera_.frame(box);
  update();
}

void View::frameSelection() {
  const Aabb box = boundsOfParts(session_.selection());
  if ((box.low.array() <= box.high.array()).all()) camera_.frame(box);
  update();
}

double View::jointValue(std::size_t joint) const {
  const run::Frame* frame = session_.frame();
  return frame ? session_.loadFraction(joint, frame->joints[joint]) : 0;
}

bool View::isParted(std::size_t joint) const {
  if (!session_.hasFrames()) return false;
  const auto at = session_.recording()->partedAt(joint);
  return at && *at <= session_.playhead() + 1e-9;
}

void View::hide(const std::set<rig::Id>& parts) {
  hidden_.insert(parts.begin(), parts.end());
  update();
}

void View::showAll() {
  hidden_.clear();
  update();
}

void View::isolate(const std::set<rig::Id>& parts) {
  std::set<rig::Id> others;
  for (const rig::Part& p : session_.rig().parts)
    if (!parts.count(p.id) && !(p.line && parts.count(p.line))) others.insert(p.id);
  hidden_ = hidden_ == others ? std::set<rig::Id>{} : others;
  update();
}

std::set<rig::Id> View::within(const QRectF& box) const {
  std::set<rig::Id> found;
  const auto inside = [&](const Vec3& point) {
    const auto at = camera_.project(point);
    return at && box.contains(*at);
  };
  const rig::Rig& rig = session_.rig();
  for (std::size_t i = 0; i < rig.parts.size(); ++i)
    if (!hidden_.count(rig.parts[i].id) && inside(poseOf(i).position)) found.insert(rig.parts[i].id);
  for (std::size_t j = 0; found.empty() && j < rig.joints.size(); ++j)
    if (inside(pivotOf(j))) found.insert(rig.joints[j].id);
  return found;
}

Pick View::pickAt(const QPointF& pixel) const {
  Pick pick;
  const rig::Rig& rig = session_.rig();
  double best = kPickRadius;
  for (std::size_t j = 0; j < rig.joints.size(); ++j)
    if (const auto p = camera_.project(pivotOf(j))) {
      const double d = std::hypot(p->x() - pixel.x(), p->y() - pixel.y());
      if (d < best) best = d, pick.joint = rig.joints[j].id;
    }
  const Ray ray = camera_.ray(pixel);
  double nearest = 1e300;
  for (std::size_t i = 0; i < rig.parts.size(); ++i)
    if (const auto hit = hidden_.count(rig.parts[i].id) ? std::nullopt : castRay(ray, rig.parts[i].shape, poseOf(i));
        hit && hit->distance < nearest)
      nearest = hit->distance, pick.part = rig.parts[i].id;
  if (rig.stage.groundHeight)
    if (const auto hit = castRay(ray, HalfSpace{}, {Vec3(0, *rig.stage.groundHeight, 0), Quat::Identity()});
        hit && hit->distance < nearest)
      nearest = hit->distance, pick.part = rig::kNone;
  if (nearest < 1e300) pick.point = ray.origin + nearest * ray.direction;
  return pick;
}

void View::paintGL() {
  camera_.setViewport(size());
  if (!framed_ && !session_.rig().parts.empty()) {
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
    const bool marked = chosen.count(p.id) || (p.line && chosen.count(p.line)) ||
                        std::find(partners.begin(), partners.end(), p.id) != partners.end();
    const QColor base = p.role == Role::dynamic ? look::kGlass : p.role == Role::kinematic ? look::kSand : look::kStone;
    const QColor color = marked ? QColor(0x5F, 0xA8, 0xB6) : base;
    renderer_.drawShape(p.shape, poseOf(i), color, marked ? look::kTeal : base.darker(165));
  }
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    const Vec3 at = pivotOf(j);
    const bool marked = chosen.count(rig.joints[j].id) > 0;
    const double radius = camera_.metresPerPixel(at) * kMarkerRadius * (marked ? 1.5 : 1);
    const QColor color = isParted(j) ? look::kBrick : look::loadColor(jointValue(j));
    renderer_.drawMarker(at, radius, marked && !isParted(j) ? look::kTeal : color, jointsThrough_);
  }
  for (const rig::Part& p : session_.preview().moved)
    renderer_.drawShape(p.shape, p.pose, look::kTeal, look::kTeal, 0.45);
  if (session_.preview().part)
    renderer_.drawShape(session_.preview().part->shape, session_.preview().part->pose, look::kTeal, look::kTeal, 0.45);
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
  if (!taker_) grip_.paint(painter, camera_);
  if (boxing_ && dragged_) {
    painter.setPen(QPen(look::kTeal, 1.4, Qt::DashLine));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(QRectF(pressed_, last_).normalized());
  }
  if (rig.parts.empty()) {
    painter.setPen(look::kInk);
    painter.setFont(look::font(look::Size::heading));
    painter.drawText(rect(), Qt::AlignCenter, tr("What are you building?\nBegin with a Part (P) or a Line (L)."));
  }
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

void View::paintPreview(QPainter& painter) {
  const Preview& preview = session_.preview();
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
  if (preview.pivot)
    if (const auto at = camera_.project(*preview.pivot)) {
      painter.setPen(QPen(look::kTeal, 2));
      painter.setBrush(look::kPaper);
      painter.drawEllipse(*at, 7, 7);
      painter.drawLine(*at - QPointF(11, 0), *at + QPointF(11, 0));
      painter.drawLine(*at - QPointF(0, 11), *at + QPointF(0, 11));
    }
}

void View::mousePressEvent(QMouseEvent* event) {
  setFocus();
  pressed_ = last_ = event->position();
  dragged_ = false;
  if (taker_ || event->button() != Qt::LeftButton) return;
  boxing_ = event->modifiers() & Qt::ControlModifier;
  if (!event->modifiers()) grip_.begin(camera_, event->position());
}

void View::keyPressEvent(QKeyEvent* event) {
  if (!grip_.type(event)) QOpenGLWidget::keyPressEvent(event);
}

bool View::event(QEvent* event) {
  // What is typed while dragging is a number, not a shortcut.
  if (event->type() == QEvent::ShortcutOverride && grip_.isHeld()) {
    event->accept();
    return true;
  }
  return QOpenGLWidget::event(event);
}

void View::mouseMoveEvent(QMouseEvent* event) {
  const QPointF delta = event->position() - last_;
  if ((event->position() - pressed_).manhattanLength() > kClickSlop) dragged_ = true;
  last_ = event->position();
  if (grip_.isHeld()) return grip_.drag(camera_, event->position(), event->modifiers());
  if (!event->buttons()) {
    if (!taker_) setCursor(grip_.handleAt(camera_, event->position()) ? Qt::OpenHandCursor : Qt::ArrowCursor);
    return;
  }
  if (!dragged_) return;
  if (boxing_) return update();
  const bool shift = event->modifiers() & Qt::ShiftModifier;
  if (event->buttons() & Qt::MiddleButton || (event->buttons() && shift))
    camera_.pan(delta.x(), delta.y());
  else if (event->buttons())
    camera_.orbit(delta.x(), delta.y());
  update();
}

void View::mouseReleaseEvent(QMouseEvent* event) {
  if (grip_.isHeld()) return grip_.letGo();
  if (std::exchange(boxing_, false) && dragged_) {
    session_.select(within(QRectF(pressed_, event->position()).normalized()));
    return update();
  }
  if (dragged_ || event->button() != Qt::LeftButton) return;
  const Pick pick = pickAt(event->position());
  if (taker_) {
    taker_(pick);
    return;
  }
  const rig::Id id = pick.joint != rig::kNone ? pick.joint : pick.part;
  if (event->modifiers() & (Qt::ShiftModifier | Qt::ControlModifier)) {
    if (id != rig::kNone) session_.toggle(id);
  } else {
    session_.select(id == rig::kNone ? std::set<rig::Id>{} : std::set<rig::Id>{id});
  }
}

void View::mouseDoubleClickEvent(QMouseEvent*) {
  frameSelection();
}

void View::wheelEvent(QWheelEvent* event) {
  camera_.zoom(std::pow(1.0015, event->angleDelta().y()), event->position());
  update();
}

}  // namespace calm::app
