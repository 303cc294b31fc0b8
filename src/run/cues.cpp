// SPDX-License-Identifier: GPL-3.0-or-later
// What happens in a run at a time or when a joint parts.
#include "run/compile.h"

namespace calm::run {

namespace {

bool isDue(const PendingCue& c, const World& world) {
  if (c.whenParted >= 0) return world.reading(c.whenParted).parted;
  // At the start of the frame that is nearest to the time.
  return c.cue.at <= world.time() + 0.5 * world.settings().frame;
}

void perform(const PendingCue& c, World& world) {
  switch (c.cue.act) {
    case rig::Cue::Act::impulse:
      return world.applyImpulse(c.body, c.cue.vector, world.state(c.body).pose.apply(c.cue.point));
    case rig::Cue::Act::role:
      return world.setRole(c.body, c.cue.role);
    case rig::Cue::Act::arm:
      return world.setArmed(c.joint, true);
    case rig::Cue::Act::disarm:
      return world.setArmed(c.joint, false);
    case rig::Cue::Act::cut:
      return world.cut(c.joint);
    case rig::Cue::Act::axis:
      return world.setAxis(c.joint, c.cue.axisNumber, c.cue.axis);
    case rig::Cue::Act::gravity:
      return world.setGravity(c.cue.vector);
  }
}

}  // namespace

Residual CompiledRig::step() {
  for (PendingCue& c : cues)
    if (!c.done && isDue(c, world)) {
      perform(c, world);
      c.done = true;
    }
  return world.step();
}

}  // namespace calm::run
