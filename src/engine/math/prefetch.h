// SPDX-License-Identifier: GPL-3.0-or-later
// Asks memory for what a loop will come to a few rounds later. Changes no result.
#pragma once

#include <cstddef>

namespace calm {

inline void prefetch(const void* from, std::size_t bytes) {
  constexpr std::size_t kLine = 64;
  const char* at = static_cast<const char*>(from);
  for (std::size_t i = 0; i < bytes; i += kLine) __builtin_prefetch(at + i);
}

}  // namespace calm
