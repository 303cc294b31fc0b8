// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/ledger/cue_lane.h"

#include <algorithm>
#include <cmath>

#include "app/look/look.h"

namespace calm::app {

namespace {

constexpr int kMiddle = 12;
constexpr int kCueReach = 7;  // px

bool waitsForTime(const rig::Cue& cue) {
  return cue.when.kind == rig::Trigger::Kind::time;
}

QString words(const rig::Cue& cue, const rig::Rig& rig) {
  return QString::fromStdString(rig::textOf(cue, rig));
}

// s, that it takes.
double lastsOf(const rig::Cue& cue) {
  return cue.track.empty() ? cue.lasts : cue.track.back().time;
}

}  // namespace

std::optional<double> CueLane::timeOf(std::size_t i) const {
  const rig::Cue& cue = session_.rig().cues[i];
  if (cue.id == held_) return heldTime_;
  if (waitsForTime(cue)) return cue.when.at + cue.when.delay;
  const run::Recording* recording = session_.recording();
  if (!recording || recording->size() == 0) return std::nullopt;
  const auto samples = recording->frame(recording->size() - 1).cues;
  return i < samples.size() && samples[i].begunAt >= 0 ? std::optional(samples[i].begunAt) : std::nullopt;
}

QStringList CueLane::waiting() const {
  QStringList list;
  const rig::Rig& rig = session_.rig();
  for (std::size_t i = 0; i < rig.cues.size(); ++i)
    if (!timeOf(i))
      list << QString("%1, %2").arg(words(rig.cues[i], rig), QString::fromStdString(textOf(rig.cues[i].when, rig)));
  return list;
}

void CueLane::paint(QPainter& painter, const Scale& scale, int labelLeft) const {
  painter.setFont(look::font(look::Size::small));
  painter.setPen(look::kMuted);
  const QStringList left = waiting();
  QString label =
      session_.rig().cues.empty() ? QObject::tr("Cues: draw one along the lane, or Q") : QObject::tr("Cues");
  if (!left.isEmpty()) label += QObject::tr(", waiting: %1").arg(left.join("; "));
  const QRect labelRect(labelLeft, 0, scale.left - labelLeft - 8, kHeight);
  painter.drawText(labelRect, Qt::AlignLeft | Qt::AlignVCenter,
                   painter.fontMetrics().elidedText(label, Qt::ElideRight, labelRect.width()));
  painter.fillRect(QRect(scale.left, kMiddle - 1, scale.right - scale.left, 2), look::kHairline);
  std::vector<std::pair<int, std::size_t>> marks;
  const rig::Rig& rig = session_.rig();
  for (std::size_t i = 0; i < rig.cues.size(); ++i)
    if (const auto time = timeOf(i)) marks.emplace_back(scale.xAt(*time), i);
  std::sort(marks.begin(), marks.end());
  for (std::size_t m = 0; m < marks.size(); ++m) {
    const auto [x, i] = marks[m];
    if (x < scale.left - 2 || x > scale.right + 2) continue;
    const rig::Cue& cue = rig.cues[i];
    const bool chosen = session_.selection().count(cue.id) > 0;
    const QColor ink = chosen ? look::kTeal : look::kInk;
    if (lastsOf(cue) > 0) {
      const int end = std::min(scale.right, scale.xAt(*timeOf(i) + lastsOf(cue)));
      painter.fillRect(QRect(x, kMiddle - 3, std::max(2, end - x), 6), chosen ? look::kTeal : look::kMuted);
    }
    painter.setPen(QPen(look::kPaper, 1.2));
    painter.setBrush(ink);
    if (waitsForTime(cue))
      painter.drawEllipse(QPointF(x, kMiddle), 5, 5);
    else
      painter.drawPolygon(QPolygonF{QPointF(x - 6, kMiddle), QPointF(x, kMiddle - 6), QPointF(x + 6, kMiddle),
                                    QPointF(x, kMiddle + 6)});
    painter.setPen(ink);
    const int room = (m + 1 < marks.size() ? marks[m + 1].first - 8 : scale.right) - x - 10;
    if (room > 30) {
      const QString text = painter.fontMetrics().elidedText(words(cue, rig), Qt::ElideRight, room);
      painter.fillRect(QRect(x + 8, 2, painter.fontMetrics().horizontalAdvance(text) + 4, kHeight - 4), look::kPaper);
      painter.drawText(QRect(x + 10, 0, room, kHeight), Qt::AlignLeft | Qt::AlignVCenter, text);
    }
  }
}

rig::Id CueLane::at(const Scale& scale, const QPointF& pixel) const {
  if (pixel.y() > kHeight) return rig::kNone;
  rig::Id best = rig::kNone;
  double nearest = kCueReach;
  for (std::size_t i = 0; i < session_.rig().cues.size(); ++i)
    if (const auto time = timeOf(i)) {
      const double distance = std::abs(scale.xAt(*time) - pixel.x());
      if (distance < nearest) nearest = distance, best = session_.rig().cues[i].id;
    }
  return best;
}

QString CueLane::tip(rig::Id id) const {
  const rig::Rig& rig = session_.rig();
  const rig::Cue* cue = rig.cue(id);
  if (!cue) return {};
  return QString("%1\n%2").arg(words(*cue, rig), QString::fromStdString(textOf(cue->when, rig)));
}

bool CueLane::press(const Scale& scale, const QPointF& pixel) {
  const rig::Id id = at(scale, pixel);
  if (id == rig::kNone) return false;
  session_.select({id});
  const rig::Cue* cue = session_.rig().cue(id);
  if (!waitsForTime(*cue)) return true;
  held_ = id;
  heldTime_ = cue->when.at + cue->when.delay;
  pressed_ = pixel;
  moved_ = false;
  return true;
}

// On whole frames, since that is when cues come.
void CueLane::drag(const Scale& scale, const QPointF& pixel) {
  if (std::abs(pixel.x() - pressed_.x()) > 3) moved_ = true;
  if (!moved_) return;
  const double frame = 1 / session_.rig().stage.frameRate;
  heldTime_ = std::clamp(std::round(scale.timeAt(int(pixel.x())) / frame) * frame, 0.0, session_.rig().stage.duration);
  session_.previewChanged();
}

void CueLane::release(const Scale&, const QPointF&) {
  const rig::Id id = std::exchange(held_, rig::kNone);
  if (!moved_) return;
  const double time = heldTime_;
  const QString name = words(*session_.rig().cue(id), session_.rig());
  session_.editOnward(QObject::tr("move cue: %1").arg(name), [&](rig::Rig& rig) {
    rig::Cue& cue = *rig.cue(id);
    cue.when.at = std::max(0.0, time - cue.when.delay);
  });
}

}  // namespace calm::app
