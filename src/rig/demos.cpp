// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/demos.h"

#include "rig/edits.h"
#include "rig/kits/line.h"

namespace calm::rig {

Rig jibHoistSlice() {
  Rig rig;
  rig.name = "Saltmarsh Quay: jib hoist (slice)";
  const auto block = [&](const char* name, const Vec3& size, const Vec3& at, Role role, double density) {
    Part p;
    p.name = name;
    p.role = role;
    p.shape = Box{size};
    p.pose.position = at;
    p.heft = Density{density};
    return p;
  };
  addPart(rig, block("quay", {3.2, 0.8, 2.4}, {-2.4, 0.4, 0}, Role::fixed, 2400));
  addPart(rig, block("mast", {0.22, 2.9, 0.22}, {-1.4, 2.25, 0}, Role::fixed, 7850));
  Part jib = block("jib", {1.9, 0.16, 0.16}, {-0.62, 3.45, 0}, Role::fixed, 7850);
  jib.pose.rotation = Quat(Eigen::AngleAxisd(0.18, Vec3::UnitZ()));
  const Id jibId = addPart(rig, jib);
  const double side = 0.58;
  // Stone so dense that the block weighs half a tonne.
  Part stone = block("stone block", {side, side, side}, {0.3, 3.5 - 2.0 - side / 2, 0}, Role::dynamic, 2563);
  stone.heft = Mass{500};
  stone.velocity = Vec3(0.9, 0, 0.45);
  const Id stoneId = addPart(rig, stone);
  LineChoices chain;
  chain.name = "hoist chain";
  chain.from = {{0.3, 3.5, 0}, jibId, true};
  chain.to = {{0.3, 1.5, 0}, stoneId, true};
  chain.length = 2;
  chain.links = 40;
  chain.thickness = 0.02;
  chain.massPerMetre = 4;
  const Id chainId = makeLine(rig, chain);
  // The push reaches the links in proportion, so that the hoist starts as one swing and not as a whip. The chain is
  // rated for nine kilonewtons.
  const Vec3 hook = chain.from.point, push = rig.part(stoneId)->velocity;
  const double arm = hook.y() - rig.part(stoneId)->pose.position.y();
  for (Part& p : rig.parts)
    if (p.group == chainId || p.id == stoneId) {
      p.velocity = push * ((hook.y() - p.pose.position.y()) / arm);
      p.angularVelocity = Vec3(0, -1, 0).cross(push) / arm;
    }
  for (Joint& j : rig.joints)
    if (j.group == chainId) j.breakForce = 9000;
  return rig;
}

}  // namespace calm::rig
