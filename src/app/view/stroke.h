// SPDX-License-Identifier: GPL-3.0-or-later
// A stroke across parts (Alt-drag) joins them in the order in which it meets them.
#pragma once

#include <QPointF>
#include <optional>
#include <vector>

#include "app/session.h"

namespace calm::app {

class Stroke {
 public:
  explicit Stroke(Session& session) : session_(session) {}

  bool isDrawn() const { return drawn_; }
  void begin() { drawn_ = true, parts_.clear(), back_ = false; }
  // The part under the pointer; coming back to the first one closes a ring.
  void cross(rig::Id part);
  // Joins what was crossed, with joints of the session's present type.
  void letGo();
  void drop();
  const std::vector<rig::Id>& parts() const { return parts_; }

 private:
  Session& session_;
  bool drawn_ = false, back_ = false;
  std::vector<rig::Id> parts_;
};

}  // namespace calm::app
