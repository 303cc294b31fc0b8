// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/ledger/ledger.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QScrollBar>
#include <QToolTip>

#include "app/look/look.h"
#include "rig/units.h"

namespace calm::app {

namespace {
QString newtons(double force) {
  return QString::fromStdString(rig::formatQuantity(force, rig::Dimension::force));
}
QString metres(double length) {
  return QString::fromStdString(rig::formatQuantity(length, rig::Dimension::length));
}
}  // namespace

Ledger::Ledger(Session& session, QWidget* parent) : QAbstractScrollArea(parent), session_(session) {
  setFrameShape(QFrame::NoFrame);
  setFocusPolicy(Qt::StrongFocus);
  setMinimumHeight(110);
  setAccessibleName(tr("Ledger"));
  viewport()->setMouseTracking(true);
  connect(&session_, &Session::rigChanged, this, [this] {
    sortedWhole_ = false;
    rebuild();
  });
  connect(&session_, &Session::selectionChanged, this, &Ledger::reveal);
  connect(&session_, &Session::changed, viewport(), qOverload<>(&QWidget::update));
  rebuild();
}

void Ledger::rebuild() {
  rows_ = ledgerRows(session_.rig(), unfolded_);
  if (order_ != Order::rail || !filter_.isEmpty()) {
    // Without the rail, rows stand for themselves.
    std::erase_if(rows_, [&](const LedgerRow& r) { return r.joints.empty() || !passes(r); });
    for (LedgerRow& r : rows_) r.parent = r.rejoins = -1, r.column = 0, r.member = false;
    sortRows();
  }
  lanes_.reset(rows_.size());
  pinned_.reset();
  verticalScrollBar()->setSingleStep(look::kRowHeight);
  verticalScrollBar()->setPageStep(viewport()->height() - kRulerHeight);
  verticalScrollBar()->setRange(
      0, std::max(0, int(rows_.size()) * look::kRowHeight + kRulerHeight + 6 - viewport()->height()));
  viewport()->update();
}

void Ledger::setOrder(Order order) {
  order_ = order;
  rebuild();
}

void Ledger::setFilter(const QString& text) {
  filter_ = text.trimmed();
  rebuild();
}

bool Ledger::passes(const LedgerRow& row) const {
  const rig::Rig& rig = session_.rig();
  const auto holds = [&](const std::string& text) {
    return QString::fromStdString(text).contains(filter_, Qt::CaseInsensitive);
  };
  if (const rig::Group* group = rig.group(row.id)) return holds(group->name);
  const rig::Joint& j = *rig.joint(row.id);
  return holds(j.name) || holds(rig.partName(j.a.part)) || holds(rig.partName(j.b.part)) || holds(rig::word(j.type)) ||
         std::any_of(j.tags.begin(), j.tags.end(), holds);
}

void Ledger::sortRows() {
  const rig::Rig& rig = session_.rig();
  if (order_ == Order::type)
    std::stable_sort(rows_.begin(), rows_.end(), [&](const LedgerRow& a, const LedgerRow& b) {
      return rig.joints[a.joints.front()].type < rig.joints[b.joints.front()].type;
    });
  if (order_ != Order::worst || !session_.hasFrames()) return;
  sortedWhole_ = !session_.computing();
  std::vector<std::pair<double, LedgerRow>> ranked;
  for (LedgerRow& r : rows_) {
    double peak = 0;
    for (const std::size_t j : r.joints) {
      if (session_.recording()->partedAt(j)) peak = 1e300;
      for (std::size_t f = 0; f < session_.recording()->size(); ++f)
        peak = std::max(peak, laneValue(*session_.recording(), session_.largest(), session_.quantity(), j, f));
    }
    ranked.emplace_back(peak, std::move(r));
  }
  std::stable_sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  for (std::size_t i = 0; i < rows_.size(); ++i) rows_[i] = std::move(ranked[i].second);
}

std::pair<double, double> Ledger::span() const {
  const double duration = session_.rig().stage.duration;
  return to_ > 0 ? std::pair(std::min(from_, duration), std::min(to_, duration)) : std::pair(0.0, duration);
}

void Ledger::setSpan(double from, double to) {
  const double duration = session_.rig().stage.duration, least = 1 / session_.rig().stage.frameRate;
  const double width = std::clamp(to - from, std::min(least, duration), duration);
  from_ = std::clamp(from, 0.0, duration - width);
  to_ = width < duration * (1 - 1e-9) ? from_ + width : 0;
  viewport()->update();
}

void Ledger::wheelEvent(QWheelEvent* event) {
  if (!(event->modifiers() & Qt::ControlModifier)) return QAbstractScrollArea::wheelEvent(event);
  const auto [from, to] = span();
  const double at = std::clamp(timeAt(int(event->position().x())), from, to);
  const double factor = std::pow(0.998, event->angleDelta().y());
  setSpan(at - (at - from) * factor, at + (to - at) * factor);
}

void Ledger::setUnfolded(rig::Id group, bool unfolded) {
  if (unfolded)
    unfolded_.insert(group);
  else
    unfolded_.erase(group);
  rebuild();
}

// A joint that is picked elsewhere may lie in a folded group.
void Ledger::reveal() {
  const rig::Joint* joint = session_.rig().joint(session_.selected());
  if (joint && joint->group != rig::kNone && !unfolded_.count(joint->group)) setUnfolded(joint->group, true);
  for (int r = 0; r < int(rows_.size()); ++r)
    if (rows_[r].id == session_.selected() && rows_[r].id != rig::kNone) {
      const int y = r * look::kRowHeight, height = viewport()->height() - kRulerHeight - look::kRowHeight;
      QScrollBar* bar = verticalScrollBar();
      if (y < bar->value()) bar->setValue(y);
      if (y > bar->value() + height) bar->setValue(y - height);
    }
  viewport()->update();
}

Ledger::Layout Ledger::measure() const {
  int columns = 0;
  for (const LedgerRow& r : rows_) columns = std::max(columns, std::min(r.column, kMostColumns));
  Layout l{};
  l.rail = 16;
  l.glyph = l.rail + kColumn * columns + 12;
  l.name = l.glyph + 26;
  const int width = viewport()->width();
  const int words = std::clamp((width - 480) / 2, 90, 170);
  l.pair = l.name + words;
  l.bar = l.pair + words + 8;
  l.lane = l.bar + 66;
  l.right = width - 18;
  return l;
}

int Ledger::top(int row) const {
  return kRulerHeight + row * look::kRowHeight - verticalScrollBar()->value();
}

int Ledger::rowAt(int y) const {
  if (y < kRulerHeight) return -1;
  const int row = (y - kRulerHeight + verticalScrollBar()->value()) / look::kRowHeight;
  return row < int(rows_.size()) ? row : -1;
}

QRect Ledger::laneRect(int row) const {
  const Layout l = measure();
  return {l.lane, top(row) + 4, l.right - l.lane, look::kRowHeight - 8};
}

double Ledger::timeAt(int x) const {
  const Layout l = measure();
  const auto [from, to] = span();
  return from + (to - from) * (x - l.lane) / std::max(1, l.right - l.lane);
}

int Ledger::xAt(double time) const {
  const Layout l = measure();
  const auto [from, to] = span();
  return l.lane + int(std::lround((l.right - l.lane) * (time - from) / (to - from)));
}

bool Ledger::isSelected(const LedgerRow& row) const {
  return row.id != rig::kNone && session_.selection().count(row.id) > 0;
}

QStringList Ledger::partings() const {
  QStringList list;
  const run::Recording* recording = session_.recording();
  for (std::size_t j = 0; recording && j < session_.rig().joints.size(); ++j)
    if (const auto at = recording->partedAt(j))
      list << tr("%1 parted at %2 s").arg(QString::fromStdString(session_.rig().joints[j].name)).arg(*at, 0, 'f', 2);
  return list;
}

void Ledger::selectRow(int row) {
  if (row < 0 || rows_[row].id == rig::kNone) return session_.select({});
  session_.select({rows_[row].id});
}

CueLane::Scale Ledger::scale() const {
  const Layout l = measure();
  return {l.lane, l.right, [this](double time) { return xAt(time); }, [this](int x) { return timeAt(x); }};
}

void Ledger::mousePressEvent(QMouseEvent* event) {
  if (event->position().y() < CueLane::kHeight && event->position().x() >= measure().lane) {
    if (!cues_.press(scale(), event->position())) drawnFrom_ = timeAt(int(event->position().x()));
    return;
  }
  const int row = rowAt(int(event->position().y()));
  const Layout l = measure();
  if (row >= 0) {
    if (rows_[row].kind == LedgerRow::Kind::group && event->position().x() > l.name - 14 &&
        event->position().x() < l.name + 3) {
      setUnfolded(rows_[row].id, !unfolded_.count(rows_[row].id));
      return;
    }
    if (event->modifiers() & (Qt::ShiftModifier | Qt::ControlModifier))
      session_.toggle(rows_[row].id);
    else
      selectRow(row);
  }
  if (event->position().x() >= l.lane - 4) {
    scrubbing_ = true;
    session_.setPlaying(false);
    session_.setPlayhead(timeAt(int(event->position().x())));
  }
}

void Ledger::mouseMoveEvent(QMouseEvent* event) {
  if (cues_.isHeld()) return cues_.drag(scale(), event->position());
  if (scrubbing_) session_.setPlayhead(timeAt(int(event->position().x())));
}

void Ledger::mouseReleaseEvent(QMouseEvent* event) {
  if (cues_.isHeld()) return cues_.release(scale(), event->position());
  if (const auto from = std::exchange(drawnFrom_, std::nullopt)) {
    const double to = timeAt(int(event->position().x()));
    if (std::abs(xAt(to) - xAt(*from)) > 6)
      return emit cueWanted(std::max(0.0, std::min(*from, to)), std::abs(to - *from));
    session_.setPlaying(false);
    session_.setPlayhead(*from);
    return;
  }
  scrubbing_ = false;
}

void Ledger::mouseDoubleClickEvent(QMouseEvent* event) {
  if (event->position().y() < CueLane::kHeight) {
    if (cues_.at(scale(), event->position()) != rig::kNone) return emit cueWanted(-1, 0);
    const double frame = 1 / session_.rig().stage.frameRate;
    return emit cueWanted(std::max(0.0, std::round(timeAt(int(event->position().x())) / frame) * frame), 0);
  }
  const int row = rowAt(int(event->position().y()));
  if (row >= 0 && rows_[row].kind == LedgerRow::Kind::group && event->position().x() < measure().lane)
    setUnfolded(rows_[row].id, !unfolded_.count(rows_[row].id));
}

void Ledger::moveSelection(int by) {
  int at = by > 0 ? -1 : int(rows_.size());
  for (int r = 0; r < int(rows_.size()); ++r)
    if (isSelected(rows_[r])) at = r;
  const int next = at + by;
  if (next >= 0 && next < int(rows_.size())) selectRow(next);
}

void Ledger::keyPressEvent(QKeyEvent* event) {
  const rig::Group* group = session_.rig().group(session_.selected());
  switch (event->key()) {
    case Qt::Key_Up:
      return moveSelection(-1);
    case Qt::Key_Down:
      return moveSelection(1);
    case Qt::Key_Right:
      if (group) setUnfolded(group->id, true);
      return;
    case Qt::Key_Left:
      if (group) setUnfolded(group->id, false);
      return;
    default:
      QAbstractScrollArea::keyPressEvent(event);
  }
}

QString Ledger::tipFor(const QPoint& at) const {
  if (at.y() < CueLane::kHeight) {
    const rig::Id cue = cues_.at(scale(), at);
    return cue != rig::kNone ? cues_.tip(cue) : cues_.waiting().join("\n");
  }
  const int row = rowAt(at.y());
  if (row < 0 || rows_[row].joints.empty() || at.x() < measure().lane || lanes_.frames() == 0) return {};
  const run::Recording& recording = *session_.recording();
  const double time = timeAt(at.x());
  const std::size_t frame = recording.indexAt(time);
  const std::size_t j = lanes_.worst(row, frame);
  const run::JointSample& s = recording.frame(frame).joints[j];
  return tr("%1 at %2 s\n%3, separation %4")
      .arg(QString::fromStdString(session_.rig().joints[j].name))
      .arg(recording.frame(frame).time, 0, 'f', 3)
      .arg(newtons(s.force), metres(s.separation));
}

bool Ledger::viewportEvent(QEvent* event) {
  if (event->type() == QEvent::ToolTip) {
    const auto* help = static_cast<QHelpEvent*>(event);
    const QString tip = tipFor(help->pos());
    tip.isEmpty() ? QToolTip::hideText() : QToolTip::showText(help->globalPos(), tip, this);
    return true;
  }
  return QAbstractScrollArea::viewportEvent(event);
}

void Ledger::resizeEvent(QResizeEvent* event) {
  QAbstractScrollArea::resizeEvent(event);
  rebuild();
}

}  // namespace calm::app
