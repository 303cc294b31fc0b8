// SPDX-License-Identifier: GPL-3.0-or-later
// Chains under loads: joints hold, energy stays, forces are the weights below.
#include <gtest/gtest.h>

#include <functional>
#include <utility>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct Load {
  const char* name;
  ChainPlan plan;
  double separation;    // m, allowed
  double energyChange;  // of the swing's energy, allowed
  double seconds = 10;
};

class LoadedChain : public testing::TestWithParam<Load> {};

TEST_P(LoadedChain, HoldsAndKeepsItsEnergy) {
  Chain chain = makeChain(GetParam().plan);
  const Watch w = watch(chain.world, GetParam().seconds);
  report(std::string(GetParam().name) + " separation", w.separation * 1e3, GetParam().separation * 1e3, "mm");
  report(std::string(GetParam().name) + " energy change", std::max(w.gain, w.loss) / chain.swing * 100,
         GetParam().energyChange * 100, "%");
  EXPECT_LE(w.separation, GetParam().separation);
  EXPECT_LE(std::max(w.gain, w.loss), GetParam().energyChange * chain.swing);
}

constexpr double k45 = kPi / 4;
INSTANTIATE_TEST_SUITE_P(
    Released45, LoadedChain,
    testing::Values(Load{"40 links, 500 kg", {40, 0.05, 0.2, 500, k45}, 1e-5, 5e-4},
                    Load{"40 links, 50 t", {40, 0.05, 0.2, 50e3, k45}, 1e-5, 5e-4},
                    Load{"100 links, 10 kg", {100, 0.05, 0.1, 10, k45}, 1e-5, 2e-4},
                    Load{"100 links, 100 t", {100, 0.05, 0.1, 100e3, k45}, 1e-5, 2e-4},
                    Load{"100 links, 10 kg, 60 s", {100, 0.05, 0.1, 10, k45}, 1e-5, 5e-4, 60},
                    Load{"100 links, 100 t, 60 s", {100, 0.05, 0.1, 100e3, k45}, 1e-5, 5e-4, 60},
                    Load{"40 hinges, 500 kg", {40, 0.05, 0.2, 500, k45, JointType::hinge}, 1e-5, 5e-4},
                    Load{"40 hinges, 50 t", {40, 0.05, 0.2, 50e3, k45, JointType::hinge}, 1e-5, 5e-4}),
    [](const auto& load) {
      std::string name;
      for (const char* c = load.param.name; *c; ++c)
        if (std::isalnum(static_cast<unsigned char>(*c))) name += *c;
      return name;
    });

TEST(BareChain, CracksLikeAWhipWithoutGainingEnergy) {
  Chain chain = makeChain({100, 0.05, 0.1, 0, k45});
  const Watch w = watch(chain.world, 60);
  report("bare chain 45 deg separation", w.separation * 1e3, 2, "mm");
  report("bare chain 45 deg energy gain", w.gain / chain.swing * 100, 2, "%");
  report("bare chain 45 deg energy loss", w.loss / chain.swing * 100, 5, "%");
  EXPECT_LE(w.separation, 2e-3);
  EXPECT_LE(w.gain, 0.02 * chain.swing);
}

TEST(BareChain, HoldsInAFullWhip) {
  Chain chain = makeChain({100, 0.05, 0.1, 0, kPi / 2});
  const Watch w = watch(chain.world, 10);
  report("bare chain 90 deg separation", w.separation * 1e3, 30, "mm");
  report("bare chain 90 deg energy gain", w.gain / chain.swing * 100, 0.1, "%");
  EXPECT_LE(w.separation, 30e-3);
  EXPECT_LE(w.gain, 1e-3 * chain.swing);
}

// Short ones, that snap taut and crack over and over, alone and with a ball of a hundred links' weight: rigid rods lose
// nothing by that. What the substeps cannot follow is done with more of them.
TEST(ShortChains, CrackWithoutLosingEnergy) {
  double apart = 0, off = 0;
  for (const int links : {3, 10, 20})
    for (const double degrees : {90.0, 170.0})
      for (const double payload : {0.0, 10.0}) {
        Chain chain = makeChain({links, 0.05, 0.1, payload, degrees * kPi / 180});
        double most = 0;
        const double start = chain.world.energy().total();
        double worst = 0;
        for (int f = 0; f < 150; ++f) {
          apart = std::max(apart, chain.world.step().linear);
          most = std::max(most, chain.world.energy().kinetic);
          worst = std::max(worst, std::abs(chain.world.energy().total() - start));
        }
        off = std::max(off, worst / most);
        EXPECT_LE(worst, 2e-3 * most) << links << " links, " << degrees << " degrees, " << payload << " kg";
      }
  report("short chains snapping taut, separation", apart * 1e3, 0.01, "mm");
  report("short chains snapping taut, energy change", off * 100, 0.2, "%");
  EXPECT_LE(apart, 1e-5);
}

