// SPDX-License-Identifier: GPL-3.0-or-later
// What comes down on a corner, an edge or a rim, turning: one point is struck, at the instant at which it touches.
#include <gtest/gtest.h>

#include <memory>
#include <utility>
#include <vector>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"
#include "physics/random.h"

namespace calm::physics {
namespace {

enum class Floor { plane, plate, mesh };

// With a sharp edge between the first two corners: the blunt face at the first looks down more than those at the edge.
std::vector<Vec3> wedgeCorners() {
  return {{-0.05, -0.1, 0},  {0.15, -0.1, 0},    {-0.25, -0.04, 0.1}, {-0.25, -0.04, -0.1},
          {-0.05, 0.1, 0.1}, {-0.05, 0.1, -0.1}, {0.15, 0.1, 0}};
}

Shape wedge() {
  return ConvexHull{std::make_shared<HullData>(makeHull(wedgeCorners()))};
}

// A body that is thrown down, the same for the same seed.
class Thrown : private Random {
 public:
  Thrown(const Shape& shape, unsigned seed) : Random(seed), def_(tangible(shape, 1)) {
    def_.restitution = whole(2) == 0 ? 0.5 : 1;
    def_.friction = 0.4 * whole(3);
    def_.pose = {Vec3(0, 0.5, 0), rotation()};
    def_.velocity = Vec3(uniform(-1, 1), -uniform(1, 5), uniform(-1, 1));
    def_.angularVelocity = vector(5);
  }

  void setRestitution(double restitution) { def_.restitution = restitution; }

  // With its floor where that has its middle.
  World over(Floor floor, const StepSettings& settings, const Vec3& middle = Vec3::Zero()) const {
    World world(settings);
    BodyDef below = ground(def_.friction), thrown = def_;
    if (floor == Floor::plate) below.shapes = {{Box{{20, 1, 20}}, {}}}, below.pose.position.y() = -0.5;
    if (floor == Floor::mesh) below.shapes = {{tiles(), {}}};
    below.restitution = def_.restitution;
    below.pose.position += middle, thrown.pose.position += middle;
    world.addBody(thrown);
    world.addBody(below);
    return world;
  }

  static Shape tiles() {
    constexpr int kSide = 8;
    const std::vector<double> heights(kSide * kSide, 0);
    return TriangleMesh{std::make_shared<MeshData>(makeHeightField(kSide, kSide, 3, 3, heights))};
  }

  Vec3 angularMomentum(const BodyState& state) const {
    const Mat3 axes = state.pose.rotation.toRotationMatrix();
    return axes * def_.mass.inertia * axes.transpose() * state.angularVelocity;
  }

