// SPDX-License-Identifier: GPL-3.0-or-later
// A chain closed upon itself, lying in the plane square to y.
#include <fmt/format.h>

#include <cmath>

#include "rig/kits/makers.h"

namespace calm::rig {

std::string faultOfRing(const Ring& ring) {
  if (ring.links < 3) return fmt::format("a ring has three links or more, not {}", ring.links);
  if (ring.thickness > ring.length / ring.links)
    return fmt::format("links of {:.4g} m cannot be {:.4g} m thick; take fewer links or a thinner ring",
                       ring.length / ring.links, ring.thickness);
  return {};
}

void buildRing(Builder& builder, const Ring& ring, std::optional<Id> holder) {
  const double link = ring.length / ring.links;
  const double radius = link / (2 * std::sin(M_PI / ring.links));
  const auto corner = [&](int i) {
    const double angle = 2 * M_PI * i / ring.links;
    return Vec3(radius * std::cos(angle), 0, radius * std::sin(angle));
  };
  Id first = kNone, last = kNone;
  for (int i = 0; i < ring.links; ++i) {
    const Id now =
        builder.link(fmt::format("link {}", i + 1), corner(i), corner(i + 1), ring.thickness, ring.massPerMetre * link);
    if (i > 0) builder.joint(std::to_string(i), JointType::ball, last, now, corner(i));
    if (i == 0) first = now;
    last = now;
  }
  builder.joint(std::to_string(ring.links), JointType::ball, last, first, corner(0));
  if (holder) builder.joint("tie", JointType::ball, *holder, first, corner(0));
}

}  // namespace calm::rig
