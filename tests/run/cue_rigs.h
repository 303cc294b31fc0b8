// SPDX-License-Identifier: GPL-3.0-or-later
// Rigs on which cues are tried.
#pragma once

#include "rig/edits.h"
#include "run/recording.h"

namespace calm::run {

using rig::Cue;
using rig::Trigger;

// A crate of 10 kg that floats.
inline rig::Rig adrift(double gravity = 0) {
  rig::Rig rig;
  rig.stage.groundHeight.reset();
  rig.stage.gravity = Vec3(0, gravity, 0);
  rig.stage.duration = 3;
  rig::Part crate;
  crate.name = "crate";
  crate.shape = Box{{1, 1, 1}};
  crate.heft = rig::Mass{10};
  rig::addPart(rig, crate);
  return rig;
}

inline rig::Id addBox(rig::Rig& rig, const char* name, const Vec3& at) {
  rig::Part part;
  part.name = name;
  part.shape = Box{{1, 1, 1}};
  part.heft = rig::Mass{10};
  part.pose.position = at;
  return rig::addPart(rig, part);
}

inline Cue cueAt(double time, Cue::Act act, rig::Id part = rig::kNone) {
  Cue cue;
  cue.when.at = time;
  cue.act = act;
  cue.part = part;
  return cue;
}

inline std::shared_ptr<const Recording> runOf(const rig::Rig& rig) {
  return record(std::make_shared<const rig::Rig>(rig));
}

inline const Frame& lastOf(const Recording& r) {
  return r.frame(r.size() - 1);
}

}  // namespace calm::run
