// SPDX-License-Identifier: GPL-3.0-or-later
// Readings of recordings and what is expected of them, on motions that are known.
#include "run/expect.h"

#include <gtest/gtest.h>

#include <cmath>

#include "rig/edits.h"
#include "rig/file.h"

namespace calm::run {
namespace {

using rig::Expectation;
using Kind = Expectation::Kind;

// A ball that falls 1 m in front of a pendulum of a metre, held by a joint of 100 N; the ball stops on the ground.
struct Scene {
  rig::Rig rig;
  rig::Id ball, bob, pin;
  Scene() {
    rig.stage.duration = 3;
    rig::Part p;
    p.name = "ball";
    p.shape = Sphere{0.1};
    p.heft = rig::Mass{2};
    p.pose.position = {0, 1.1, 2};
    ball = rig::addPart(rig, p);
    p.name = "bob";
    p.pose.position = {1, 2, 0};
    bob = rig::addPart(rig, p);
    pin = rig::addJoint(rig, JointType::hinge, rig::kNone, bob, {0, 2, 0}, Vec3::UnitZ());
    rig.joint(pin)->name = "pin";
  }
  std::shared_ptr<const Recording> run() const { return record(std::make_shared<const rig::Rig>(rig)); }
  rig::Reading reading(const std::string& text) const { return rig::readingFrom(text, rig).value(); }
};

TEST(Readings, HaveNamesThatComeBack) {
  const Scene s;
  for (const rig::Id id : {rig::kNone, s.ball, s.pin})
    for (const rig::Reading& r : rig::readingsOf(id, s.rig)) {
      const std::string text = rig::textOf(r, s.rig);
      EXPECT_EQ(rig::readingFrom(text, s.rig), r) << text;
    }
  EXPECT_EQ(rig::textOf({rig::Reading::What::rate, s.pin, 0}, s.rig), "turn rate of pin");
  EXPECT_FALSE(rig::readingFrom("force of ball", s.rig)) << "a part has no such reading";
  EXPECT_FALSE(rig::readingFrom("y of nobody", s.rig));
}

TEST(Readings, AreTheMotionsOwn) {
  const Scene s;
  const auto recording = s.run();
  const std::size_t i = recording->indexAt(0.25);
  EXPECT_NEAR(valueOf(*recording, s.reading("speed of ball"), i), 9.81 * 0.25, 1e-6);
  EXPECT_NEAR(valueOf(*recording, s.reading("y of ball"), i), 1.1 - 9.81 * 0.25 * 0.25 / 2, 1e-6);
  // A bob let go level: the angle's rate from energy, w^2 = 2 m g sin(angle) r / I about the pin.
  const double inertia = 2 + 0.4 * 2 * 0.01, angle = -valueOf(*recording, s.reading("turn of pin"), i);
  EXPECT_NEAR(-valueOf(*recording, s.reading("turn rate of pin"), i),
              std::sqrt(2 * 2 * 9.81 * std::sin(angle) / inertia), 2e-3);
}

Verdict verdictOn(const Scene& s, Expectation e) {
  EXPECT_EQ(rig::faultOf(e, s.rig), "");
  Scene with = s;
  with.rig.expectations = {e};
  return judgeAll(*with.run()).at(0);
}

TEST(Expectations, OfHoldingAndParting) {
  Scene s;
  EXPECT_TRUE(verdictOn(s, {.kind = Kind::holds, .of = 0}).met);
  EXPECT_FALSE(verdictOn(s, {.kind = Kind::parts, .of = s.pin}).met);
  s.rig.joint(s.pin)->breakForce = 30;  // the bob pulls with 3 m g = 59 N at the bottom
  const Verdict v = verdictOn(s, {.kind = Kind::holds, .of = s.pin});
  EXPECT_FALSE(v.met);
  EXPECT_NE(v.evidence.find("pin parted at 0."), std::string::npos) << v.evidence;
  EXPECT_TRUE(verdictOn(s, {.kind = Kind::parts, .of = s.pin}).met);
  EXPECT_FALSE(verdictOn(s, {.kind = Kind::parts, .of = s.pin, .from = 1}).met) << "it parted earlier";
}

TEST(Expectations, OfSettling) {
  const Scene s;
  const Verdict rest = verdictOn(s, {.kind = Kind::settles, .of = s.ball, .high = 0.01, .from = 1});
  EXPECT_TRUE(rest.met);
  EXPECT_NEAR(rest.at, std::sqrt(2 / 9.81), 0.05) << "it lies where it fell";
  const Verdict all = verdictOn(s, {.kind = Kind::settles, .high = 0.01, .from = 1});
  EXPECT_FALSE(all.met) << "the pendulum swings on";
}

TEST(Expectations, OfBoundsAndOfReaching) {
  const Scene s;
  Expectation stays{.kind = Kind::stays, .reading = s.reading("force of pin"), .high = 60};
  EXPECT_TRUE(verdictOn(s, stays).met) << "3 m g is 58.9 N";
  stays.high = 50;
  const Verdict v = verdictOn(s, stays);
  EXPECT_FALSE(v.met);
  EXPECT_NE(v.evidence.find("58."), std::string::npos) << v.evidence;
  EXPECT_TRUE(verdictOn(s, {.kind = Kind::reaches, .reading = s.reading("y of ball"), .low = 0.2}).met);
  EXPECT_FALSE(verdictOn(s, {.kind = Kind::reaches, .reading = s.reading("y of ball"), .low = 0.05}).met);
  EXPECT_FALSE(verdictOn(s, {.kind = Kind::reaches, .reading = s.reading("y of ball"), .low = 0.2, .until = 0.2}).met);
}

TEST(Expectations, OfKeepingTheEnergy) {
  Scene s;
  EXPECT_FALSE(verdictOn(s, {.kind = Kind::energy, .high = 0.01}).met) << "the ball's goes into the ground";
  remove(s.rig, {s.ball});
  EXPECT_TRUE(verdictOn(s, {.kind = Kind::energy, .high = 0.001}).met) << "a pendulum keeps it";
}

TEST(Expectations, AreKeptInTheFileAndGoWithWhatTheyAreAbout) {
  Scene s;
  s.rig.expectations = {{.kind = Kind::holds, .of = s.pin, .until = 2},
                        {.kind = Kind::settles, .of = s.ball, .high = 0.05, .from = 1},
                        {.kind = Kind::stays, .reading = s.reading("turn of pin"), .low = -3.2, .high = 0.1},
                        {.kind = Kind::reaches, .reading = s.reading("y of ball"), .low = 0.2},
                        {.kind = Kind::energy, .high = 0.02}};
  const std::string text = rig::formatRig(s.rig);
  const rig::Rig again = rig::parseRig(text, "test");
  EXPECT_EQ(rig::formatRig(again), text);
  EXPECT_EQ(rig::textOf(again.expectations[2], again), "turn of pin stays within -183.3 deg and 5.73 deg");
  rig::Rig less = again;
  rig::remove(less, {s.ball});
  EXPECT_EQ(less.expectations.size(), 3u);
  std::string bad = text;
  bad.replace(bad.find("y of ball"), 9, "y of bell");
  EXPECT_THROW(rig::parseRig(bad, "test"), rig::FileError);
}

}  // namespace
}  // namespace calm::run
