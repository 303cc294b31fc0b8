// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/view.h"

#include <QGuiApplication>
#include <QMouseEvent>
#include <QOffscreenSurface>
#include <QOpenGLContext>
#include <QPainter>

#include "app/look/look.h"
#include "rig/joining.h"
#include "rig/units.h"

namespace calm::app {

namespace {
constexpr double kPickRadius = 9;     // px
constexpr double kFeatureReach = 14;  // px
constexpr double kClickSlop = 4;      // px

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

View::View(Session& session, QWidget* parent)
    : QOpenGLWidget(parent), session_(session), grip_(session), jointGrip_(session), stroke_(session), hands_(session) {
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

void View::setTool(Hands::Tool tool) {
  hands_.setTool(hands_.tool() == tool ? Hands::Tool::none : tool);
  setCursor(hands_.tool() == Hands::Tool::none ? Qt::ArrowCursor : Qt::PointingHandCursor);
  update();
}

void View::setJointsThrough(bool on) {
  jointsThrough_ = on;
  update();
}

void View::setSeesThrough(bool on) {
  seesThrough_ = on;
  update();
}

void View::setShowsNames(bool on) {
  showsNames_ = on;
  update();
}

void View::setSignSize(double size) {
  signSize_ = std::clamp(size, 0.25, 4.0);
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

std::vector<Vec3> View::courseOf(std::size_t joint) const {
  const rig::Joint& j = session_.rig().joints[joint];
  if (!rig::spans(j.type)) return {};
  const auto place = [&](rig::Id id, const Vec3& at) {
    const rig::Part* part = session_.rig().part(id);
    return part ? poseOf(static_cast<std::size_t>(part - session_.rig().parts.data())).apply(at) : at;
  };
  std::vector<Vec3> course{place(j.a.part, j.a.at)};
  for (const RoutePoint& p : j.form.route)
    course.push_back(place(p.on == RouteOn::a ? j.a.part : p.on == RouteOn::b ? j.b.part : p.part, p.at));
  course.push_back(place(j.b.part, j.b.at));
  return course;
}

Aabb View::boundsOfParts(const std::set<rig::Id>& ids) const {
  Aabb box;
  const auto& parts = session_.rig().parts;
  for (std::size_t i = 0; i < parts.size(); ++i)
    if (ids.empty() || ids.count(parts[i].id) || ids.count(parts[i].group))
      box.include(boundsOf(parts[i].shape, poseOf(i)));
  const auto& joints = session_.rig().joints;
  for (std::size_t j = 0; j < joints.size(); ++j)
    if (ids.count(joints[j].id)) box.include({pivotOf(j) - Vec3::Constant(0.25), pivotOf(j) + Vec3::Constant(0.25)});
  return box;
}

void View::frameAll() {
  Aabb box = boundsOfParts({});
  for (const rig::Part& p : session_.preview().reference) box.include(boundsOf(p.shape, p.pose));
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
    if (!parts.count(p.id) && !(p.group && parts.count(p.group))) others.insert(p.id);
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
  for (std::size_t j = 0; pickable_ != Pickable::parts && j < rig.joints.size(); ++j)
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
  if (pickable_ == Pickable::joints && !taker_) pick.part = rig::kNone;
  return pick;
}

std::optional<rig::Feature> View::placeAt(const QPointF& pixel) const {
  std::optional<rig::Feature> best;
  double nearest = kFeatureReach;
  const auto consider = [&](const rig::Feature& f) {
    const auto at = camera_.project(f.at);
    if (const double d = at ? std::hypot(at->x() - pixel.x(), at->y() - pixel.y()) : 1e300; d < nearest)
      nearest = d, best = f;
  };
  const rig::Rig& rig = session_.rig();
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    if (hidden_.count(rig.parts[i].id)) continue;
    rig::Part now = rig.parts[i];
    now.pose = poseOf(i);
    for (const rig::Feature& f : rig::featuresOf(now)) consider(f);
  }
  for (std::size_t j = 0; j < rig.joints.size(); ++j) consider({pivotOf(j), "pivot"});
  if (best) return best;
  if (const auto point = pickAt(pixel).point) return rig::Feature{*point, "surface"};
  return std::nullopt;
}

void View::mousePressEvent(QMouseEvent* event) {
  setFocus();
  pressed_ = last_ = event->position();
  dragged_ = false;
  if (taker_ || measure_.isOn() || event->button() != Qt::LeftButton) return;
  handled_ = !event->modifiers() && hands_.tool() != Hands::Tool::none &&
             hands_.press(camera_, event->position(), pickAt(event->position()));
  if (handled_) return;
  boxing_ = event->modifiers() & Qt::ControlModifier;
  if (event->modifiers() == Qt::AltModifier) {
    session_.setPlaying(false);
    session_.reset();
    stroke_.begin();
    stroke_.cross(pickAt(event->position()).part);
  }
  if (!event->modifiers() && !jointGrip_.begin(camera_, event->position())) grip_.begin(camera_, event->position());
}

void View::keyPressEvent(QKeyEvent* event) {
  if (event->key() == Qt::Key_Escape && jointGrip_.isHeld()) return jointGrip_.drop();
  if (event->key() == Qt::Key_Escape && stroke_.isDrawn()) return stroke_.drop();
  if (!grip_.type(event)) QOpenGLWidget::keyPressEvent(event);
}

bool View::event(QEvent* event) {
  // What is typed while dragging is a number, not a shortcut.
  if (event->type() == QEvent::ShortcutOverride && (grip_.isHeld() || jointGrip_.isHeld() || stroke_.isDrawn())) {
    event->accept();
    return true;
  }
  return QOpenGLWidget::event(event);
}

void View::mouseMoveEvent(QMouseEvent* event) {
  const QPointF delta = event->position() - last_;
  if ((event->position() - pressed_).manhattanLength() > kClickSlop) dragged_ = true;
  last_ = event->position();
  if (handled_) {
    if (hands_.isBusy()) hands_.move(camera_, event->position());
    return;
  }
  if (grip_.isHeld()) return grip_.drag(camera_, event->position(), event->modifiers());
  if (stroke_.isDrawn()) return stroke_.cross(pickAt(event->position()).part), update();
  if (jointGrip_.isHeld())
    return jointGrip_.drag(camera_, event->position(), pickAt(event->position()).part,
                           event->modifiers() & Qt::AltModifier);
  if (!event->buttons()) {
    if (measure_.isOn()) {
      const auto place = placeAt(event->position());
      measure_.hover(place ? std::optional(place->at) : std::nullopt,
                     place ? QString::fromStdString(place->word) : QString());
      update();
    } else if (!taker_ && hands_.tool() == Hands::Tool::none) {
      const bool handle = jointGrip_.handleAt(camera_, event->position()) || grip_.handleAt(camera_, event->position());
      setCursor(handle ? Qt::OpenHandCursor : Qt::ArrowCursor);
    }
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
  if (std::exchange(handled_, false)) {
    if (hands_.isBusy()) hands_.release();
    return;
  }
  if (grip_.isHeld()) return grip_.letGo();
  if (stroke_.isDrawn()) return stroke_.letGo();
  // A press that did not move is a click on what lies there.
  if (jointGrip_.isHeld() && dragged_) return jointGrip_.letGo();
  if (jointGrip_.isHeld()) jointGrip_.drop();
  if (std::exchange(boxing_, false) && dragged_) {
    session_.select(within(QRectF(pressed_, event->position()).normalized()));
    return update();
  }
  if (dragged_ || event->button() != Qt::LeftButton) return;
  if (measure_.isOn()) {
    if (const auto place = placeAt(event->position())) measure_.take(place->at, QString::fromStdString(place->word));
    return update();
  }
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
