// SPDX-License-Identifier: GPL-3.0-or-later
// Two runs side by side, on weights whose loads are known.
#include "run/compare.h"

#include <gmock/gmock.h>

#include <cmath>

#include "rig/edits.h"

namespace calm::run {
namespace {

// A weight at rest on a hook, with enough damping that nothing swings.
struct Hung {
  rig::Rig rig;
  rig::Id weight, hook;
  Hung(double mass, double push = 0) {
    rig.stage.duration = 1;
    rig.stage.groundHeight.reset();
    rig::Part p;
    p.name = "weight";
    p.heft = rig::Mass{mass};
    p.velocity = {push, 0, 0};
    weight = rig::addPart(rig, p);
    hook = rig::addJoint(rig, JointType::ball, rig::kNone, weight, {0, 1, 0}, Vec3::UnitX());
    rig.joint(hook)->name = "hook";
  }
  std::shared_ptr<const Recording> run() const { return record(std::make_shared<const rig::Rig>(rig)); }
};

TEST(Compare, TellsWhatChanged) {
  const auto light = Hung(10).run(), heavy = Hung(25).run();
  const std::vector<Change> changes = compare(*light, *heavy);
  const auto of = [&](const std::string& what) {
    for (const Change& c : changes)
      if (c.what == what) return c;
    ADD_FAILURE() << "nothing about " << what;
    return Change{};
  };
  EXPECT_NEAR(of("peak force of hook").before, 98.1, 1e-3);
  EXPECT_NEAR(of("peak force of hook").after, 245.25, 1e-3);
  EXPECT_EQ(of("joints parted").after, 0);
  EXPECT_EQ(of("at rest (below 5 cm/s) since").before, 0) << "it never moved";
  const auto swinging = Hung(10, 2).run();
  EXPECT_TRUE(std::isnan(compare(*light, *swinging)[2].after)) << "a swing does not come to rest";
}

TEST(Compare, LeavesOutWhatOnlyOneHas) {
  Hung more(10);
  rig::Part p;
  p.name = "second";
  p.pose.position = {3, 0, 0};
  rig::addJoint(more.rig, JointType::ball, rig::kNone, rig::addPart(more.rig, p), {3, 1, 0}, Vec3::UnitX());
  EXPECT_EQ(compare(*Hung(10).run(), *more.run()).size(), 4u + 1u);
}

TEST(StrengthInterval, LiesBetweenTheTwoPeaks) {
  const Hung holds(10), parts(40);
  const StrengthInterval interval = strengthBetween(*holds.run(), *parts.run(), holds.hook);
  ASSERT_TRUE(interval.isValid());
  EXPECT_NEAR(interval.low, 98.1, 1e-3);
  EXPECT_NEAR(interval.high, 392.4, 1e-3);
  EXPECT_NEAR(interval.margin(), 2, 1e-4) << "a factor of four, two each way";
  // And so it is: with the middle as its strength the one holds and the other parts.
  for (const Hung* h : {&holds, &parts}) {
    Hung armed = *h;
    armed.rig.joint(armed.hook)->breakForce = interval.middle();
    EXPECT_EQ(armed.run()->partedAt(0).has_value(), h == &parts);
  }
  EXPECT_FALSE(strengthBetween(*parts.run(), *holds.run(), holds.hook).isValid())
      << "there is none the other way round";
}

}  // namespace
}  // namespace calm::run
