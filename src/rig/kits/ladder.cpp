// SPDX-License-Identifier: GPL-3.0-or-later
// Treads on two ropes: each rope is a row of links from tread to tread, held at its top.
#include <fmt/format.h>

#include "rig/kits/makers.h"

namespace calm::rig {

std::string faultOfLadder(const Ladder& ladder) {
  const double pitch = ladder.height / ladder.treads;
  const double link = (pitch - ladder.treadThickness) / ladder.linksBetween;
  if (link < ladder.ropeThickness)
    return fmt::format("treads {:.4g} m apart leave rope links of {:.4g} m, shorter than they are thick; take fewer",
                       pitch, std::max(link, 0.0));
  return {};
}

void buildLadder(Builder& builder, const Ladder& ladder, Id holder) {
  const double pitch = ladder.height / ladder.treads, half = ladder.treadThickness / 2;
  const double overhang = 2 * ladder.ropeThickness;
  Id above[2] = {holder, holder};
  for (int t = 1; t <= ladder.treads; ++t) {
    const double top = t == 1 ? 0 : -(t - 1) * pitch - half, bottom = -t * pitch + half;
    const Id tread = builder
                         .part(fmt::format("tread {}", t),
                               Box{{ladder.width + 2 * overhang, ladder.treadThickness, ladder.treadDepth}},
                               Pose{Vec3(0, -t * pitch, 0), Quat::Identity()}, ladder.treadMass)
                         .id;
    for (const int side : {0, 1}) {
      const char* const word = side == 0 ? "left" : "right";
      const double x = (side == 0 ? -0.5 : 0.5) * ladder.width;
      const double step = (bottom - top) / ladder.linksBetween;
      for (int k = 0; k < ladder.linksBetween; ++k) {
        const Vec3 from(x, top + k * step, 0), to(x, top + (k + 1) * step, 0);
        const int number = (t - 1) * ladder.linksBetween + k + 1;
        const Id link = builder.link(fmt::format("{} link {}", word, number), from, to, ladder.ropeThickness,
                                     -step * ladder.ropeMassPerMetre);
        const std::string slot = number == 1 ? fmt::format("tie {}", word) : fmt::format("{} {}", word, number);
        builder.joint(slot, JointType::ball, above[side], link, from);
        above[side] = link;
      }
      builder.joint(fmt::format("{} end {}", word, t), JointType::ball, above[side], tread, {x, bottom, 0});
      above[side] = tread;
    }
  }
}

}  // namespace calm::rig
