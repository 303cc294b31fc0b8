// SPDX-License-Identifier: GPL-3.0-or-later
// Free motion of many bodies.
#pragma once

#include <vector>

#include "engine/solve/body.h"

namespace calm {

// Body::drift for all of these, the dynamic ones eight at a time.
void driftAll(std::vector<Body>& bodies, const std::vector<int>& ids, double h);

}  // namespace calm
