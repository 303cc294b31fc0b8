// SPDX-License-Identifier: GPL-3.0-or-later
// The Ledger: a row a joint, with its rail, glyph, name, pair, peak bar and lane over time.
#pragma once

#include <QAbstractScrollArea>

#include "app/ledger/cue_lane.h"
#include "app/ledger/lanes.h"
#include "app/ledger/rows.h"
#include "app/session.h"

namespace calm::app {

class Ledger : public QAbstractScrollArea {
  Q_OBJECT
 public:
  explicit Ledger(Session& session, QWidget* parent = nullptr);

  const std::vector<LedgerRow>& rows() const { return rows_; }
  // Rows as they hang on one another; those first whose lane reaches highest; or one joint type after the other. Only
  // by rail are there lines that join them.
  enum class Order { rail, worst, type };
  void setOrder(Order order);
  // Shows the rows whose name, pair or tags hold the text; all, if it is empty.
  void setFilter(const QString& text);
  // The span of time that the lanes show, s; the whole run unless zoomed (Ctrl and wheel).
  std::pair<double, double> span() const;
  void setSpan(double from, double to);
  void setUnfolded(rig::Id line, bool unfolded);
  // Where a row's lane, and the moment in it, lies in the viewport.
  QRect laneRect(int row) const;
  double timeAt(int x) const;
  int xAt(double time) const;
  // The cue lane's place in the viewport.
  QPoint cuePlace(double time) const { return {xAt(time), CueLane::kHeight / 2}; }
  // What parted in the run, in words.
  QStringList partings() const;

 signals:
  // The user wants a new cue at this time, for so long (0: no matter), s.
  void cueWanted(double time, double lasts);

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  bool viewportEvent(QEvent* event) override;

 private:
  static constexpr int kRulerTop = CueLane::kHeight, kRulerHeight = kRulerTop + 24, kColumn = 15, kMostColumns = 7;

  struct Layout {
    int rail, glyph, name, pair, bar, lane, right;
  };
  Layout measure() const;
  void rebuild();
  bool passes(const LedgerRow& row) const;
  void sortRows();
  void reveal();
  int rowAt(int y) const;
  int top(int row) const;
  bool isSelected(const LedgerRow& row) const;
  void selectRow(int row);
  void moveSelection(int by);

  void paintRuler(QPainter& painter, const Layout& layout);
  void paintRail(QPainter& painter, const Layout& layout);
  void paintRow(QPainter& painter, const Layout& layout, int row);
  void paintLane(QPainter& painter, const Layout& layout, int row);
  void markStops(QPainter& painter, const QRect& lane, std::size_t joint);
  void paintPlayhead(QPainter& painter, const Layout& layout);
  QString tipFor(const QPoint& at) const;

  CueLane::Scale scale() const;
  void updatePinned();
  void paintPinned(QPainter& painter, const QRect& lane, int row);
  void markSlips(QPainter& painter, const QRect& lane, std::size_t joint);
  // Lanes at substeps, where the span is that short; false while they are not known.
  bool paintSubsteps(QPainter& painter, const QRect& lane, const LedgerRow& row);

  Session& session_;
  CueLane cues_{session_};
  std::optional<double> drawnFrom_;  // s, where a new cue is being drawn along the lane
  std::set<rig::Id> unfolded_;
  std::vector<LedgerRow> rows_;
  Lanes lanes_, pinnedLanes_;
  std::vector<LedgerRow> pinnedRows_;
  std::shared_ptr<const run::Recording> pinned_;
  bool scrubbing_ = false;
  Order order_ = Order::rail;
  QString filter_;
  double from_ = 0, to_ = 0;  // s, of the span; none while to_ is 0
  bool sortedWhole_ = false;  // whether the order by worst is that of the finished run
};

}  // namespace calm::app
