// SPDX-License-Identifier: GPL-3.0-or-later
// How the Ledger looks: ruler, rail, rows, lanes and playhead.
#include <QPainter>
#include <QPainterPath>
#include <map>

#include "app/ledger/ledger.h"
#include "app/look/look.h"

namespace calm::app {

namespace {

QString legendOf(Quantity quantity) {
  switch (quantity) {
    case Quantity::load:
      return Ledger::tr("load against strength, or against the run's largest");
    case Quantity::separation:
      return Ledger::tr("separation, 1 nm pale to 0.1 mm deep");
    case Quantity::stops:
      return Ledger::tr("nearness to stops, deep on a stop");
    case Quantity::drive:
      return Ledger::tr("effort of drives, red at their strength");
    case Quantity::speed:
      return Ledger::tr("speed of its parts, against the run's largest");
    case Quantity::energy:
      return Ledger::tr("energy of motion, against the run's largest");
  }
  return {};
}

}  // namespace

void Ledger::paintEvent(QPaintEvent*) {
  if (order_ == Order::worst && session_.hasFrames() && !session_.computing() && !sortedWhole_) rebuild();
  lanes_.update(session_.recording(), session_.hasFrames() ? session_.largest() : Largest{}, session_.quantity(),
                rows_);
  updatePinned();
  QPainter painter(viewport());
  painter.setRenderHint(QPainter::Antialiasing);
  painter.fillRect(viewport()->rect(), look::kPaper);
  const Layout layout = measure();
  painter.setClipRect(0, kRulerHeight, viewport()->width(), viewport()->height() - kRulerHeight);
  const int first = std::max(0, rowAt(kRulerHeight));
  const int last = std::min(int(rows_.size()) - 1, first + viewport()->height() / look::kRowHeight + 1);
  for (int r = first; r <= last; ++r) paintRow(painter, layout, r);
  paintRail(painter, layout);
  painter.setClipping(false);
  paintRuler(painter, layout);
  paintPlayhead(painter, layout);
  if (rows_.empty()) {
    painter.setPen(look::kMuted);
    painter.drawText(viewport()->rect(), Qt::AlignCenter, tr("No joints yet. Join two parts (J) or draw a line (L)."));
  }
}

void Ledger::paintRuler(QPainter& painter, const Layout& l) {
  painter.fillRect(0, 0, viewport()->width(), kRulerHeight, look::kPaper);
  painter.setPen(look::kHairline);
  painter.drawLine(0, kRulerHeight - 1, viewport()->width(), kRulerHeight - 1);
  painter.setFont(look::font(look::Size::small));
  painter.setPen(look::kMuted);
  painter.drawText(QRect(l.rail, kRulerTop, l.lane - l.rail - 8, kRulerHeight - kRulerTop - 4),
                   Qt::AlignLeft | Qt::AlignBottom, legendOf(session_.quantity()));
  painter.drawLine(l.lane, kRulerTop, l.right, kRulerTop);
  const auto [from, to] = span();
  const double duration = to - from;
  double step = std::pow(10, std::floor(std::log10(duration / 4)));
  while (duration / step > 12) step *= duration / step > 24 ? 5 : 2;
  for (double t = std::ceil(from / step - 1e-9) * step; t <= to + duration * 1e-9; t += step) {
    const int x = xAt(t);
    painter.drawLine(x, kRulerHeight - 6, x, kRulerHeight - 2);
    painter.drawText(QRect(x - 30, kRulerTop, 60, kRulerHeight - kRulerTop - 7), Qt::AlignHCenter | Qt::AlignBottom,
                     QString::number(t, 'g', 6));
  }
  cues_.paint(painter, scale(), l.rail);
}

void Ledger::paintRail(QPainter& painter, const Layout& l) {
  const auto x = [&](const LedgerRow& r) { return l.rail + kColumn * std::min(r.column, kMostColumns); };
  const auto y = [&](int row) { return top(row) + look::kRowHeight / 2; };
  for (int r = 0; r < int(rows_.size()); ++r) {
    const LedgerRow& row = rows_[r];
    if (row.parent >= 0 && !row.member) {
      const LedgerRow& parent = rows_[row.parent];
      const bool held = parent.kind == LedgerRow::Kind::held;
      painter.setPen(QPen(held ? look::kInk : look::kMuted, held ? 3 : 1.6));
      painter.drawLine(x(parent), y(row.parent), x(parent), y(r));
      painter.setPen(QPen(look::kMuted, 1.6));
      if (x(row) != x(parent)) painter.drawLine(x(parent), y(r), x(row), y(r));
      painter.drawLine(x(row), y(r), l.glyph - 3, y(r));
    }
    if (row.rejoins >= 0) {
      const int edge = l.glyph - 4;
      QPainterPath path(QPointF(edge, y(r)));
      path.lineTo(edge + 3, y(r));
      path.lineTo(edge + 3, y(row.rejoins));
      path.lineTo(x(rows_[row.rejoins]), y(row.rejoins));
      painter.setPen(QPen(look::kTeal, 1.4));
      painter.setBrush(Qt::NoBrush);
      painter.drawPath(path);
    }
    if (row.kind == LedgerRow::Kind::held) {
      painter.fillRect(QRectF(x(row) - 5, y(r) - 5, 10, 10), look::kInk);
    } else if (row.kind == LedgerRow::Kind::free) {
      painter.setBrush(look::kPaper);
      painter.setPen(QPen(look::kMuted, 1.6));
      painter.drawEllipse(QPointF(x(row), y(r)), 5, 5);
    } else if (row.kind == LedgerRow::Kind::loose) {
      painter.setBrush(Qt::NoBrush);
      painter.setPen(QPen(look::kAmber, 1.6, Qt::DashLine));
      painter.drawEllipse(QPointF(x(row), y(r)), 5, 5);
    }
  }
}

void Ledger::paintRow(QPainter& painter, const Layout& l, int index) {
  const LedgerRow& row = rows_[index];
  const rig::Rig& rig = session_.rig();
  const int y = top(index);
  const QRect whole(0, y, viewport()->width(), look::kRowHeight);
  if (isSelected(row)) painter.fillRect(whole, look::kTealTint);
  painter.setPen(look::kHairline);
  painter.drawLine(l.name, whole.bottom(), viewport()->width(), whole.bottom());
  QString name, pair;
  const QRectF glyph(l.glyph + (row.member ? 6 : 0), y + 2, look::kRowHeight - 4, look::kRowHeight - 4);
  const bool parted = std::any_of(row.joints.begin(), row.joints.end(), [&](std::size_t j) {
    return session_.hasFrames() && session_.recording()->partedAt(j).has_value();
  });
  const QColor ink = parted ? look::kBrick : isSelected(row) ? look::kTeal : look::kInk;
  switch (row.kind) {
    case LedgerRow::Kind::held:
      name = QString::fromStdString(rig.partName(row.id));
      pair = row.id == rig::kNone ? tr("holds") : tr(rig::word(rig.part(row.id)->role));
      break;
    case LedgerRow::Kind::free:
      name = QString::fromStdString(rig.partName(row.id));
      pair = tr("free");
      break;
    case LedgerRow::Kind::loose:
      name = QString::fromStdString(rig.partName(row.id));
      pair = tr("tied to nothing");
      break;
    case LedgerRow::Kind::joint: {
      const rig::Joint& j = *rig.joint(row.id);
      name = QString::fromStdString(j.name);
      pair = QString::fromStdString(rig.partName(j.a.part) + " \u00b7 " + rig.partName(j.b.part));
      look::drawGlyph(painter, glyph, j.type, ink);
      break;
    }
    case LedgerRow::Kind::group: {
      const rig::Group& group = *rig.group(row.id);
      name = QString::fromStdString(group.name);
      if (const auto* line = std::get_if<rig::Line>(&group.form)) name += QString(" \u00d7%1").arg(line->links);
      const bool open = unfolded_.count(row.id) > 0;
      pair = tr("%1 joints").arg(row.joints.size());
      if (lanes_.frames() > 0 && !open)
        pair +=
            tr(", worst %1").arg(QString::fromStdString(rig.joints[lanes_.worst(index, lanes_.peakFrame(index))].name));
      look::drawLineGlyph(painter, glyph, ink);
      painter.setPen(Qt::NoPen);
      painter.setBrush(look::kMuted);
      const QPointF c(l.name - 5, y + look::kRowHeight / 2.0);
      const QPolygonF arrow = open ? QPolygonF{c + QPointF(-3, -1.5), c + QPointF(3, -1.5), c + QPointF(0, 3)}
                                   : QPolygonF{c + QPointF(-1.5, -3), c + QPointF(-1.5, 3), c + QPointF(3, 0)};
      painter.drawPolygon(arrow);
      break;
    }
  }
  const bool loose = row.kind == LedgerRow::Kind::loose;
  const auto text = [&](int from, int to, const QString& words, const QFont& font, const QColor& color) {
    painter.setFont(font);
    painter.setPen(color);
    painter.drawText(QRect(from, y, to - from, look::kRowHeight), Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(words, Qt::ElideRight, to - from));
  };
  text(l.name + (row.member ? 10 : 4), l.pair - 6, name, look::font(look::Size::text, isSelected(row)),
       loose ? look::kAmber : ink);
  text(l.pair, l.bar - 6, pair, look::font(look::Size::small), loose ? look::kAmber : look::kMuted);
  if (row.joints.empty()) return;
  const QRectF bar(l.bar, y + look::kRowHeight / 2.0 - 4, 52, 8);
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kWell);
  painter.drawRoundedRect(bar, 4, 4);
  if (lanes_.frames() > 0) {
    const double peak = std::min(1.0, double(lanes_.peak(index)));
    painter.setBrush(look::loadColor(parted ? 1 : lanes_.peak(index)));
    painter.drawRoundedRect(QRectF(bar.x(), bar.y(), std::max(8.0, bar.width() * peak), bar.height()), 4, 4);
  }
  paintLane(painter, l, index);
}