// What acts on a chain from outside: too weak to be seen, or as it would be seen by someone who moves with it.
struct Outside {
  const char* name;
  double anchorSpeed = -1, damping = 0;  // m/s, below zero: the anchor is fixed; 1/s
  std::function<void(World&, BodyId)> act = [](World&, BodyId) {};
};
std::ostream& operator<<(std::ostream& out, const Outside& outside) {
  return out << outside.name;
}

class DrivenChain : public testing::TestWithParam<Outside> {};

// A chain of forty rods released level cracks like a whip, and gains nothing by it.
TEST_P(DrivenChain, CracksWithoutGainingEnergy) {
  constexpr int kLinks = 40;
  constexpr double kLength = 0.1, kMass = 0.1;
  const Vec3 along(std::max(0.0, GetParam().anchorSpeed), 0, 0);
  World world;
  BodyDef anchor;
  anchor.role = GetParam().anchorSpeed < 0 ? Role::fixed : Role::kinematic;
  anchor.velocity = along;
  BodyId above = world.addBody(anchor);
  Vec3 end = Vec3::Zero();
  std::vector<BodyId> links;
  for (int i = 0; i < kLinks; ++i) {
    BodyDef def = solid(Box{{kLength, 0.02, 0.02}}, kMass, {{kLength * (i + 0.5), 0, 0}});
    def.velocity = along;
    def.linearDamping = GetParam().damping;
    const BodyId link = world.addBody(def);
    world.addJoint(joint(JointType::ball, above, end, link, {-kLength / 2, 0, 0}));
    links.push_back(link);
    above = link, end = {kLength / 2, 0, 0};
  }
  // As seen by the anchor.
  const auto energy = [&] {
    double momentum = 0;
    for (const BodyId id : links) momentum += kMass * world.state(id).velocity.x();
    return world.energy().total() - along.x() * momentum + 0.5 * kLinks * kMass * along.squaredNorm();
  };
  const double start = energy(), swing = kLinks * kMass * kGravity * kLinks * kLength / 2;
  double gain = 0;
  for (int i = 0; i < 600; ++i) {
    GetParam().act(world, above);
    world.step();
    gain = std::max(gain, energy() - start);
  }
  report(std::string("chain, ") + GetParam().name + ": energy gained", gain / swing * 100, 2, "%");
  EXPECT_LE(gain, 0.02 * swing);
}
INSTANTIATE_TEST_SUITE_P(Outside, DrivenChain,
                         testing::Values(Outside{.name = "held by hand", .anchorSpeed = 0},
                                         Outside{.name = "carried along", .anchorSpeed = 3},
                                         Outside{.name = "damped", .damping = 1e-9},
                                         Outside{.name = "in a breath of air",
                                                 .act =
                                                     [](World& world, BodyId) {
                                                       if (world.time() == 0) world.addField({Wind{{}, 1e-9, 0}, {}});
                                                     }},
                                         Outside{.name = "attracted",
                                                 .act =
                                                     [](World& world, BodyId) {
                                                       if (world.time() == 0)
                                                         world.addField({Attraction{{}, 1e-9, 0}, {}});
                                                     }},
                                         Outside{.name = "turned",
                                                 .act =
                                                     [](World& world, BodyId end) {
                                                       world.addTorque(end, {0, 0, 1e-9});
                                                     }},
                                         Outside{.name = "pushed", .act = [](World& world, BodyId end) {
                                                   if (world.time() == 0)
                                                     world.addPush({.body = end, .force = {1e-9, 0, 0}});
                                                 }}));

TEST(Chain, ReleasedLevelWithATonne) {
  Chain chain = makeChain({100, 0.05, 0.1, 1000, kPi / 2});
  const Watch w = watch(chain.world, 10);
  report("90 deg, 1 t separation", w.separation * 1e3, 0.2, "mm");
  report("90 deg, 1 t energy change", std::max(w.gain, w.loss) / chain.swing * 100, 1, "%");
  EXPECT_LE(w.separation, 0.2e-3);
  EXPECT_LE(std::max(w.gain, w.loss), 0.01 * chain.swing);
}

