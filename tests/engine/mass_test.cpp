// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/math/mass.h"

#include <gtest/gtest.h>

#include "engine/shape/shape.h"

namespace calm {
namespace {

// Two half boxes make the whole one.
TEST(MassProperties, AddUpByTheParallelAxisTheorem) {
  const MassProperties half = massPropertiesOf(Box{{1, 2, 3}}, 6);
  const MassProperties sum =
      half.placed({{-0.5, 0, 0}, Quat::Identity()}) + half.placed({{0.5, 0, 0}, Quat::Identity()});
  const MassProperties whole = massPropertiesOf(Box{{2, 2, 3}}, 12);
  EXPECT_DOUBLE_EQ(sum.mass, 12);
  EXPECT_LE(sum.center.norm(), 1e-15);
  EXPECT_LE((sum.inertia - whole.inertia).norm(), 1e-12);
}

TEST(PrincipalAxes, RebuildTheInertia) {
  Mat3 inertia;
  inertia << 3, 0.2, -0.1, 0.2, 2, 0.3, -0.1, 0.3, 4;
  const PrincipalAxes p = principalAxes(inertia);
  const Mat3 r = p.rotation.toRotationMatrix();
  EXPECT_LE((r * p.moments.asDiagonal() * r.transpose() - inertia).norm(), 1e-13);
}

TEST(FaultOf, NamesWhatIsWrong) {
  EXPECT_EQ(faultOf(MassProperties{}), "");
  EXPECT_NE(faultOf(MassProperties{.mass = 0}).find("mass"), std::string::npos);
  EXPECT_NE(faultOf(MassProperties{.mass = std::nan("")}).find("mass"), std::string::npos);
  MassProperties flat;
  flat.inertia = Vec3(1, 1, 3).asDiagonal();
  EXPECT_NE(faultOf(flat).find("no real body"), std::string::npos);
  flat.inertia = Vec3(1, 1, 0).asDiagonal();
  EXPECT_NE(faultOf(flat).find("above 0"), std::string::npos);
}

}  // namespace
}  // namespace calm
