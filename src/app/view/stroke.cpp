// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/view/stroke.h"

#include <algorithm>

#include "rig/joining.h"

namespace calm::app {

void Stroke::cross(rig::Id part) {
  if (part == rig::kNone || (!parts_.empty() && parts_.back() == part && !back_)) return;
  if (parts_.size() > 2 && part == parts_.front()) {
    back_ = true;
  } else if (std::find(parts_.begin(), parts_.end(), part) == parts_.end()) {
    parts_.push_back(part);
    back_ = false;
  }
  session_.preview().partners = parts_;
  session_.previewChanged();
}

void Stroke::letGo() {
  const std::vector<rig::Id> parts = parts_;
  const bool ring = back_;
  drop();
  if (parts.size() < 2) return;
  const JointType type = session_.jointType();
  std::vector<rig::Id> made;
  const QString name = QObject::tr("join %1 parts by a stroke").arg(parts.size());
  if (session_.edit(name, [&](rig::Rig& rig) { made = rig::joinInOrder(rig, type, parts, ring); }))
    session_.select({made.begin(), made.end()});
}

void Stroke::drop() {
  drawn_ = false;
  parts_.clear();
  session_.preview() = {};
  session_.previewChanged();
}

}  // namespace calm::app