// Swinging out of the plane, as a spherical pendulum: the moment of momentum about the vertical stays, too.
TEST(Chain, SwingsInThreeDimensions) {
  Chain chain = makeChain({.payload = 500, .angle = k45, .turning = 1.5});
  const auto upright = [&] { return chain.world.angularMomentum(Vec3::Zero()).y(); };
  const double before = upright();
  const Watch w = watch(chain.world, 20);
  report("3D swing separation", w.separation * 1e3, 3, "mm");
  report("3D swing energy gain", w.gain / chain.swing * 100, 0.02, "%");
  report("3D swing moment of momentum about the vertical", std::abs(upright() / before - 1), 1e-3, "");
  EXPECT_LE(w.separation, 1e-5);
  EXPECT_LE(w.gain, 2e-4 * chain.swing);
  EXPECT_NEAR(upright() / before, 1, 1e-3);
}

// Each hinge's axis is turned by 30 degrees against the one before, so that the chain can only bend by twisting.
TEST(Chain, TwistedOneHoldsAndGainsNothing) {
  Chain chain = makeChain({.payload = 500, .angle = k45, .type = JointType::hinge, .twist = kPi / 6, .turning = 1});
  const Watch w = watch(chain.world, 10);
  report("twisted hinge chain separation", w.separation * 1e3, 3, "mm");
  report("twisted hinge chain energy gain", w.gain / chain.swing * 100, 0.1, "%");
  EXPECT_LE(w.separation, 3e-3);
  EXPECT_LE(w.gain, 1e-3 * chain.swing);
}

TEST(HangingChain, EachJointCarriesTheWeightBelow) {
  const ChainPlan plan{40, 0.05, 0.2, 500, 0};
  Chain chain = makeChain(plan);
  watch(chain.world, 1);
  double worst = 0;
  for (JointId j = 0; j < chain.world.jointCount(); ++j) {
    const double below = (plan.payload + plan.mass * (plan.links - j)) * kGravity;
    worst = std::max(worst, std::abs(chain.world.reading(j).force.norm() / below - 1));
    worst = std::max(worst, std::abs(chain.world.reading(j).forceNow.norm() / below - 1));
  }
  report("hanging chain force", worst * 100, 0.1, "%");
  EXPECT_LE(worst, 1e-3);
}

// With no outside force the momentum and the angular momentum of a tumbling chain stay, whatever its joints do.
TEST(FreeChain, KeepsItsMomenta) {
  World world({.gravity = Vec3::Zero()});
  BodyId above = -1;
  for (int i = 0; i < 12; ++i) {
    BodyDef def = solid(Box{{0.05, 0.2, 0.02}}, 0.3 + 0.1 * i, {{0, 0.2 * i, 0}, Quat::Identity()});
    def.velocity = Vec3(0.4 * i, 0, 0.1 * i * i);
    const BodyId link = world.addBody(def);
    if (above >= 0) world.addJoint(joint(JointType::ball, above, {0, 0.1, 0}, link, {0, -0.1, 0}));
    above = link;
  }
  world.step();  // the first solve brings the given velocities onto the joints, with inner impulses only
  const Vec3 p = world.momentum(), l = world.angularMomentum(Vec3::Zero());
  const Watch w = watch(world, 10);
  report("free chain momentum change", (world.momentum() - p).norm() / p.norm(), 1e-10, "");
  EXPECT_LE((world.momentum() - p).norm(), 1e-10 * p.norm());
  // Geometric stiffness lends the links inertia against each other, which is second order in the step.
  report("free chain angular momentum change", (world.angularMomentum(Vec3::Zero()) - l).norm() / l.norm(), 1e-3, "");
  EXPECT_LE((world.angularMomentum(Vec3::Zero()) - l).norm(), 1e-3 * l.norm());
  EXPECT_LE(w.separation, 1e-5);
}

