// SPDX-License-Identifier: GPL-3.0-or-later
// Each rule finds what it is for, says so, and its remedy ends it; sound rigs get no advice.
#include "rig/advice/advice.h"

#include <gtest/gtest.h>

#include <filesystem>

#include "rig/edits.h"
#include "rig/file.h"
#include "rig/kits/line.h"

namespace calm::rig {
namespace {

Id addBox(Rig& rig, const std::string& name, const Vec3& at, const Vec3& size = Vec3::Constant(0.4),
          Role role = Role::dynamic) {
  Part p;
  p.name = name;
  p.shape = Box{size};
  p.pose.position = at;
  p.role = role;
  return addPart(rig, p);
}

Id join(Rig& rig, JointType type, Id a, Id b) {
  return addJoint(rig, type, a, b, likelyPivot(rig, a, b), likelyAxis(rig, a, b));
}

// A post with a crate on a hinge: nothing wrong with it.
struct Bench {
  Rig rig;
  Id post, crate, hinge;
  Bench() {
    post = addBox(rig, "post", {0, 1, 0}, {0.2, 2, 0.2}, Role::fixed);
    crate = addBox(rig, "crate", {0.4, 1, 0});
    hinge = join(rig, JointType::hinge, post, crate);
  }
};

// The rule finds exactly one thing, about these, and its remedy leaves none of it and nothing that cannot run.
void expectMended(Rig rig, const std::string& rule, const std::vector<Id>& on) {
  const auto of = [&] {
    std::vector<Finding> list = adviceFor(rig);
    std::erase_if(list, [&](const Finding& f) { return f.rule != rule; });
    return list;
  };
  const std::vector<Finding> found = of();
  ASSERT_EQ(found.size(), 1u) << rule;
  for (const Id id : on)
    EXPECT_NE(std::find(found[0].on.begin(), found[0].on.end(), id), found[0].on.end())
        << rule << " does not name " << id;
  EXPECT_FALSE(found[0].text.empty() || found[0].evidence.empty() || found[0].remedy.empty());
  found[0].mend(rig);
  EXPECT_TRUE(of().empty()) << rule << " is still found after: " << found[0].remedy;
  for (const Fault& f : faultsOf(rig)) ADD_FAILURE() << rule << " was mended into: " << f.text();
}

TEST(Advice, HasNothingToSayOfASoundRig) {
  for (const Finding& f : adviceFor(Bench().rig)) ADD_FAILURE() << f.text << " (" << f.evidence << ")";
}

TEST(Advice, HasNothingToSayOfTheDemos) {
  for (const auto& entry : std::filesystem::recursive_directory_iterator(DEMO_FOLDER))
    if (entry.path().string().ends_with(".rig.json"))
      for (const Finding& f : adviceFor(loadRig(entry.path().string())))
        ADD_FAILURE() << entry.path().filename() << ": " << f.text << " (" << f.evidence << ")";
}

TEST(Advice, LoosePart) {
  Bench b;
  const Id loose = addBox(b.rig, "bollard", {2, 0.2, 0});
  expectMended(b.rig, "loose_part", {loose});
}

TEST(Advice, MissingLink) {
  Bench b;
  LineChoices line;
  line.from.point = {0, 3, 0};
  line.to.point = {0, 3, 2};
  line.length = 2.2, line.links = 12;
  makeLine(b.rig, line);
  Id first = kNone, second = kNone;
  for (const Part& p : b.rig.parts) {
    if (p.name.ends_with(" 5")) first = p.id;
    if (p.name.ends_with(" 6")) second = p.id;
  }
  ASSERT_TRUE(first && second);
  std::erase_if(b.rig.joints,
                [&](const Joint& j) { return std::minmax(j.a.part, j.b.part) == std::minmax(first, second); });
  expectMended(b.rig, "missing_link", {first, second});
}

TEST(Advice, DoubledPair) {
  Bench b;
  const Id again = join(b.rig, JointType::hinge, b.post, b.crate);
  expectMended(b.rig, "doubled_pair", {again, b.hinge});
}

TEST(Advice, FarJoint) {
  Bench b;
  Joint& j = *b.rig.joint(b.hinge);
  j.a = sideAt(b.rig, b.post, {9, 1, 0}, Vec3::UnitY());
  j.b = sideAt(b.rig, b.crate, {9, 1, 0}, Vec3::UnitY());
  expectMended(b.rig, "far_joint", {b.hinge});
}

TEST(Advice, Misfit) {
  Bench b;
  b.rig.joint(b.hinge)->b.at += Vec3(0, 0.05, 0);
  expectMended(b.rig, "misfit", {b.hinge});
}

TEST(Advice, Overlap) {
  Bench b;
  const Id other = addBox(b.rig, "chest", {0.7, 1, 0});
  join(b.rig, JointType::fixed, b.post, other);
  expectMended(b.rig, "overlap", {b.crate, other});
}

TEST(Advice, CollidingNeighbours) {
  Bench b;
  b.rig.part(b.crate)->pose.position.x() = 0.2;
  b.rig.joint(b.hinge)->neighboursCollide = true;
  expectMended(b.rig, "colliding_neighbours", {b.hinge});
}

TEST(Advice, StopAtRest) {
  Bench b;
  b.rig.joint(b.hinge)->axes[0].low = 0.3, b.rig.joint(b.hinge)->axes[0].high = 1;
  expectMended(b.rig, "stop_at_rest", {b.hinge});
}

TEST(Advice, LockedByStops) {
  Bench b;
  b.rig.joint(b.hinge)->axes[0].low = b.rig.joint(b.hinge)->axes[0].high = 0;
  expectMended(b.rig, "locked_by_stops", {b.hinge});
}

TEST(Advice, MotorWithoutStrength) {
  Bench b;
  b.rig.joint(b.hinge)->axes[0].speed = 2;
  expectMended(b.rig, "motor_without_strength", {b.hinge});
}

TEST(Advice, TargetWithoutSpring) {
  Bench b;
  b.rig.joint(b.hinge)->axes[0].target = 0.5;
  expectMended(b.rig, "target_without_spring", {b.hinge});
}

TEST(Advice, WeakStrength) {
  Bench b;
  const double weight = b.rig.part(b.crate)->mass() * 9.81;
  b.rig.joint(b.hinge)->breakForce = 0.9 * weight;
  expectMended(b.rig, "weak_strength", {b.hinge});
  b.rig.joint(b.hinge)->breakForce = 1.1 * weight;
  for (const Finding& f : adviceFor(b.rig)) EXPECT_NE(f.rule, "weak_strength") << f.evidence;
}

TEST(Advice, MassRatio) {
  Bench b;
  const Id speck = addBox(b.rig, "speck", {0.9, 1, 0});
  b.rig.part(speck)->heft = Mass{1e-6};
  join(b.rig, JointType::ball, b.crate, speck);
  expectMended(b.rig, "mass_ratio", {speck});
}

TEST(Advice, SpringBeyondTheStep) {
  Bench b;
  b.rig.joint(b.hinge)->axes[0].frequency = 200;
  expectMended(b.rig, "spring_beyond_step", {b.hinge});
}

TEST(Advice, OddSizeAndDensity) {
  Bench b;
  const Id crumb = addBox(b.rig, "crumb", {1, 1, 0}, Vec3::Constant(5e-4));
  join(b.rig, JointType::spring, b.crate, crumb);
  expectMended(b.rig, "odd_size", {crumb});
  Bench c;
  c.rig.part(c.crate)->heft = Density{100000};
  expectMended(c.rig, "odd_density", {c.crate});
}

TEST(Advice, FallsAway) {
  Bench b;
  const Id sledge = addBox(b.rig, "sledge", {-0.5, 1, 0});
  const Id rail = addJoint(b.rig, JointType::slider, b.post, sledge, {-0.2, 1, 0}, Vec3::UnitY());
  expectMended(b.rig, "falls_away", {rail});
}

TEST(Advice, MaskedLayer) {
  Bench b;
  b.rig.part(b.crate)->layer = "ghosts";
  for (const char* other : {"", "ghosts"}) b.rig.stage.layersApart.emplace_back("ghosts", other);
  expectMended(b.rig, "masked_layer", {b.crate});
}

}  // namespace
}  // namespace calm::rig