 private:
  BodyDef def_;
};

struct Kind {
  const char* name;
  Shape shape;
};
std::ostream& operator<<(std::ostream& out, const Kind& kind) {
  return out << kind.name;
}

class Corner : public testing::TestWithParam<Kind> {};

constexpr unsigned kThrows = 24;
constexpr BodyId kBody = 1;

// Steps until it is struck; returns the states before and after.
std::pair<BodyState, BodyState> strike(World& world) {
  constexpr double kStruck = 0.5;  // m/s, that gravity does not give it in a frame
  BodyState before = world.state(kBody), after = before;
  for (int i = 0; i < 480 && (after.velocity - before.velocity).norm() < kStruck; ++i) {
    before = after;
    world.step();
    after = world.state(kBody);
  }
  return {before, after};
}

// Whatever friction and restitution do, an impulse p at one point changes the angular momentum by r x p, which has
// nothing along p: no couple acts, as the pressure of a face that lies flat would have it.
TEST_P(Corner, TakesNoCouple) {
  constexpr double kRoundOff = 1e-12;
  double worst = 0;
  for (unsigned seed = 1; seed <= kThrows; ++seed) {
    const Thrown thrown(GetParam().shape, seed);
    World world = thrown.over(Floor::plate, {.gravity = Vec3::Zero(), .frame = 1 / 480.0, .substeps = 1});
    const auto [before, after] = strike(world);
    const Vec3 impulse = after.velocity - before.velocity;
    const Vec3 turned = thrown.angularMomentum(after) - thrown.angularMomentum(before);
    ASSERT_GT(impulse.norm(), 0.1) << "seed " << seed;
    worst = std::max(worst, std::abs(turned.dot(impulse)) / (turned.norm() * impulse.norm()));
  }
  report(std::string("couple in an impact at one point, ") + GetParam().name, worst, kRoundOff, "of the moment");
  EXPECT_LT(worst, kRoundOff);
}

// A plane, the top of a large block and level triangles are the same to what falls on them, and so are long and short
// steps.
TEST_P(Corner, BouncesAlikeOnAnyFloorAtAnyStep) {
  double byFloor = 0, byStep = 0;
  for (unsigned seed = 1; seed <= kThrows; ++seed) {
    const Thrown thrown(GetParam().shape, seed);
    World plane = thrown.over(Floor::plane, {}), plate = thrown.over(Floor::plate, {}),
          mesh = thrown.over(Floor::mesh, {}), fine = thrown.over(Floor::plate, {.substeps = 32});
    const auto [before, struck] = strike(plate);
    const double speed = before.velocity.norm();
    for (World* other : {&plane, &mesh})
      byFloor = std::max(byFloor, (strike(*other).second.velocity - struck.velocity).norm() / speed);
    byStep = std::max(byStep, (strike(fine).second.velocity - struck.velocity).norm() / speed);
  }
  report(std::string("bounce on a corner: plane, plate and mesh differ, ") + GetParam().name, byFloor, 1e-3,
         "of the speed");
  report(std::string("bounce on a corner: 8 and 32 substeps differ, ") + GetParam().name, byStep, 1e-3, "of the speed");
  EXPECT_LT(byFloor, 1e-3);
  EXPECT_LT(byStep, 1e-3);
}

// Without restitution it goes on from the touch, which wanders over a rim: how, is known from the first.
TEST_P(Corner, LandsAlikeAtAnyStep) {
  double worst = 0;
  for (unsigned seed = 1; seed <= kThrows; ++seed) {
    Thrown thrown(GetParam().shape, seed);
    thrown.setRestitution(0);
    World world = thrown.over(Floor::plate, {});
    const auto [before, landed] = strike(world);
    for (const int substeps : {32, 256}) {
      World other = thrown.over(Floor::plate, {.substeps = substeps});
      const double off = (strike(other).second.velocity - landed.velocity).norm();
      worst = std::max(worst, off / before.velocity.norm());
    }
  }
  report(std::string("landing on a corner: 8, 32 and 256 substeps differ, ") + GetParam().name, worst, 5e-3,
         "of the speed");
  EXPECT_LT(worst, 5e-3);
}

// Where in the world it is makes no difference but by round-off, which may not decide what touches, nor how that moves.
TEST_P(Corner, LandsAlikeAnywhere) {
  constexpr double kRoundOff = 1e-4;  // m/s, what it comes to by several impacts
  const Vec3 elsewhere(37.3, 12.9, -51.7);
  double worst = 0;
  for (const Floor floor : {Floor::plane, Floor::plate, Floor::mesh})
    for (unsigned seed = 1; seed <= kThrows; ++seed) {
      Thrown thrown(GetParam().shape, seed);
      thrown.setRestitution(0);
      World here = thrown.over(floor, {}), there = thrown.over(floor, {}, elsewhere);
      for (int frame = 0; frame < 45; ++frame) {
        here.step(), there.step();
        worst = std::max(worst, (here.state(kBody).velocity - there.state(kBody).velocity).norm());
      }
    }
  report(std::string("landing here and 65 m away differ, ") + GetParam().name, worst, kRoundOff, "m/s");
  EXPECT_LT(worst, kRoundOff);
}

INSTANTIATE_TEST_SUITE_P(Shapes, Corner,
                         testing::Values(Kind{"box", Box{{0.3, 0.2, 0.4}}}, Kind{"capsule", Capsule{0.08, 0.5}},
                                         Kind{"cylinder", Cylinder{0.15, 0.2}}, Kind{"rod", Cylinder{0.06, 0.4}},
                                         Kind{"wedge", wedge()}));

// As it tumbles every corner meets the floor in its turn, whichever face looks down.
TEST(Wedge, KeepsAllCornersOutOfTheFloor) {
  constexpr double kDeepest = 1e-3;  // m
  double deepest = 0;
  for (const Floor floor : {Floor::plane, Floor::plate, Floor::mesh})
    for (unsigned seed = 1; seed <= kThrows; ++seed) {
      Thrown thrown(wedge(), seed);
      thrown.setRestitution(0);
      World world = thrown.over(floor, {});
      for (int frame = 0; frame < 90; ++frame) {
        world.step();
        for (const Vec3& corner : wedgeCorners())
          deepest = std::max(deepest, -world.state(kBody).pose.apply(corner).y());
      }
    }
  report("corners of a wedge that tumbles, in the floor", deepest, kDeepest, "m");
  EXPECT_LT(deepest, kDeepest);
}

// Of energy in a frame, as a share of what there was at first.
double largestGain(World& world, int frames) {
  const double all = world.energy().total();
  double last = all, largest = 0;
  for (int frame = 0; frame < frames; ++frame) {
    world.step();
    largest = std::max(largest, (world.energy().total() - last) / all);
    last = world.energy().total();
  }
  return largest;
}

// A cylinder that comes down on its rim with little tilt, spinning, and claps over: the touch runs round the rim in
// less than a step. However fast it does, nothing is gained (the need: no more than 1 % of what was put in).
TEST(Rim, ThatClapsOverGivesNoEnergy) {
  constexpr double kNeeded = 0.01;
  struct Throw {
    double height;
    Quat rotation;
    Vec3 velocity, spin;
  };
  const Throw throws[] = {{0.2485973658,
                           {-0.809534, 0.172296, -0.560671, -0.024840},
                           {-0.538035, -3.088051, 1.607992},
                           {5.685404, 3.687359, -7.738889}},
                          {0.2526410478,
                           {-0.013967, 0.648122, 0.038142, 0.760453},
                           {-0.499511, -3.382016, -1.616414},
                           {3.459442, 4.793507, -1.381165}}};
  double worst = 0;
  for (const auto& [height, rotation, velocity, spin] : throws)
    for (int i = 0; i < 100; ++i) {
      World world;
      world.addBody(ground(0.3));
      BodyDef def = tangible(Cylinder{0.1, 0.3}, 1, {{0, height + 2e-4 * i, 0}, rotation.normalized()});
      def.friction = 0.3;
      def.velocity = velocity, def.angularVelocity = spin;
      world.addBody(def);
      worst = std::max(worst, largestGain(world, 30));
    }
  report("clapping over on a rim, largest gain of energy in a frame", 100 * worst, 100 * kNeeded, "%");
  EXPECT_LE(worst, kNeeded);
}

// Cylinders of any shape thrown on a plane, far from where its origin happens to be or near to it, with up to 20 rad/s.
TEST(Rim, ThrownAnyhowGivesNoEnergy) {
  constexpr double kNeeded = 0.01;
  double worst = 0;
  for (unsigned seed = 1; seed <= 500; ++seed) {
    Random random(seed);
    World world;
    const double friction = random.uniform(0, 1);
    world.addBody(ground(friction));
    const Shape shape = Cylinder{random.uniform(0.03, 0.4), random.uniform(0.03, 0.8)};
    BodyDef def = tangible(shape, 1, {{0, random.uniform(0.6, 1.2), 0}, random.rotation()});
    def.friction = friction;
    def.velocity = Vec3(random.uniform(-3, 3), -random.uniform(0, 6), random.uniform(-3, 3));
    def.angularVelocity = random.uniform(0, 20) * random.vector(1).normalized();
    world.addBody(def);
    worst = std::max(worst, largestGain(world, 60));
  }
  report("cylinders thrown anyhow, largest gain of energy in a frame", 100 * worst, 100 * kNeeded, "%");
  EXPECT_LT(worst, kNeeded);
}

}  // namespace
}  // namespace calm::physics
