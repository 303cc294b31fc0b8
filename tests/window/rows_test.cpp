// SPDX-License-Identifier: GPL-3.0-or-later
// The Ledger's order and rail.
#include "app/ledger/rows.h"

#include <gtest/gtest.h>

#include "rig/edits.h"

namespace calm::app {
namespace {

// A four-bar linkage on a post, with a loose crate beside it.
struct Linkage {
  rig::Rig rig;
  rig::Id post, left, bar, right, crate;

  Linkage() {
    const auto add = [&](const char* name, double x, double y, Role role) {
      rig::Part p;
      p.name = name;
      p.role = role;
      p.shape = calm::Box{{0.1, 0.1, 0.1}};
      p.pose.position = {x, y, 0};
      return rig::addPart(rig, p);
    };
    post = add("post", 0, 0, Role::fixed);
    left = add("left", -1, 1, Role::dynamic);
    bar = add("bar", 0, 2, Role::dynamic);
    right = add("right", 1, 1, Role::dynamic);
    crate = add("crate", 5, 0, Role::dynamic);
    for (const auto& [a, b] :
         {std::pair(post, left), std::pair(left, bar), std::pair(bar, right), std::pair(right, post)})
      rig::addJoint(rig, JointType::hinge, a, b, rig::likelyPivot(rig, a, b), Vec3::UnitZ());
  }
};

TEST(LedgerRows, FollowTheRailFromWhatIsHeld) {
  const Linkage l;
  const auto rows = ledgerRows(l.rig, {});
  ASSERT_EQ(rows.size(), 6u);
  EXPECT_EQ(rows[0].kind, LedgerRow::Kind::held);
  EXPECT_EQ(rows[0].id, l.post);
  EXPECT_EQ(rows[1].parent, 0);
  EXPECT_EQ(rows[2].parent, 1);
  EXPECT_EQ(rows[3].parent, 2);
  EXPECT_EQ(rows[5].kind, LedgerRow::Kind::loose);
  EXPECT_EQ(rows[5].id, l.crate);
}

TEST(LedgerRows, LoopRejoinsTheRowItClosesOn) {
  const Linkage l;
  const auto rows = ledgerRows(l.rig, {});
  EXPECT_EQ(rows[4].rejoins, 0);
  for (int r = 0; r < 4; ++r) EXPECT_EQ(rows[r].rejoins, -1);
}

TEST(LedgerRows, EveryJointHasOneRow) {
  const Linkage l;
  std::set<std::size_t> seen;
  for (const LedgerRow& r : ledgerRows(l.rig, {}))
    for (std::size_t j : r.joints) EXPECT_TRUE(seen.insert(j).second);
  EXPECT_EQ(seen.size(), l.rig.joints.size());
}

TEST(LedgerRows, BranchesTakeTheNextColumn) {
  rig::Rig rig;
  rig::Part p;
  p.shape = calm::Sphere{0.1};
  p.name = "hub";
  const rig::Id hub = rig::addPart(rig, p);
  rig::addJoint(rig, JointType::ball, rig::kNone, hub, {0, 0.1, 0}, Vec3::UnitX());
  for (int i = 0; i < 3; ++i) {
    p.pose.position = {i - 1.0, -1, 0};
    rig::addJoint(rig, JointType::ball, hub, rig::addPart(rig, p), {0, 0, 0}, Vec3::UnitX());
  }
  const auto rows = ledgerRows(rig, {});
  ASSERT_EQ(rows.size(), 5u);
  for (int r = 2; r < 5; ++r) {
    EXPECT_EQ(rows[r].parent, 1);
    EXPECT_EQ(rows[r].column, rows[1].column + 1);
  }
}

// A cart that stands on its wheels is tied to nothing that is held, and yet not loose.
TEST(LedgerRows, AnAssemblyThatIsFreeIsNotLoose) {
  rig::Rig rig;
  rig::Part part;
  part.name = "cart";
  const rig::Id cart = rig::addPart(rig, part);
  part.name = "wheel";
  const rig::Id wheel = rig::addPart(rig, part);
  rig::addJoint(rig, JointType::wheel, cart, wheel, Vec3::Zero(), Vec3::UnitZ());
  part.name = "crate";
  rig::addPart(rig, part);
  const std::vector<LedgerRow> rows = ledgerRows(rig, {});
  ASSERT_EQ(rows.size(), 3u);
  EXPECT_EQ(rows[0].kind, LedgerRow::Kind::free);
  EXPECT_EQ(rows[1].kind, LedgerRow::Kind::joint);
  EXPECT_EQ(rows[2].kind, LedgerRow::Kind::loose);
}

}  // namespace
}  // namespace calm::app
