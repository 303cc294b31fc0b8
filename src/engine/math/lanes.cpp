// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/lanes.h"

#include <cstdlib>

namespace calm::lanes {

bool areWide() {
#ifdef __x86_64__
  static const bool wide = __builtin_cpu_supports("avx2") && !std::getenv("CALM_TETHER_NARROW");
  return wide;
#else
  return false;
#endif
}

}  // namespace calm::lanes
