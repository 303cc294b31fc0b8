// SPDX-License-Identifier: GPL-3.0-or-later
// The classical Runge-Kutta method of fourth order, for references in few coordinates.
#pragma once

#include <cstddef>

namespace calm::physics {

// The state (an array of numbers) a step h later, where `rate` gives its rate of change.
template <class State, class Rate>
State rungeKutta(const State& s, double h, const Rate& rate) {
  const auto ahead = [&](const State& slope, double by) {
    State moved = s;
    for (std::size_t i = 0; i < s.size(); ++i) moved[i] += by * slope[i];
    return moved;
  };
  const State k1 = rate(s), k2 = rate(ahead(k1, h / 2)), k3 = rate(ahead(k2, h / 2)), k4 = rate(ahead(k3, h));
  State next = s;
  for (std::size_t i = 0; i < s.size(); ++i) next[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
  return next;
}

}  // namespace calm::physics
