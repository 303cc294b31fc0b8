// SPDX-License-Identifier: GPL-3.0-or-later
// What happens along or about a free axis of a joint: stops, motor, friction, spring.
#pragma once

#include <limits>

namespace calm {

constexpr double kNoLimit = std::numeric_limits<double>::infinity();

// In metres and newtons along an axis, in radians and newton metres about one.
struct AxisDef {
  // Stops, hard: the coordinate stays within them.
  double low = -kNoLimit, high = kNoLimit;
  // Motor: drives the rate towards `speed` with at most `cap`. Off while the cap is 0.
  double speed = 0, cap = 0;
  // Sliding friction that the axis opposes to motion; it also holds against less than that.
  double friction = 0;
  // Spring or servo: pulls towards `target` with `stiffness`, and brakes with `damping`.
  double stiffness = 0, damping = 0, target = 0;

  bool hasStops() const { return low > -kNoLimit || high < kNoLimit; }
  bool hasDrive() const { return cap > 0 || friction > 0; }
  bool hasSpring() const { return stiffness > 0 || damping > 0; }
  // The forces between which motor and friction together may lie while the rate is that of the motor.
  double least() const { return -cap - (speed < 0 ? -friction : friction); }
  double most() const { return cap + (speed > 0 ? -friction : friction); }
};

// Coefficients with which one step of size h takes a spring of the given stiffness and damping on the mass m: the
// impulse is P = -[h k C + brake r] - inertia (v+ - v), r the rate before the step. Weak ones are integrated exactly
// where mass and spring are alone (fitted to the damped oscillator's own map); stiffer ones by the trapezoidal rule,
// which keeps their energy; those faster than the step by backward Euler, which lets them settle. All are of second
// order in h but the last, and unconditionally stable. With `crowded` other springs pull on the same bodies, so that
// together they may outrun the fit: the trapezoidal rule serves instead.
struct SpringStep {
  double inertia;  // mu
  double brake;    // B
};
SpringStep springStep(double stiffness, double damping, double mass, double h, bool crowded);

}  // namespace calm
