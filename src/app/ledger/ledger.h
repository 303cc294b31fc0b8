// SPDX-License-Identifier: GPL-3.0-or-later
// The Ledger: a row a joint, with its rail, glyph, name, pair, peak bar and lane over time.
#pragma once

#include <QAbstractScrollArea>

#include "app/ledger/lanes.h"
#include "app/ledger/rows.h"
#include "app/session.h"

namespace calm::app {

class Ledger : public QAbstractScrollArea {
  Q_OBJECT
 public:
  explicit Ledger(Session& session, QWidget* parent = nullptr);

  const std::vector<LedgerRow>& rows() const { return rows_; }
  void setUnfolded(rig::Id line, bool unfolded);
  // Where a row's lane, and the moment in it, lies in the viewport.
  QRect laneRect(int row) const;
  double timeAt(int x) const;
  int xAt(double time) const;
  // What parted in the run, in words.
  QStringList partings() const;

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  bool viewportEvent(QEvent* event) override;

 private:
  struct Layout {
    int rail, glyph, name, pair, bar, lane, right;
  };
  Layout measure() const;
  void rebuild();
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
  void paintPlayhead(QPainter& painter, const Layout& layout);
  QString tipFor(const QPoint& at) const;

  Session& session_;
  std::set<rig::Id> unfolded_;
  std::vector<LedgerRow> rows_;
  Lanes lanes_;
  bool scrubbing_ = false;
};

}  // namespace calm::app
