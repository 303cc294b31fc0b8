// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_law.h"

#include <gtest/gtest.h>

#include <random>

namespace calm {
namespace {

struct Case {
  ContactLaw<double> law;
  ContactPush<double> push{};
  double friction, v[3];
};

// Contacts of every state: apart, sticking, sliding, with mobilities that are not the same in all directions (mildly:
// normal and tangents are solved in turn, which does not converge for every friction and every lever).
Case makeCase(std::mt19937& random) {
  std::normal_distribution<double> normal;
  Mat3 root;
  for (int i = 0; i < 9; ++i) root.data()[i] = normal(random);
  const Mat3 whole = 0.15 * root * root.transpose() + Mat3::Identity();
  double m[3][3];
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) m[i][j] = whole(i, j);
  Case c;
  setMobility(c.law, m, 0.003);
  c.law.target = 0.1 * normal(random);
  c.friction = std::uniform_real_distribution<double>(0.1, 0.8)(random);
  c.push.impulse[0] = std::abs(normal(random));
  for (double& v : c.v) v = normal(random);
  return c;
}

// After a visit the contact parts with its target (but for its softness) or does not push; friction stays in its cone;
// inside of it there is no slip left, on its rim it opposes what is left.
TEST(ContactLaw, LeavesWhatItAsksFor) {
  std::mt19937 random{7};
  int sliding = 0, sticking = 0, apart = 0;
  for (int i = 0; i < 500; ++i) {
    Case c = makeCase(random);
    const ContactLaw<double>& law = c.law;
    for (int visit = 0; visit < 30; ++visit) {
      resolve(law, c.friction, c.v, c.push);
      const double* x = c.push.change;
      const double moved[] = {law.mobility[0] * x[0] + law.mobility[1] * x[1] + law.mobility[2] * x[2],
                              law.mobility[1] * x[0] + law.tangents[0] * x[1] + law.tangents[1] * x[2],
                              law.mobility[2] * x[0] + law.tangents[1] * x[1] + law.tangents[2] * x[2]};
      for (int k = 0; k < 3; ++k) c.v[k] += moved[k];
    }
    const double* p = c.push.impulse;
    const double lack = law.target - c.v[0] - law.softness * p[0];
    ASSERT_GE(p[0], 0) << "case " << i;
    if (p[0] == 0) {
      EXPECT_LE(lack, 1e-12) << "case " << i;
      ++apart;
      continue;
    }
    EXPECT_NEAR(lack, 0, 1e-3) << "case " << i;
    const double rim = c.friction * p[0], rub = std::hypot(p[1], p[2]), slip = std::hypot(c.v[1], c.v[2]);
    EXPECT_LE(rub, rim * (1 + 1e-12)) << "case " << i;
    if (rub < 0.999 * rim) {
      EXPECT_LE(slip, 1e-3) << "case " << i;
      ++sticking;
    } else {
      EXPECT_LE(std::abs(p[1] * c.v[2] - p[2] * c.v[1]), 0.02 * rub * slip + 1e-6) << "case " << i;
      EXPECT_LE(p[1] * c.v[1] + p[2] * c.v[2], 1e-9) << "case " << i;
      ++sliding;
    }
  }
  EXPECT_GT(sliding, 50);
  EXPECT_GT(sticking, 50);
  EXPECT_GT(apart, 50);
}

// Eight abreast as each by itself. The rounds on the rim end when all have settled, so what slides is as exact as one
// round more makes it.
template <class Eight>
void compareLanes() {
  std::mt19937 random{9};
  for (int group = 0; group < 50; ++group) {
    Case alone[8];
    ContactLaw<Eight> law;
    ContactPush<Eight> push{};
    Eight friction, v[3];
    for (int l = 0; l < 8; ++l) {
      const Case& c = alone[l] = makeCase(random);
      for (int k = 0; k < 3; ++k) {
        law.mobility[k][l] = c.law.mobility[k], law.tangents[k][l] = c.law.tangents[k];
        law.stopSlip[k][l] = c.law.stopSlip[k];
        push.impulse[k][l] = c.push.impulse[k];
        v[k][l] = c.v[k];
      }
      law.softness[l] = c.law.softness, law.perSpeed[l] = c.law.perSpeed, law.target[l] = c.law.target;
      friction[l] = c.friction;
    }
    const Eight effect = resolve(law, friction, v, push);
    for (int l = 0; l < 8; ++l) {
      Case& c = alone[l];
      const double own = resolve(c.law, c.friction, c.v, c.push);
      const double rim = c.friction * c.push.impulse[0];
      const bool slides = std::hypot(c.push.impulse[1], c.push.impulse[2]) > 0.999 * rim;
      const double room = slides ? 0.02 * rim + 1e-12 : 0;
      EXPECT_EQ(push.impulse[0][l], c.push.impulse[0]) << "group " << group << " lane " << l;
      for (int k = 1; k < 3; ++k)
        EXPECT_NEAR(push.impulse[k][l], c.push.impulse[k], room) << "group " << group << " lane " << l;
      EXPECT_TRUE(slides || effect[l] == own) << "group " << group << " lane " << l;
    }
  }
}
TEST(ContactLaw, IsTheSameInEveryLane) {
  compareLanes<Oct>();
  compareLanes<WholeOct>();
}

}  // namespace
}  // namespace calm
