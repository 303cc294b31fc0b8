// SPDX-License-Identifier: GPL-3.0-or-later
// What happens along or about a free axis of a joint: stops, motor, friction, spring or servo.
#pragma once

#include <algorithm>
#include <limits>
#include <string>

namespace calm {

class StateArchive;

constexpr double kNoLimit = std::numeric_limits<double>::infinity();

// In metres and newtons along an axis, in radians and newton metres about one.
struct AxisDef {
  // Stops: the coordinate stays within them. With low = high the axis is locked there.
  double low = -kNoLimit, high = kNoLimit;
  // Hard stops while the stiffness is 0: they hold exactly, and send back what strikes them at `restitution` times its
  // rate. Otherwise the stop is a spring with a damper that only pushes.
  double stopStiffness = 0, stopDamping = 0, restitution = 0;
  // Motor: drives the rate towards `speed` with at most `cap`. Off while the cap is 0.
  double speed = 0, cap = 0;
  // By which the speed grows in the coming frame, m/s^2 or rad/s^2.
  double acceleration = 0;
  // Sliding friction that the axis opposes to motion; it also holds against less than that.
  double friction = 0;
  // Spring or servo: pulls towards `target` with `stiffness`, and brakes with `damping`, by at most `springCap`.
  double stiffness = 0, damping = 0, target = 0, springCap = kNoLimit;
  // The same by undamped natural frequency (Hz) and share of critical damping; World::addJoint turns them into
  // stiffness and damping for the two parts held by this joint alone. A ratio by itself goes with the stiffness.
  double frequency = 0, dampingRatio = 0;

  void visitState(StateArchive& state);
  bool hasStops() const { return low > -kNoLimit || high < kNoLimit; }
  bool hasHardStops() const { return hasStops() && stopStiffness == 0; }
  bool hasSoftStops() const { return hasStops() && stopStiffness > 0; }
  bool isUsed() const { return hasStops() || hasDrive() || hasSpring(); }
  bool isLocked() const { return low == high && stopStiffness == 0; }
  bool hasDrive() const { return cap > 0 || friction > 0; }
  bool hasSpring() const { return stiffness > 0 || damping > 0; }
  // Motor and friction want different rates, so that each has a way of its own to push.
  bool rubsAgainstMotor() const { return cap > 0 && (speed != 0 || acceleration != 0) && friction > 0; }
  // With what motor and friction hold their rate, at most, where both want the same.
  double drive() const { return cap + friction; }
};

// Coefficients with which one step of size h takes a spring of the given stiffness and damping on the mass m: the
// impulse is P = -[h k (C + lag h (r - r-)) + brake r] - inertia (v+ - v), with r the rate before the step and r- that
// before the last one. Weak ones are integrated exactly where mass and spring are alone (fitted to the damped
// oscillator's own map); stiffer ones, and with `crowded` all on whose bodies other springs pull, so that together they
// may outrun the fit, by the trapezoidal rule, which keeps their energy. Those faster than the step settle. By the
// share `atOnce` they do so by backward Euler, which never gives more than it took: stops, what is a mode by itself,
// and what turns far in a step. Else the lag brakes what turns round at each step, and takes from slow modes that are
// made of them, as those of a beam of many stiff springs, only (omega h)^4 a step (the aim of Hilber, Hughes and
// Taylor, "Improved numerical dissipation for time integration algorithms in structural dynamics", Earthquake
// Engineering and Structural Dynamics 5, 1977). All but backward Euler are of second order in h, and all are
// unconditionally stable.
struct SpringStep {
  double inertia, brake, lag;
};
SpringStep springStep(double stiffness, double damping, double mass, double h, bool crowded, double atOnce = 0);

// From 0 to 1, smoothly, as x goes from one bound to the other.
inline double blend(double x, double from, double to) {
  const double t = std::clamp((x - from) / (to - from), 0.0, 1.0);
  return t * t * (3 - 2 * t);
}

// J, at this stretch from the target; above its cap a spring pulls with a constant force.
double springEnergy(const AxisDef& axis, double stretch);

// Empty if the numbers make sense; otherwise what is wrong, as the end of a sentence.
std::string faultOf(const AxisDef& axis);

// What is at work on an axis, as bits.
enum AxisActivity : unsigned {
  kAtLowStop = 1,
  kAtHighStop = 2,
  kMotorAtCap = 4,
  kSpringAtCap = 8,
};

}  // namespace calm