void Ledger::paintLane(QPainter& painter, const Layout& l, int index) {
  const LedgerRow& row = rows_[index];
  const QRect lane = laneRect(index);
  painter.fillRect(lane, look::kWell);
  if (lanes_.frames() == 0) return;
  const run::Recording& recording = *session_.recording();
  const auto [start, end] = span();
  const double perPixel = (end - start) / std::max(1, lane.width()) / recording.frameTime();
  const double first = start / recording.frameTime();
  painter.setRenderHint(QPainter::Antialiasing, false);
  const bool fine = paintSubsteps(painter, lane, row);
  for (int x = 0; !fine && x < lane.width(); ++x) {
    const std::size_t from = static_cast<std::size_t>(first + x * perPixel);
    const std::size_t to = std::max(from + 1, static_cast<std::size_t>(first + (x + 1) * perPixel));
    if (from >= lanes_.frames()) break;
    float worst = 0;
    for (std::size_t f = from; f < std::min(to, lanes_.frames()); ++f) worst = std::max(worst, lanes_.value(index, f));
    painter.fillRect(lane.x() + x, lane.y(), 1, lane.height(), look::loadColor(worst));
  }
  painter.setRenderHint(QPainter::Antialiasing);
  if (row.joints.size() == 1) markStops(painter, lane, row.joints[0]), markSlips(painter, lane, row.joints[0]);
  paintPinned(painter, lane, index);
  for (std::size_t j : row.joints)
    if (const auto at = recording.partedAt(j); at && *at >= start && *at <= end) {
      if (row.joints.size() == 1) {
        const QRect after(xAt(*at), lane.y(), lane.right() - xAt(*at) + 1, lane.height());
        painter.fillRect(after, look::kPaper);
        painter.fillRect(after, QBrush(look::kBrick, Qt::BDiagPattern));
      }
      look::drawParted(painter, QPointF(xAt(*at), lane.center().y()));
    }
  Q_UNUSED(l);
}

