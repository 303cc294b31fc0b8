// SPDX-License-Identifier: GPL-3.0-or-later
// What spins fast against the step: how far it is held, which decides how a step carries its axis; see carryAxis().
#pragma once

#include "engine/solve/body.h"

namespace calm {

// Whether its axis would by itself go round far enough in h seconds for that to matter.
bool isFastRotor(const Body& body, double h);

// Body::held of a body whose turning answers moments (about its principal axes) by this mobility, rad/s for each N m s,
// with all that holds it in place.
double heldAxisOf(const PrincipalInertia& inertia, const Mat3& mobility);

// The mobility of a body of which a point at `arm` (world) is kept from going along the directions (columns, at right
// angles), by something that does not move.
Mat3 mobilityOnPoint(const Body& body, const Vec3& arm, const Eigen::Matrix3Xd& directions);

}  // namespace calm
