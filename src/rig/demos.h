// SPDX-License-Identifier: GPL-3.0-or-later
// Rigs of Saltmarsh Quay, our small tidal harbour.
#pragma once

#include "rig/model.h"

namespace calm::rig {

// A static quay with a jib head over it, a 40-link chain from a fixed point, a 500 kg stone block on its end, pushed
// sideways.
Rig jibHoistSlice();

}  // namespace calm::rig
