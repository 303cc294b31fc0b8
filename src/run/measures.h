// SPDX-License-Identifier: GPL-3.0-or-later
// What follows from a rig without a run.
#pragma once

#include <optional>

#include "rig/model.h"

namespace calm::run {

// kg or kg m^2: the inertia along or about free axis k of a joint, of its two parts as that joint alone holds them.
// Nothing if neither can move along it.
std::optional<double> inertiaAlong(const rig::Rig& rig, rig::Id joint, int k);

// How a mass on a spring and a damper comes to rest: m x'' + c x' + k x = 0.
struct SpringResponse {
  double frequency = 0;     // Hz, undamped
  double dampingRatio = 0;  // of critical
  // x(t) / x(0) after a release from rest at x(0); t in s.
  double at(double time) const;
  // s, until it stays within 2 % of x(0); nothing without damping.
  std::optional<double> settling() const;
};
// Of the spring on axis k, given by stiffness or by frequency; nothing if it has none.
std::optional<SpringResponse> springResponse(const rig::Rig& rig, rig::Id joint, int k);

}  // namespace calm::run
