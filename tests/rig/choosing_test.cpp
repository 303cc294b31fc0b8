// SPDX-License-Identifier: GPL-3.0-or-later
// Features to aim at, choosing by how things hang together, and sharing settings.
#include <gtest/gtest.h>

#include "rig/edits.h"
#include "rig/features.h"
#include "rig/selection.h"
#include "rig/sharing.h"

namespace calm::rig {
namespace {

Id addBox(Rig& rig, const Vec3& at, const Vec3& size = Vec3::Ones(), Role role = Role::dynamic) {
  Part p;
  p.shape = Box{size};
  p.pose.position = at;
  p.role = role;
  return addPart(rig, p);
}
std::map<std::string, int> countsOf(const std::vector<Feature>& features) {
  std::map<std::string, int> counts;
  for (const Feature& f : features) ++counts[f.word];
  return counts;
}
bool has(const std::vector<Feature>& features, const std::string& word, const Vec3& at) {
  return std::any_of(features.begin(), features.end(),
                     [&](const Feature& f) { return f.word == word && (f.at - at).norm() < 1e-9; });
}

TEST(Features, OfABoxAreItsCentreFacesEdgesAndCorners) {
  Part p;
  p.shape = Box{{2, 4, 6}};
  p.pose = {{1, 0, 0}, Quat(Eigen::AngleAxisd(M_PI / 2, Vec3::UnitZ()))};
  const auto features = featuresOf(p);
  EXPECT_EQ(countsOf(features), (std::map<std::string, int>{{"centre", 1}, {"corner", 8}, {"edge", 12}, {"face", 6}}));
  EXPECT_TRUE(has(features, "face", {-1, 0, 0})) << "its y face, turned to -x";
  EXPECT_TRUE(has(features, "corner", {3, 1, 3}));
}

TEST(Features, OfRoundThingsAreTheirEnds) {
  Part p;
  p.shape = Capsule{0.1, 2};
  const auto features = featuresOf(p);
  EXPECT_TRUE(has(features, "end", {0, 1, 0}));
  EXPECT_TRUE(has(features, "end", {0, -1, 0}));
  EXPECT_EQ(features.size(), 3u);
}

TEST(Features, BetweenTwoPartsAreTheirNearestPointsAndTheGap) {
  Rig rig;
  Part ball;
  ball.shape = Sphere{0.5};
  ball.pose.position = {3, 0.2, 0};
  const auto apart = featuresBetween(*rig.part(addBox(rig, {0, 0, 0})), ball);
  EXPECT_TRUE(has(apart, "face", {0.5, 0.2, 0}));
  EXPECT_TRUE(has(apart, "face", {2.5, 0.2, 0}));
  EXPECT_TRUE(has(apart, "gap", {1.5, 0.2, 0}));
  ball.pose.position = {1, 0.2, 0};
  EXPECT_TRUE(has(featuresBetween(rig.parts[0], ball), "touch", {0.5, 0.2, 0}));
}

TEST(Pivots, MoveAndTurnOnBothSides) {
  Rig rig;
  const Id a = addBox(rig, {0, 2, 0}), b = addBox(rig, {0, 0.5, 0});
  rig.part(b)->pose.rotation = Quat(Eigen::AngleAxisd(0.7, Vec3(1, 2, 3).normalized()));
  const Id hinge = addJoint(rig, JointType::hinge, a, b, {0, 1.25, 0}, Vec3::UnitZ());
  movePivot(rig, hinge, {0.3, 1, 0.2});
  turnAxis(rig, hinge, {2, 0, 0});
  EXPECT_THROW(turnAxis(rig, hinge, Vec3::Zero()), std::invalid_argument);
  for (const Side& side : {rig.joint(hinge)->a, rig.joint(hinge)->b}) {
    const Pose frame = restFrame(rig, side);
    EXPECT_LT((frame.position - Vec3(0.3, 1, 0.2)).norm(), 1e-12);
    EXPECT_LT((frame.rotation * Vec3::UnitX() - Vec3::UnitX()).norm(), 1e-12);
  }
  EXPECT_LT((restFrame(rig, rig.joint(hinge)->a).rotation.toRotationMatrix() -
             restFrame(rig, rig.joint(hinge)->b).rotation.toRotationMatrix())
                .norm(),
            1e-9)
      << "the zero of the angle stays where it was";
}

TEST(Pivots, AxesAreGuessedFromWhatTouchesAndWhatSlides) {
  Rig rig;
  const Id slab = addBox(rig, {0, 0, 0}, {4, 0.2, 4}, Role::fixed);
  const Id crate = addBox(rig, {0.5, 0.6, 0.3}, {1.5, 1, 1});
  EXPECT_NEAR(std::abs(likelyAxis(rig, slab, crate, JointType::planar).y()), 1, 1e-9) << "square to the touching face";
  EXPECT_NEAR(std::abs(likelyAxis(rig, slab, crate, JointType::slider).x()), 1, 1e-9) << "along the longest side";
}

struct Row {
  Rig rig;
  Id beam, top, middle, last, lone, first, second;
  Row() {
    beam = addBox(rig, {0, 5, 0}, Vec3::Ones(), Role::fixed);
    top = addBox(rig, {0, 3, 0}), middle = addBox(rig, {0, 1, 0}), last = addBox(rig, {5, 3, 0}),
    lone = addBox(rig, {9, 1, 0}, {1, 2, 1});
    first = addJoint(rig, JointType::ball, beam, top, {0, 4, 0}, Vec3::UnitX());
    second = addJoint(rig, JointType::hinge, top, middle, {0, 2, 0}, Vec3::UnitX());
    addJoint(rig, JointType::ball, beam, last, {4, 4, 0}, Vec3::UnitX());
  }
};

TEST(Choosing, GrowsAlongTheRailStepByStep) {
  Row r;
  std::set<Id> ids = grown(r.rig, {r.middle});
  EXPECT_EQ(ids, (std::set<Id>{r.middle, r.second}));
  ids = grown(r.rig, ids);
  EXPECT_EQ(ids, (std::set<Id>{r.middle, r.second, r.top}));
}

TEST(Choosing, TakesTheAssemblyUpToWhatIsHeld) {
  Row r;
  EXPECT_EQ(assemblyOf(r.rig, {r.middle}), (std::set<Id>{r.middle, r.second, r.top, r.first, r.beam}))
      << "and not what else hangs on the beam";
  EXPECT_EQ(assemblyOf(r.rig, {r.lone}), std::set<Id>{r.lone});
}

TEST(Choosing, FindsWhatIsAlikeAndTagged) {
  Row r;
  EXPECT_EQ(alike(r.rig, {r.first}).size(), 2u);
  EXPECT_EQ(alike(r.rig, {r.top}), (std::set<Id>{r.top, r.middle, r.last, r.lone}));
  setTags(r.rig, {r.top, r.second}, tagsIn(" wet ,left,, wet"));
  EXPECT_EQ(tagged(r.rig, "wet"), (std::set<Id>{r.top, r.second}));
  EXPECT_EQ(tagsOf(r.rig), (std::set<std::string>{"left", "wet"}));
  EXPECT_EQ(tagText(r.rig.part(r.top)->tags), "left, wet");
}

// Two leaves of a gate whose hinges face each other across x = 0.
TEST(Sharing, TurnsSettingsRoundWhereAMirrorWould) {
  Rig rig;
  const Id beam = addBox(rig, {0, 5, 0}, Vec3::Ones(), Role::fixed);
  const Id left = addBox(rig, {-1, 1, 0}), right = addBox(rig, {1, 1, 0}), odd = addBox(rig, {1, 1, 4});
  const Id a = addJoint(rig, JointType::hinge, beam, left, {-2, 1, 0}, Vec3::UnitY());
  const Id b = addJoint(rig, JointType::hinge, beam, right, {2, 1, 0}, Vec3::UnitY());
  const Id c = addJoint(rig, JointType::hinge, beam, odd, {2, 1, 0}, -Vec3::UnitY());
  Joint& model = *rig.joint(a);
  model.axes[0].low = -0.1, model.axes[0].high = 1.2, model.axes[0].speed = 2, model.axes[0].cap = 30;
  model.breakForce = 800;
  Shared what;
  what.mirrored = true, what.strength = false;
  share(rig, a, {b, c}, what);
  EXPECT_EQ(rig.joint(b)->axes[0].low, -1.2) << "about the same axis, the other leaf turns the other way";
  EXPECT_EQ(rig.joint(b)->axes[0].high, 0.1);
  EXPECT_EQ(rig.joint(b)->axes[0].speed, -2);
  EXPECT_EQ(rig.joint(c)->axes[0].high, 1.2) << "an axis that is mirrored itself counts the same way";
  EXPECT_FALSE(rig.joint(b)->breakForce) << "only what was chosen goes over";
  what.mirrored = false, what.strength = true;
  share(rig, a, {b}, what);
  EXPECT_EQ(rig.joint(b)->axes[0].low, -0.1);
  EXPECT_EQ(rig.joint(b)->breakForce, 800);
  const Id ball = addJoint(rig, JointType::ball, left, right, {0, 1, 0}, Vec3::UnitX());
  EXPECT_THROW(share(rig, a, {ball}, what), std::invalid_argument);
}

}  // namespace
}  // namespace calm::rig
