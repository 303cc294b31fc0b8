// SPDX-License-Identifier: GPL-3.0-or-later
// From the document to the world that steps.
#pragma once

#include <stdexcept>

#include "engine/world.h"
#include "rig/model.h"

namespace calm::run {

// The rig cannot run; the message names the thing and the place.
class CompileError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

// A cue with the world's numbers for its part and joints.
struct PendingCue {
  rig::Cue cue;
  BodyId body = kWorld;
  JointId joint = -1, whenParted = -1;
  bool done = false;
};

struct CompiledRig {
  World world;
  std::vector<BodyId> bodies;   // of rig.parts, in their order
  std::vector<JointId> joints;  // of rig.joints
  std::vector<PendingCue> cues;

  // Does what is due, and advances by one frame.
  Residual step();
};

CompiledRig compile(const rig::Rig& rig);

}  // namespace calm::run
