// SPDX-License-Identifier: GPL-3.0-or-later
// Puts a kit's members into a rig: named and slotted, placed in the kit's own frame.
#pragma once

#include <string>

#include "rig/model.h"

namespace calm::rig {

class Builder {
 public:
  Builder(Rig& rig, const Form& form, const std::string& name, const Pose& pose);

  Id group() const { return group_; }
  // The returned part or joint is good until the next one is added.
  Part& part(const std::string& slot, const Shape& shape, const Pose& pose, double mass);
  // A link of a line from one point to the other, damped as all links are.
  Id link(const std::string& slot, const Vec3& from, const Vec3& to, double thickness, double mass);
  Joint& joint(const std::string& slot, JointType type, Id a, Id b, const Vec3& pivot,
               const Vec3& axis = Vec3::UnitX());

 private:
  Rig& rig_;
  Id group_;
  std::string name_;
  Pose pose_;
};

}  // namespace calm::rig