// The same rows of the pinned run, as far as it has their joints.
void Ledger::updatePinned() {
  const auto pinned = session_.pinned(Pinned::toCompare);
  if (pinned != pinned_ || pinnedRows_.size() != rows_.size()) {
    pinned_ = pinned;
    pinnedRows_ = rows_;
    pinnedLanes_.reset(rows_.size());
    std::map<rig::Id, std::size_t> index;
    for (std::size_t k = 0; pinned && k < pinned->rig().joints.size(); ++k) index[pinned->rig().joints[k].id] = k;
    for (LedgerRow& row : pinnedRows_) {
      std::vector<std::size_t> same;
      for (const std::size_t j : row.joints)
        if (const auto found = index.find(session_.rig().joints[j].id); found != index.end())
          same.push_back(found->second);
      row.joints = std::move(same);
    }
  }
  if (pinned_)
    pinnedLanes_.update(pinned_.get(), session_.hasFrames() ? session_.largest() : Largest{}, session_.quantity(),
                        pinnedRows_);
}

// Its lane, thin along the foot of this one's.
void Ledger::paintPinned(QPainter& painter, const QRect& lane, int row) {
  if (!pinned_ || pinnedLanes_.frames() == 0 || pinnedRows_[std::size_t(row)].joints.empty()) return;
  const auto [start, end] = span();
  painter.setRenderHint(QPainter::Antialiasing, false);
  painter.fillRect(lane.x(), lane.bottom() - 4, lane.width(), 1, look::kPaper);
  for (int x = 0; x < lane.width(); ++x) {
    const double time = start + (end - start) * x / lane.width();
    if (time > pinned_->endTime()) break;
    painter.fillRect(lane.x() + x, lane.bottom() - 3, 1, 4,
                     look::loadColor(pinnedLanes_.value(std::size_t(row), pinned_->indexAt(time))));
  }
  painter.setRenderHint(QPainter::Antialiasing);
}

