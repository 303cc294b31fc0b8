// SPDX-License-Identifier: GPL-3.0-or-later
// A leaf on hinges. The lowest hinge carries stops, friction and closer for all of them; the latch is a joint that
// lets go above its strength.
#include <fmt/format.h>

#include <cmath>

#include "rig/kits/makers.h"
#include "rig/kits/placed.h"

namespace calm::rig {

namespace {

constexpr double kPost = 0.12;         // m, side of a post
constexpr double kClearance = 0.01;    // m, between leaf and latch post
constexpr double kUnder = 0.05;        // m, below the leaf
constexpr double kHandleInset = 0.08;  // m, from the leaf's free edge
constexpr double kHandleHeight = 0.5;  // of the leaf's
constexpr double kHingeInset = 0.15;   // of the leaf's height

// From the hinge line to the leaf's edge: it must clear the post as it turns.
double gapOf(const Door& door) {
  return door.thickness / 2 + 0.005;
}

}  // namespace

std::string faultOfDoor(const Door& door) {
  if (door.hinges > 12) return fmt::format("a door has up to 12 hinges, not {}", door.hinges);
  if (door.opens > 2 * M_PI) return "a door opens by less than a whole turn";
  if (door.closerTorque > 0 && door.closerStiffness == 0)
    return "a closer that pulls at the shut door needs a stiffness, too";
  if (handleArm(door) <= 0) return "the leaf is too narrow for a handle";
  return {};
}

double handleArm(const Door& door) {
  return gapOf(door) + door.width - kHandleInset;
}

double handleEffort(const Door& door, double angle) {
  return (door.closerTorque + door.closerStiffness * angle + door.friction) / handleArm(door);
}

void buildDoor(Builder& builder, const Door& door, std::optional<Id> holder) {
  const double gap = gapOf(door), middle = kUnder + door.height / 2, free = gap + door.width;
  const auto post = [&](const char* slot, double x) {
    const double height = door.height + 2 * kUnder;
    Part& p = builder.part(slot, Box{{kPost, height, kPost}}, Pose{Vec3(x, height / 2, 0), Quat::Identity()},
                           700 * kPost * kPost * height);
    p.role = Role::fixed;
    return p.id;
  };
  const Id hung = door.posts ? post("hinge post", -kPost / 2) : holder.value_or(kNone);
  const Id met = door.posts ? post("latch post", free + kClearance + kPost / 2) : hung;
  const Id leaf = builder
                      .part("leaf", Box{{door.width, door.height, door.thickness}},
                            Pose{Vec3(gap + door.width / 2, middle, 0), Quat::Identity()}, door.mass)
                      .id;
  for (int i = 0; i < door.hinges; ++i) {
    const double share = door.hinges == 1 ? 0.5 : kHingeInset + (1 - 2 * kHingeInset) * i / (door.hinges - 1);
    // About -y, so that the leaf opens towards z.
    Joint& hinge = builder.joint(fmt::format("hinge {}", i + 1), JointType::hinge, hung, leaf,
                                 {0, kUnder + share * door.height, 0}, -Vec3::UnitY());
    if (i > 0) continue;
    AxisDef& axis = hinge.axes[0];
    axis.low = 0, axis.high = door.opens;
    axis.friction = door.friction;
    axis.stiffness = door.closerStiffness, axis.damping = door.closerDamping;
    if (door.closerTorque > 0) axis.target = -door.closerTorque / door.closerStiffness;
  }
  if (door.latch == 0) return;
  // Holds across the leaf only: the hinges carry the weight.
  Joint& latch = builder.joint("latch", JointType::sixAxis, met, leaf, {free, kUnder + kHandleHeight * door.height, 0},
                               Vec3::UnitZ());
  latch.axes[0].low = latch.axes[0].high = 0;
  latch.breakForce = door.latch * handleArm(door) / free;
}

}  // namespace calm::rig
