// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/lanes.h"

#include <cstdlib>

namespace calm::lanes {

namespace {

int bitsAtMost(int most) {
#ifdef __x86_64__
  const bool widest =
      __builtin_cpu_supports("avx512f") && __builtin_cpu_supports("avx512dq") && __builtin_cpu_supports("avx512vl");
  if (most >= 512 && widest) return 512;
  if (most >= 256 && __builtin_cpu_supports("avx2")) return 256;
#else
  static_cast<void>(most);
#endif
  return 128;
}

}  // namespace

int registerBits() {
  static const char* asked = std::getenv("CALM_TETHER_REGISTER_BITS");
  static const int bits = bitsAtMost(asked ? std::atoi(asked) : 512);
  return bits;
}

}  // namespace calm::lanes