bool Ledger::paintSubsteps(QPainter& painter, const QRect& lane, const LedgerRow& row) {
  constexpr double kFrames = 24;
  const auto [start, end] = span();
  const run::Recording& recording = *session_.recording();
  const bool ofSubsteps = session_.quantity() == Quantity::load || session_.quantity() == Quantity::separation;
  if (!ofSubsteps || (end - start) > kFrames * recording.frameTime() || session_.computing()) return false;
  const std::size_t first = recording.indexAt(start);
  const run::Detail* detail = session_.detail(first, std::min(recording.indexAt(end) + 1, recording.size() - 1));
  if (!detail) return false;
  for (std::size_t s = 0; s < detail->times.size(); ++s) {
    double worst = 0;
    for (const std::size_t j : row.joints) {
      const auto& r = detail->readings[s][j];
      run::JointSample sample;
      sample.force = static_cast<float>(r.force);
      sample.torque = static_cast<float>(r.torque);
      worst = std::max(worst, session_.quantity() == Quantity::load ? session_.loadFraction(j, sample)
                                                                    : separationFraction(r.separation));
    }
    const double next = s + 1 < detail->times.size() ? detail->times[s + 1] : detail->times[s] + recording.frameTime();
    const int x = std::max(lane.left(), xAt(detail->times[s])), to = std::min(lane.right() + 1, xAt(next));
    if (to > x)
      painter.fillRect(x, lane.y(), std::max(1, to - x - (to - x > 6)), lane.height(), look::loadColor(worst));
  }
  return true;
}

// A tick above the lane wherever something held by friction begins to slip.
void Ledger::markSlips(QPainter& painter, const QRect& lane, std::size_t joint) {
  const rig::Joint& j = session_.rig().joints[joint];
  const run::Recording& recording = *session_.recording();
  painter.setPen(QPen(look::kInk, 1.4));
  for (std::size_t k = 0; k < static_cast<std::size_t>(axesOf(j.type).all()); ++k) {
    if (j.axes[k].friction <= 0) continue;
    const double still = rig::axisTurns(j.type, int(k)) ? 1e-3 : 1e-4;  // rad/s, m/s
    const auto slides = [&](std::size_t f) {
      const double moved =
          recording.frame(f).joints[joint].position[k] - recording.frame(f - 1).joints[joint].position[k];
      return std::abs(moved) > still * recording.frameTime();
    };
    for (std::size_t f = 2; f < lanes_.frames(); ++f) {
      if (slides(f - 1) || !slides(f)) continue;
      const int x = xAt(recording.frame(f - 1).time);
      if (x >= lane.left() && x <= lane.right())
        painter.drawPolyline(
            QPolygonF{QPointF(x - 3, lane.top() - 3), QPointF(x, lane.top() + 3), QPointF(x + 3, lane.top() - 3)});
    }
  }
}

// A notch under the lane wherever a stop is met.
void Ledger::markStops(QPainter& painter, const QRect& lane, std::size_t joint) {
  const run::Recording& recording = *session_.recording();
  const auto touching = [&](std::size_t f) {
    const auto& activity = recording.frame(f).joints[joint].activity;
    return std::any_of(activity.begin(), activity.end(), [](unsigned a) { return a & (kAtLowStop | kAtHighStop); });
  };
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kInk);
  for (std::size_t f = 1; f < lanes_.frames(); ++f) {
    const int x = xAt(recording.frame(f).time);
    if (x < lane.left() || x > lane.right() || !touching(f) || touching(f - 1)) continue;
    painter.drawPolygon(
        QPolygonF{QPointF(x - 3, lane.bottom() + 3), QPointF(x + 3, lane.bottom() + 3), QPointF(x, lane.bottom() - 3)});
  }
}

void Ledger::paintPlayhead(QPainter& painter, const Layout& l) {
  const int x = xAt(session_.playhead());
  if (x < l.lane - 1 || x > l.right + 1) return;
  painter.setPen(QPen(look::kInk, 1.2));
  painter.drawLine(x, kRulerTop + 8, x, viewport()->height());
  painter.setPen(Qt::NoPen);
  painter.setBrush(look::kInk);
  painter.drawPolygon(QPolygonF{QPointF(x - 5, kRulerTop + 2), QPointF(x + 5, kRulerTop + 2),
                                QPointF(x + 5, kRulerTop + 6), QPointF(x, kRulerTop + 12),
                                QPointF(x - 5, kRulerTop + 6)});
}

}  // namespace calm::app
