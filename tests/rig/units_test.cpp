// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/units.h"

#include <gtest/gtest.h>

#include <numbers>

namespace calm::rig {
namespace {

TEST(ParseQuantity, ReadsUnitsOfItsKind) {
  EXPECT_DOUBLE_EQ(*parseQuantity("30 cm", Dimension::length), 0.3);
  EXPECT_DOUBLE_EQ(*parseQuantity("12in", Dimension::length), 0.3048);
  EXPECT_DOUBLE_EQ(*parseQuantity(" 5 kN ", Dimension::force), 5000);
  EXPECT_DOUBLE_EQ(*parseQuantity("90 deg", Dimension::angle), std::numbers::pi / 2);
  EXPECT_DOUBLE_EQ(*parseQuantity("2 t", Dimension::mass), 2000);
  EXPECT_DOUBLE_EQ(*parseQuantity("1.5", Dimension::length), 1.5);
  EXPECT_DOUBLE_EQ(*parseQuantity("+1e3", Dimension::force), 1000);
  EXPECT_DOUBLE_EQ(*parseQuantity("30 rpm", Dimension::turnRate), std::numbers::pi);
  EXPECT_DOUBLE_EQ(*parseQuantity("36 km/h", Dimension::speed), 10);
  EXPECT_DOUBLE_EQ(*parseQuantity("5 N/mm", Dimension::stiffness), 5000);
}

TEST(ParseQuantity, RefusesTheRest) {
  for (const char* bad : {"", "abc", "5 kg", "nan", "inf", "1e999", "3 m m", "--2"})
    EXPECT_FALSE(parseQuantity(bad, Dimension::length)) << bad;
}

TEST(FormatQuantity, ChoosesAReadableUnit) {
  EXPECT_EQ(formatQuantity(14300, Dimension::force), "14.3 kN");
  EXPECT_EQ(formatQuantity(2e-5, Dimension::length), "20 um");
  EXPECT_EQ(formatQuantity(0.58, Dimension::length), "580 mm");
  EXPECT_EQ(formatQuantity(1, Dimension::length), "1 m");
  EXPECT_EQ(formatQuantity(0, Dimension::force), "0 N");
  EXPECT_EQ(formatQuantity(2563, Dimension::density, 4), "2563 kg/m^3");
}

TEST(FormatQuantity, ReadsBack) {
  for (const double value : {1e-7, 0.004, 0.5, 3.0, 812.0, 45000.0, 2.5e6})
    for (const Dimension d : {Dimension::length, Dimension::mass, Dimension::force, Dimension::torque, Dimension::time,
                              Dimension::speed, Dimension::turnRate, Dimension::stiffness, Dimension::turnStiffness,
                              Dimension::damping, Dimension::turnDamping, Dimension::frequency})
      EXPECT_NEAR(*parseQuantity(formatQuantity(value, d, 6), d), value, 1e-5 * value) << formatQuantity(value, d, 6);
}

}  // namespace
}  // namespace calm::rig
