// SPDX-License-Identifier: GPL-3.0-or-later
// Mass properties of a part, and their principal form.
#pragma once

#include <string>

#include "engine/math/types.h"

namespace calm {

// Mass (kg), centre of mass (m, part frame) and inertia about that centre (kg m^2, part axes).
struct MassProperties {
  double mass = 1;
  Vec3 center = Vec3::Zero();
  Mat3 inertia = Mat3::Identity();

  // The same body seen from the frame in which `placement` puts it.
  MassProperties placed(const Pose& placement) const;
};

// Two bodies as one rigid body (parallel-axis theorem).
MassProperties operator+(const MassProperties& a, const MassProperties& b);

// Diagonal form: inertia = R diag(moments) R^T with R = rotation. A diagonal inertia keeps its axes.
struct PrincipalAxes {
  Vec3 moments;
  Quat rotation;
};
PrincipalAxes principalAxes(const Mat3& inertia);

// Empty if the properties are those of a real body; otherwise what is wrong, as the end of a sentence
// ("mass must be above 0 kg, not -1"). Checks finiteness, positive mass and moments, and the triangle inequality.
std::string faultOf(const MassProperties& properties);

}  // namespace calm
