// SPDX-License-Identifier: GPL-3.0-or-later
// The cue lane above the Ledger's ruler: what happens in the run and when. Marks are dragged along it in time; what
// waits for a condition stands where it came about in this run, as a diamond.
#pragma once

#include <QPainter>
#include <functional>
#include <optional>

#include "app/session.h"

namespace calm::app {

class CueLane {
 public:
  static constexpr int kHeight = 24;
  // How times lie on the screen.
  struct Scale {
    int left, right;  // px
    std::function<int(double)> xAt;
    std::function<double(int)> timeAt;
  };

  explicit CueLane(Session& session) : session_(session) {}

  void paint(QPainter& painter, const Scale& scale, int labelLeft) const;
  // The cue whose mark is there.
  rig::Id at(const Scale& scale, const QPointF& pixel) const;
  // A press on a mark selects it and takes hold of it; false if there is none.
  bool press(const Scale& scale, const QPointF& pixel);
  bool isHeld() const { return held_ != rig::kNone; }
  void drag(const Scale& scale, const QPointF& pixel);
  void release(const Scale& scale, const QPointF& pixel);
  void drop() { held_ = rig::kNone; }
  // Those that have not come in this run, in words.
  QStringList waiting() const;
  QString tip(rig::Id cue) const;

 private:
  // s; where the mark stands, if it does.
  std::optional<double> timeOf(std::size_t cue) const;

  Session& session_;
  rig::Id held_ = rig::kNone;
  double heldTime_ = 0;
  bool moved_ = false;
  QPointF pressed_;
};

}  // namespace calm::app
