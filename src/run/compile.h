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

struct CompiledRig {
  World world;
  std::vector<BodyId> bodies;   // of rig.parts, in their order
  std::vector<JointId> joints;  // of rig.joints
};

CompiledRig compile(const rig::Rig& rig);

}  // namespace calm::run
