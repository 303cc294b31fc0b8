// SPDX-License-Identifier: GPL-3.0-or-later
// The columns of a recording: one list serves writing and reading.
#pragma once

#include "exchange/recording/columns.h"

namespace calm::exchange {

struct Layout {
  Column<double> time, energy, kinetic, residual, angularResidual, contactResidual;
  Column<int> substeps;
  Column<double> position, orientation, velocity, angularVelocity, touch;
  Column<float> force, torque, separation, misalignment, axisPosition, axisEffort;
  Column<std::uint8_t> axisActivity;
  Column<double> begunAt, cueEnergy, bodyPosition, bodyOrientation;
  Column<int> body;
  Column<float> bodyRadius;

  // Calls make(column, place, shape) for each.
  template <class Make>
  void each(hsize_t parts, hsize_t joints, hsize_t cues, const Make& make) {
    make(time, "time_s", {});
    make(energy, "energy_J", {});
    make(kinetic, "kinetic_energy_J", {});
    make(residual, "residual_m", {});
    make(angularResidual, "residual_rad", {});
    make(contactResidual, "residual_m_s", {});
    make(substeps, "substeps", {});
    make(position, "parts/position_m", {parts, 3});
    make(orientation, "parts/orientation_wxyz", {parts, 4});
    make(velocity, "parts/velocity_m_s", {parts, 3});
    make(angularVelocity, "parts/angular_velocity_rad_s", {parts, 3});
    make(touch, "parts/touch_N", {parts});
    make(force, "joints/force_N", {joints});
    make(torque, "joints/torque_Nm", {joints});
    make(separation, "joints/separation_m", {joints});
    make(misalignment, "joints/misalignment_rad", {joints});
    make(axisPosition, "joints/axis_position", {joints, kMaxAxes});
    make(axisEffort, "joints/axis_effort", {joints, kMaxAxes});
    make(axisActivity, "joints/axis_activity", {joints, kMaxAxes});
    make(begunAt, "cues/begun_at_s", {cues});
    make(cueEnergy, "cues/energy_J", {cues});
    make(body, "cues/body", {cues});
    make(bodyRadius, "cues/body_radius_m", {cues});
    make(bodyPosition, "cues/body_position_m", {cues, 3});
    make(bodyOrientation, "cues/body_orientation_wxyz", {cues, 4});
  }
};

constexpr const char* kRecordingFormat = "calm-tether-recording";
constexpr int kRecordingVersion = 1;

}  // namespace calm::exchange
