// SPDX-License-Identifier: GPL-3.0-or-later
// Why: troubles that were built in are found, with the figures, and remedies are told only as far as they were tried.
#include "run/why.h"

#include <gmock/gmock.h>

#include "rig/edits.h"
#include "rig/kits/line.h"

namespace calm::run {
namespace {

using testing::HasSubstr;

rig::Id addBox(rig::Rig& rig, const std::string& name, const Vec3& size, const Vec3& at, double mass,
               Role role = Role::dynamic) {
  rig::Part p;
  p.name = name;
  p.shape = Box{size};
  p.pose.position = at;
  p.heft = rig::Mass{mass};
  p.role = role;
  return rig::addPart(rig, p);
}

struct Asked {
  Trouble trouble;
  std::vector<Cause> causes;
  const Cause* saying(const std::string& words) const {
    for (const Cause& c : causes)
      if (c.text.find(words) != std::string::npos) return &c;
    return nullptr;
  }
};
Asked ask(const rig::Rig& rig, rig::Id joint) {
  const auto recording = record(std::make_shared<const rig::Rig>(rig));
  Asked asked;
  asked.trouble = troubleOf(*recording, joint);
  asked.causes = causesOf(*recording, asked.trouble);
  tryRemedies(*recording, asked.trouble, asked.causes);
  return asked;
}

// A gate thrown against its stop.
rig::Rig slammedGate(rig::Id* pin) {
  rig::Rig rig;
  rig.stage.duration = 1.5;
  rig.stage.groundHeight.reset();
  const rig::Id leaf = addBox(rig, "leaf", {1.2, 1, 0.06}, {0.6, 1, 0}, 40);
  *pin = rig::addJoint(rig, JointType::hinge, rig::kNone, leaf, {0, 1, 0}, Vec3::UnitY());
  rig.joint(*pin)->axes[0].low = -0.1, rig.joint(*pin)->axes[0].high = 1.2;
  rig.joint(*pin)->breakForce = 20000;
  rig.part(leaf)->angularVelocity = {0, 3, 0};
  rig.part(leaf)->velocity = {0, 0, -1.8};
  return rig;
}

TEST(Why, AStopThatWasStruckIsNamedAndSofteningItIsMeasured) {
  rig::Id pin;
  const rig::Rig rig = slammedGate(&pin);
  const Asked asked = ask(rig, pin);
  ASSERT_FALSE(asked.causes.empty());
  EXPECT_THAT(asked.causes[0].text, HasSubstr("ran into its high stop"));
  EXPECT_THAT(asked.causes[0].evidence, HasSubstr("3 rad/s"));
  ASSERT_FALSE(asked.causes[0].remedies.empty());
  const Remedy& best = asked.causes[0].remedies[0];
  EXPECT_THAT(best.name, HasSubstr("springs of"));
  EXPECT_GT(gainOf(best, asked.trouble), 0.5);
  // What is told is what the run with it gives.
  rig::Rig mended = rig;
  best.apply(mended);
  const auto again = record(std::make_shared<const rig::Rig>(mended));
  EXPECT_EQ(valueOf(*again, asked.trouble.measure), best.after);
}

TEST(Why, AJerkIsNamedWhenASlackRopeGoesTaut) {
  rig::Rig rig;
  rig.stage.duration = 1.5;
  rig.stage.groundHeight.reset();
  const rig::Id stone = addBox(rig, "stone", Vec3::Constant(0.4), {0, 1, 0}, 60);
  const rig::Id rope = rig::addJoint(rig, JointType::distance, rig::kNone, stone, {0, 2, 0}, Vec3::UnitY());
  rig.joint(rope)->axes[0].high = 2;  // a metre of slack
  const Asked asked = ask(rig, rope);
  const Cause* jerk = asked.saying("slack and then taut");
  ASSERT_NE(jerk, nullptr);
  ASSERT_FALSE(jerk->remedies.empty());
  EXPECT_THAT(jerk->remedies[0].name, HasSubstr("Damp"));
  EXPECT_GT(gainOf(jerk->remedies[0], asked.trouble), 0.05) << "it falls more slowly";
}

TEST(Why, ALoopAndABlowAreNamed) {
  rig::Rig rig;
  rig.stage.duration = 1;
  rig.stage.groundHeight.reset();
  const rig::Id leaf = addBox(rig, "leaf", {1, 1, 0.1}, {0.5, 1, 0}, 40);
  const rig::Id low = rig::addJoint(rig, JointType::hinge, rig::kNone, leaf, {0, 0.6, 0}, Vec3::UnitY());
  rig::addJoint(rig, JointType::hinge, rig::kNone, leaf, {0, 1.4, 0}, Vec3::UnitY());
  rig::Cue blow;
  blow.when.at = 0.5, blow.act = rig::Cue::Act::impulse, blow.part = leaf, blow.vector = {-80, 0, 0};
  rig::addCue(rig, blow);
  const Asked asked = ask(rig, low);
  const Cause* loop = asked.saying("part of a loop");
  ASSERT_NE(loop, nullptr);
  for (const Remedy& r : loop->remedies)
    EXPECT_THAT(r.price, HasSubstr("then carries")) << "what this hinge is spared the other one has to carry";
  const Cause* struck = asked.saying("cue struck just before");
  ASSERT_NE(struck, nullptr);
  ASSERT_FALSE(struck->remedies.empty());
  EXPECT_NEAR(gainOf(struck->remedies[0], asked.trouble), 0.5, 0.1) << "half the blow, half the load";
}

TEST(Why, HeavyOnLightIsNamedAndGravityIsNeverTouched) {
  rig::Rig rig;
  rig.stage.duration = 1;
  const rig::Id stone = addBox(rig, "stone", Vec3::Constant(0.5), {0, 1, 0}, 500);
  rig::LineChoices line;
  line.from = {{0, 3, 0}, rig::kNone, true};
  line.to = {{0, 1.25, 0}, stone, true};
  line.length = 1.75, line.links = 20, line.massPerMetre = 2;
  rig::makeLine(rig, line);
  const auto recording = record(std::make_shared<const rig::Rig>(rig));
  const Trouble trouble = troubleOf(*recording, rig.joints[5].id);
  const std::vector<Cause> causes = causesOf(*recording, trouble);
  const auto heavy = std::find_if(causes.begin(), causes.end(),
                                  [](const Cause& c) { return c.text.find("far heavier") != std::string::npos; });
  ASSERT_NE(heavy, causes.end());
  EXPECT_THAT(heavy->evidence, HasSubstr("500 kg"));
  for (const Cause& c : causes)
    for (const Remedy& r : c.remedies) {
      rig::Rig changed = rig;
      r.apply(changed);
      EXPECT_EQ(changed.stage.gravity, rig.stage.gravity) << r.name;
      for (const rig::Part& p : changed.parts) EXPECT_EQ(p.gravityScale, 1) << r.name;
    }
}

TEST(Why, NothingIsToldThatWasNotTried) {
  rig::Id pin;
  const rig::Rig rig = slammedGate(&pin);
  const auto recording = record(std::make_shared<const rig::Rig>(rig));
  const Trouble trouble = troubleOf(*recording, pin);
  std::vector<Cause> causes = causesOf(*recording, trouble);
  std::atomic<bool> stop{true};
  tryRemedies(*recording, trouble, causes, &stop);
  for (const Cause& c : causes) EXPECT_TRUE(c.remedies.empty()) << c.text;
}

}  // namespace
}  // namespace calm::run
