// SPDX-License-Identifier: GPL-3.0-or-later
// Numbers, directions and turns drawn from a seed: the same on every machine.
#pragma once

#include <random>

#include "physics/rigs.h"

namespace calm::physics {

class Random {
 public:
  explicit Random(unsigned seed) : engine_(seed) {}

  double uniform(double low, double high) { return std::uniform_real_distribution<double>(low, high)(engine_); }
  int whole(int below) { return static_cast<int>(engine_() % static_cast<unsigned>(below)); }
  bool chance(double p) { return uniform(0, 1) < p; }
  Vec3 vector(double size) {
    const double x = uniform(-size, size), y = uniform(-size, size), z = uniform(-size, size);
    return {x, y, z};
  }
  Quat rotation() {
    const Vec3 axis = vector(1);
    return Quat(uniform(-1, 1), axis.x(), axis.y(), axis.z()).normalized();
  }

 private:
  std::mt19937 engine_;
};

}  // namespace calm::physics
