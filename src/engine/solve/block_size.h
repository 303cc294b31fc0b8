// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once

#include "engine/math/lanes.h"

namespace calm {

// Calls f<N>() for the run-time block size n (1 to 6), so that inner loops have a known length and unroll. For wide
// registers f is to be CALM_INLINE, too.
template <class F>
CALM_INLINE decltype(auto) withSize(int n, F&& f) {
  switch (n) {
    case 1:
      return f.template operator()<1>();
    case 2:
      return f.template operator()<2>();
    case 3:
      return f.template operator()<3>();
    case 4:
      return f.template operator()<4>();
    case 5:
      return f.template operator()<5>();
    default:
      return f.template operator()<6>();
  }
}

}  // namespace calm