// 57 links closed into a ring with a hundredweight on it, dropped from the level.
TEST(Ring, HoldsWhenDropped) {
  World world;
  constexpr int kLinks = 57;
  const double side = 0.05, radius = side / (2 * std::sin(kPi / kLinks));
  const auto corner = [&](int i) {
    const double angle = 2 * kPi * i / kLinks;
    return Vec3(radius * std::cos(angle) - radius, 0, radius * std::sin(angle));
  };
  std::vector<BodyId> links;
  for (int i = 0; i < kLinks; ++i) {
    const Vec3 from = corner(i), to = corner(i + 1);
    const Quat along = turnBetween(Vec3::UnitY(), (to - from).normalized());
    links.push_back(world.addBody(solid(Capsule{0.01, side}, 0.1, {(from + to) / 2, along})));
  }
  for (int i = 0; i < kLinks; ++i)
    world.addJoint(joint(JointType::ball, links[i], {0, side / 2, 0}, links[(i + 1) % kLinks], {0, -side / 2, 0}));
  world.addJoint(joint(JointType::ball, kWorld, corner(0), links[0], {0, -side / 2, 0}));
  const double stone = 0.34;
  const BodyId payload =
      world.addBody(solid(Box{Vec3::Constant(stone)}, 100, {corner(28) - Vec3(0, stone / 2, 0), Quat::Identity()}));
  world.addJoint(joint(JointType::ball, links[28], {0, -side / 2, 0}, payload, {0, stone / 2, 0}));
  const Watch w = watch(world, 10);
  const double fall = 106 * kGravity * 1.4;
  report("ring separation", w.separation * 1e3, 3, "mm");
  report("ring energy gain", w.gain / fall * 100, 0.1, "%");
  report("ring energy loss", w.loss / fall * 100, 100, "%");
  EXPECT_LE(w.separation, 3e-3);
  EXPECT_LE(w.gain, 1e-3 * fall);
}

// A chain that hangs folded from both ends, one of which is let go, falls faster than freely, for what has come to rest
// hands its energy on (Calkin and March, American Journal of Physics 57, 1989; Schagerl et al., Acta Mechanica 125,
// 1997): with x its fall, (L - x) v^2 / 4 = g (x L / 2 - x^2 / 4). So does one of links, which ends in a whip's crack.
TEST(FoldedChain, FallsFasterThanFreely) {
  constexpr double kLength = 1, kDown = 0.9 * kLength, kEnough = 0.005;
  double expected = 0;
  constexpr int kParts = 100000;
  for (int i = 0; i < kParts; ++i) {
    // Over u with x = u^2, for the sake of the beginning.
    const double du = std::sqrt(kDown) / kParts, u = (i + 0.5) * du, x = u * u;
    expected += 2 * u * du / std::sqrt(kGravity * x * (2 * kLength - x) / (kLength - x));
  }
  for (const int links : {81, 201}) {
    const double length = kLength / links, mass = 1.0 / links;
    const int side = links / 2;
    const Quat up = Quat::Identity(), down(Eigen::AngleAxisd(kPi, Vec3::UnitZ())),
               across(Eigen::AngleAxisd(-kPi / 2, Vec3::UnitZ()));
    World world;
    BodyId above = kWorld;
    Vec3 end = Vec3::Zero();  // of the chain so far
    for (int i = 0; i < links; ++i) {
      const Quat& turn = i < side ? down : i == side ? across : up;
      const Vec3 middle = end + turn * Vec3(0, length / 2, 0);
      const BodyId link = world.addBody(solid(Capsule{0.05 * length, length}, mass, {middle, turn}));
      const Vec3 onAbove(0, above == kWorld ? 0 : length / 2, 0);
      world.addJoint(joint(JointType::ball, above, onAbove, link, Vec3(0, -length / 2, 0)));
      above = link, end += turn * Vec3(0, length, 0);
    }
    const double start = world.energy().total();
    double before = 0, fallen = 0, stray = 0;
    while (fallen < kDown && world.time() < 1) {
      world.step();
      before = std::exchange(fallen, -world.state(above).pose.apply(Vec3(0, length / 2, 0)).y());
      stray = std::max(stray, std::abs(world.energy().total() - start));
    }
    const double time = world.time() - world.settings().frame * (fallen - kDown) / (fallen - before);
    const std::string chain = "folded chain of " + std::to_string(links) + " links, ";
    report(chain + "time of its fall", time / expected - 1, kEnough, "of it");
    report(chain + "energy", stray / (kGravity * kLength / 4), 1e-3, "of what the fall gives");
    EXPECT_NEAR(time, expected, kEnough * expected) << links;
    EXPECT_LE(stray, 1e-3 * kGravity * kLength / 4) << links;
  }
}

}  // namespace
}  // namespace calm::physics
