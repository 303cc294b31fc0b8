// SPDX-License-Identifier: GPL-3.0-or-later
// From a moment of a run back to a rig: as its new start, or as keyed motion.
#pragma once

#include <set>

#include "run/recording.h"

namespace calm::run {

// The rig as it was at frame i: parts where they were, with or without their velocities, what had parted gone, and what
// cues had done done. What was still to come comes as much sooner. Bodies that cues had brought along and forces that
// were still at work are left out; angles that had counted beyond a turn count from within one again.
rig::Rig startingAt(const Recording& recording, std::size_t i, bool withVelocities);

// Makes these parts follow the motion that they had in the run, frame by frame.
void bake(rig::Rig& rig, const Recording& recording, const std::set<rig::Id>& parts);
// Sets parts that follow keys free again, where their motion begins and with its velocities there. Throws
// std::invalid_argument if none of them follows any.
void unbake(rig::Rig& rig, const std::set<rig::Id>& parts);

}  // namespace calm::run
