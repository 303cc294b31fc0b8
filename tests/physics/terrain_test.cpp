// SPDX-License-Identifier: GPL-3.0-or-later
// Contact with hulls, meshes and thin plates; layers, materials, sleep, threads.
#include <gtest/gtest.h>
#include <tbb/global_control.h>

#include <random>

#include "engine/shape/hull.h"
#include "engine/shape/mesh.h"
#include "physics/rigs.h"
#include "physics/surfaces.h"

namespace calm::physics {
namespace {

BodyDef terrain(int cells, double spacing, const std::function<double(double, double)>& height, double friction = 0.5) {
  std::vector<double> heights;
  for (int r = 0; r <= cells; ++r)
    for (int c = 0; c <= cells; ++c)
      heights.push_back(height((c - cells / 2.0) * spacing, (r - cells / 2.0) * spacing));
  BodyDef def;
  def.role = Role::fixed;
  def.shapes = {
      {TriangleMesh{std::make_shared<MeshData>(makeHeightField(cells + 1, cells + 1, spacing, spacing, heights))}, {}}};
  def.friction = friction;
  return def;
}

Shape hullBox(const Vec3& size) {
  std::vector<Vec3> points;
  for (int i = 0; i < 8; ++i)
    points.push_back(Vec3(i & 1 ? 0.5 : -0.5, i & 2 ? 0.5 : -0.5, i & 4 ? 0.5 : -0.5).cwiseProduct(size));
  return ConvexHull{std::make_shared<HullData>(makeHull(points))};
}

void run(World& world, double seconds) {
  for (long i = std::lround(seconds / world.settings().frame); i > 0; --i) world.step();
}

// A ball that rolls over a flat mesh must not notice the seams: after pure rolling sets in at 5/7 of its first speed,
// it keeps it.
TEST(Terrain, BallRollsOverSeamsAsOverAPlane) {
  World world;
  world.addBody(terrain(40, 0.25, [](double, double) { return 0.0; }));
  const BodyId ball = world.addBody(tangible(Sphere{0.1}, 1, {{-4, 0.1, 0.03}}));
  world.setVelocity(ball, {2, 0, 0.1}, Vec3::Zero());
  double highest = 0;
  for (int i = 0; i < 240; ++i) world.step(), highest = std::max(highest, world.state(ball).pose.position.y());
  EXPECT_NEAR(world.state(ball).velocity.x(), 2 * 5.0 / 7, 0.005);
  EXPECT_LT(highest, 0.1001);
}

// Of a floor of triangles, from above or from both sides, each with corners of its own as many files have them.
MeshData looseTriangles(bool fromBothSides) {
  constexpr double kCell = 0.25;
  std::vector<Vec3> corners;
  std::vector<std::array<int, 3>> triangles;
  const auto add = [&](const Vec3& a, const Vec3& b, const Vec3& c) {
    const int first = static_cast<int>(corners.size());
    corners.insert(corners.end(), {a, b, c});
    triangles.push_back({first, first + 1, first + 2});
    if (fromBothSides) triangles.push_back({first, first + 2, first + 1});
  };
  for (int i = -8; i < 8; ++i)
    for (int j = -2; j < 2; ++j) {
      const Vec3 at(kCell * i, 0, kCell * j), right(kCell, 0, 0), near(0, 0, kCell);
      add(at, at + near, at + right);
      add(at + right, at + near, at + right + near);
    }
  return makeMesh(corners, triangles);
}

TEST(Terrain, LooseTrianglesAreCrossedLikeAPlane) {
  for (const bool fromBothSides : {false, true})
    for (const Shape& shape : {Shape(Sphere{0.1}), Shape(Box{Vec3::Constant(0.2)})}) {
      World world;
      BodyDef floor;
      floor.role = Role::fixed;
      floor.friction = 0;
      floor.shapes = {{TriangleMesh{std::make_shared<MeshData>(looseTriangles(fromBothSides))}, {}}};
      world.addBody(floor);
      BodyDef def = tangible(shape, 1, {{-1.8, 0.1, 0.03}});
      def.velocity.x() = 3;
      const BodyId id = world.addBody(def);
      double highest = 0;
      for (int i = 0; i < 72; ++i) world.step(), highest = std::max(highest, world.state(id).pose.position.y());
      EXPECT_NEAR(world.state(id).velocity.x(), 3, 1e-3) << shape.index() << fromBothSides;
      EXPECT_LT(highest, 0.1 + 1e-5) << shape.index() << fromBothSides;
    }
}

struct Rider {
  const char* name;
  Shape shape;
  double height;  // of its centre, m
  bool lies;      // its axis across the way
  bool rolls;
};
std::ostream& operator<<(std::ostream& out, const Rider& rider) {
  return out << rider.name;
}

class Tiles : public testing::TestWithParam<Rider> {};

// A floor of blocks side by side is as good as a plane, at any speed: nothing runs against the side of the next one.
TEST_P(Tiles, AreCrossedLikeAPlane) {
  constexpr double kSide = 0.5, kNeeded = 0.01;
  const Rider& rider = GetParam();
  double unsteady = 0, up = 0;
  for (const double speed : {0.3, 2.0, 10.0})
    for (int i = 0; i < 20; ++i) {
      World world;
      BodyDef floor;
      floor.role = Role::fixed;
      floor.friction = 0;
      for (int k = -1; k < 20; ++k) floor.shapes.push_back({Box{{kSide, 1, 4}}, {{kSide * k, -0.5, 0}}});
      world.addBody(floor);
      const Quat across = rider.lies ? Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX())) : Quat::Identity();
      BodyDef def = tangible(rider.shape, 1, {{0.013 * i, rider.height, 0.2}, across});
      def.velocity.x() = speed;
      if (rider.rolls) def.angularVelocity.z() = -speed / rider.height;
      const BodyId id = world.addBody(def);
      for (int frame = 0; frame < 45; ++frame) {
        world.step();
        unsteady = std::max(unsteady, std::abs(world.state(id).velocity.x() / speed - 1));
        up = std::max(up, std::abs(world.state(id).pose.position.y() - rider.height));
      }
    }
  report(std::string(rider.name) + " over tiles, speed", 100 * unsteady, 100 * kNeeded, "%");
  EXPECT_LE(unsteady, kNeeded);
  EXPECT_LE(up, 1e-4);
}
INSTANTIATE_TEST_SUITE_P(Riders, Tiles,
                         testing::Values(Rider{"ball", Sphere{0.1}, 0.1, false, true},
                                         Rider{"small ball", Sphere{0.01}, 0.01, false, true},
                                         Rider{"capsule", Capsule{0.1, 0.4}, 0.1, true, true},
                                         Rider{"cylinder", Cylinder{0.1, 0.4}, 0.1, true, true},
                                         Rider{"box", Box{{0.2, 0.2, 0.2}}, 0.1, false, false},
                                         Rider{"hull", hullBox({0.2, 0.2, 0.2}), 0.1, false, false},
                                         Rider{"standing cylinder", Cylinder{0.1, 0.2}, 0.1, false, false}));

// A ball that bounces its way over tiles strikes their tops and never an edge.
TEST(Tiles, KeepTheirBallsGoing) {
  double worst = 0;
  for (int i = 0; i < 200; ++i) {
    World world;
    BodyDef floor;
    floor.role = Role::fixed;
    floor.restitution = 1;
    floor.friction = 0;
    for (int k = -1; k < 6; ++k) floor.shapes.push_back({Box{{0.5, 1, 4}}, {{0.5 * k, -0.5, 0}}});
    world.addBody(floor);
    BodyDef def = tangible(Sphere{0.1}, 1, {{0, 0.4 + 3e-4 * i, 0}});
    def.velocity.x() = 0.5 + 3e-3 * i;
    def.restitution = 1;
    def.friction = 0;
    const BodyId ball = world.addBody(def);
    run(world, 1.5);
    worst = std::max(worst, std::abs(world.state(ball).velocity.x() - def.velocity.x()));
  }
  // What is within a millirad of the vertical counts as that.
  EXPECT_LE(worst, 1e-3);
}

TEST(Terrain, BoxesAndHullsRestOnIt) {
  World world;
  world.addBody(terrain(20, 0.5, [](double, double) { return 0.3; }));
  std::vector<BodyId> ids;
  int i = 0;
  for (const Shape& shape :
       {Shape(Box{{0.4, 0.4, 0.4}}), hullBox({0.4, 0.4, 0.4}), Shape(Cylinder{0.2, 0.4}),
        Shape(Compound{{{Box{{0.4, 0.1, 0.4}}, {{0, -0.15, 0}}}, {Box{{0.1, 0.3, 0.1}}, {{0, 0.05, 0}}}}})})
    ids.push_back(world.addBody(tangible(shape, 2, {{-2 + 1.1 * i++, 0.52, 0.13}})));
  run(world, 3);
  for (const BodyId id : ids) {
    EXPECT_NEAR(world.state(id).pose.position.y(), 0.5, 1e-3) << "body " << id;
    EXPECT_LT(world.state(id).velocity.norm(), 1e-3) << "body " << id;
  }
}

// On a slope of 20 degrees, mu 0.2: a = g (sin - mu cos).
TEST(Terrain, BoxSlidesDownASlopeOfTriangles) {
  World world;
  const double angle = 20 * kPi / 180;
  world.addBody(terrain(
      40, 0.5, [&](double x, double) { return -x * std::tan(angle); }, 0.2));
  BodyDef box = tangible(Box{Vec3::Constant(0.3)}, 3);
  box.friction = 0.2;
  const Quat tilt(Eigen::AngleAxisd(-angle, Vec3::UnitZ()));
  box.pose = {Vec3(-6, 6 * std::tan(angle), 0.1) + tilt * Vec3(0, 0.15, 0), tilt};
  const BodyId id = world.addBody(box);
  run(world, 1.5);
  const double expected = kGravity * (std::sin(angle) - 0.2 * std::cos(angle)) * 1.5;
  EXPECT_NEAR(world.state(id).velocity.norm(), expected, 0.01 * expected);
}

// A valley of two faces that meet at some angle. What slides down one of them, flat on it, comes to rest where its rim
// meets the other: with its lower edge in the line of the valley, or with its upper one where the other leans over.
TEST(Terrain, DiscOnOneFaceStopsAtTheNext) {
  constexpr double kSlope = 40 * kPi / 180, kRadius = 0.1, kThick = 0.04, kWay = 0.02;
  for (const double degrees : {60.0, 80.0, 90.0, 100.0, 120.0}) {
    const double angle = degrees * kPi / 180;
    const Vec3 up(std::cos(kSlope), std::sin(kSlope), 0), out(-std::sin(kSlope), std::cos(kSlope), 0);
    const Vec3 next(std::cos(kSlope + angle), std::sin(kSlope + angle), 0), along = Vec3::UnitZ();
    World world;
    BodyDef valley;
    valley.role = Role::fixed;
    valley.friction = 0.3;
    valley.shapes = {{meshOf({-along, along, up + along, up - along, next - along, next + along},
                             {{0, 1, 2}, {0, 2, 3}, {1, 0, 4}, {1, 4, 5}}),
                      {}}};
    world.addBody(valley);
    const Vec3 rests = (kRadius + std::max(0.0, kThick / std::tan(angle))) * up + kThick / 2 * out;
    const BodyId disc =
        world.addBody(tangible(Cylinder{kRadius, kThick}, 2, {rests + kWay * up, turnBetween(Vec3::UnitY(), out)}));
    for (int i = 0; i < 120; ++i) world.step();
    const double off = (world.state(disc).pose.position - rests).norm();
    report("disc in a valley of " + std::to_string(int(degrees)) + " degrees: off its place by", off, 1e-4, "m");
    EXPECT_LT(off, 1e-4) << degrees << " degrees";
  }
}

TEST(Hull, StacksLikeTheBoxThatItIs) {
  World world;
  world.addBody(ground());
  std::vector<BodyId> stack;
  for (int i = 0; i < 6; ++i)
    stack.push_back(world.addBody(tangible(hullBox(Vec3::Constant(0.5)), 4, {{0, 0.25 + 0.5 * i, 0}})));
  run(world, 10);
  for (std::size_t i = 0; i < stack.size(); ++i) {
    const Vec3 p = world.state(stack[i]).pose.position;
    EXPECT_LT((p - Vec3(0, 0.25 + 0.5 * static_cast<double>(i), 0)).norm(), 1e-3) << "box " << i;
  }
}

// 50 m/s, a ball of 2 cm, a plate of 2 mm: within one frame it would be 0.8 m further on.
TEST(FastThings, NeverPassAThinPlate) {
  for (const bool chained : {false, true})
    for (int trial = 0; trial < 40; ++trial) {
      World world({.gravity = Vec3::Zero()});
      BodyDef plate;
      plate.role = Role::fixed;
      plate.shapes = {{Box{{0.002, 1, 1}}, {}}};
      world.addBody(plate);
      const Vec3 from(-1.3 - 0.011 * trial, 0.002 * trial, 0);
      const BodyId ball = world.addBody(tangible(Sphere{0.01}, 0.03, {from}));
      if (chained) {
        // A slack chain of ten links that it tears along.
        BodyId last = ball;
        for (int i = 0; i < 10; ++i) {
          const BodyId link = world.addBody(solid(Sphere{0.005}, 0.005, {from - Vec3(0.05 * (i + 1), 0, 0)}));
          world.addJoint(joint(JointType::ball, last, {i ? -0.025 : 0, 0, 0}, link, {i ? 0.025 : 0.05, 0, 0}));
          last = link;
          world.setVelocity(link, {50, 0, 0}, Vec3::Zero());
        }
      }
      world.setVelocity(ball, {50, 3, 0}, Vec3::Zero());
      double furthest = -9;
      for (int i = 0; i < 20; ++i) world.step(), furthest = std::max(furthest, world.state(ball).pose.position.x());
      EXPECT_LT(furthest, -0.009) << (chained ? "chained, " : "free, ") << trial;
    }
}

// At 1 to 100 m/s and up to 160 rad/s, from all sides: an end that strikes sets the whole turning, and the other end
// comes down within the same step.
TEST(FastThings, ComeAslantAndSpinning) {
  const Shape shapes[] = {Capsule{0.02, 0.3}, Capsule{0.01, 0.08}, Box{{0.05, 0.1, 0.2}}, Cylinder{0.05, 0.02},
                          Sphere{0.02}};
  std::mt19937 random(7);
  std::normal_distribution<double> normal;
  std::uniform_real_distribution<double> unit(0, 1);
  const auto draw = [&] { return Vec3(normal(random), normal(random), normal(random)); };
  for (int trial = 0; trial < 3000; ++trial) {
    World world({.gravity = Vec3::Zero()});
    BodyDef plate;
    plate.role = Role::fixed;
    plate.shapes = {{Box{{0.005, 40, 40}}, {}}};
    plate.restitution = trial / 5 % 3 / 2.0;
    world.addBody(plate);
    Quat turned(normal(random), normal(random), normal(random), normal(random));
    turned.normalize();
    BodyDef thrown = tangible(shapes[trial % 5], 0.1, {Vec3(-1.5 + unit(random) / 2, 0, 0), turned});
    thrown.restitution = plate.restitution;
    thrown.velocity = std::pow(10, 2 * unit(random)) / 2 * draw();
    thrown.velocity.x() = std::max(std::abs(thrown.velocity.x()), 0.2 * thrown.velocity.norm());
    thrown.angularVelocity = std::pow(10, 2.2 * unit(random)) / 2 * draw();
    const BodyId body = world.addBody(thrown);
    double furthest = -9;
    for (int i = 0; i < std::min(240.0, 2 / thrown.velocity.x() * 60 + 10); ++i)
      world.step(), furthest = std::max(furthest, world.state(body).pose.position.x());
    EXPECT_LT(furthest, 0) << "trial " << trial << ", " << thrown.velocity.norm() << " m/s";
  }
}

TEST(FastThings, ThinRodsDoNotPassEachOther) {
  World world({.gravity = Vec3::Zero()});
  const BodyId still = world.addBody(tangible(Capsule{0.005, 1}, 0.5));
  const BodyId fast =
      world.addBody(tangible(Capsule{0.005, 1}, 0.5, {{-2, 0, 0}, Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()))}));
  world.setVelocity(fast, {40, 0, 0}, Vec3::Zero());
  run(world, 0.2);
  EXPECT_GT(world.state(still).velocity.x(), 1);
  EXPECT_LT(world.state(fast).pose.position.x(), world.state(still).pose.position.x());
}

// What flies past a corner is not touched by it.
TEST(FastThings, PassBesideWhatTheyMiss) {
  World world({.gravity = Vec3::Zero()});
  BodyDef block;
  block.role = Role::fixed;
  block.shapes = {{Box{{1, 1, 1}}, {}}};
  world.addBody(block);
  const BodyId ball = world.addBody(tangible(Sphere{0.05}, 1, {{-3, 0.57, 0}}));
  world.setVelocity(ball, {50, 0, 0}, Vec3::Zero());
  run(world, 0.2);
  EXPECT_NEAR(world.state(ball).velocity.x(), 50, 1e-9);
  EXPECT_NEAR(world.state(ball).velocity.y(), 0, 1e-9);
}

TEST(Layers, ThatDoNotTouchPassThroughEachOther) {
  World world;
  BodyDef floor = ground();
  floor.layer = 3;
  world.addBody(floor);
  BodyDef ball = tangible(Sphere{0.1}, 1, {{0, 0.5, 0}});
  const BodyId stays = world.addBody(ball);
  ball.layer = 5;
  ball.pose.position.x() = 2;
  const BodyId falls = world.addBody(ball);
  world.setLayersTouch(5, 3, false);
  run(world, 2);
  EXPECT_NEAR(world.state(stays).pose.position.y(), 0.1, 1e-3);
  EXPECT_LT(world.state(falls).pose.position.y(), -10);
}

TEST(Materials, APairHasItsOwnFriction) {
  World world;
  BodyDef floor = ground(0.8, 0.2);
  floor.material = 1;
  world.addBody(floor);
  const Quat tilt(Eigen::AngleAxisd(0.2, Vec3::UnitZ()));
  BodyDef box = tangible(Box{Vec3::Constant(0.2)}, 1, {tilt * Vec3(0, 0.1, 0), tilt});
  box.friction = 0.8;
  const BodyId holds = world.addBody(box);
  box.material = 2;
  box.pose.position.z() = 1;
  const BodyId slides = world.addBody(box);
  world.setMaterialPair(1, 2, 0.1, 0);
  run(world, 1);
  EXPECT_LT(world.state(holds).velocity.norm(), 1e-4);
  const double expected = kGravity * (std::sin(0.2) - 0.1 * std::cos(0.2));
  EXPECT_NEAR(world.state(slides).velocity.norm(), expected, 0.01 * expected);
}

TEST(Overlap, NamesWhatAShapeWouldTouch) {
  World world;
  const BodyId floor = world.addBody(ground());
  const BodyId ball = world.addBody(tangible(Sphere{0.2}, 1, {{0, 0.5, 0}}));
  const BodyId hills = world.addBody(terrain(4, 1, [](double, double) { return 3.0; }));
  EXPECT_EQ(world.overlapping(Box{{0.2, 2, 0.2}}, {{0, 0.9, 0}}), (std::vector<BodyId>{floor, ball}));
  EXPECT_EQ(world.overlapping(Sphere{0.2}, {{0.3, 3.1, 0.3}}), std::vector<BodyId>{hills});
  EXPECT_TRUE(world.overlapping(Sphere{0.1}, {{1, 1, 1}}).empty());
}

TEST(Sleep, KeepsEveryForceAndWakesAtATouch) {
  World world({.sleepAfter = 0.5});
  world.addBody(ground());
  const BodyId box = world.addBody(tangible(Box{Vec3::Constant(0.5)}, 10, {{0, 0.25, 0}}));
  const BodyId lamp = world.addBody(solid(Sphere{0.1}, 3, {{4, 2, 0}}));
  const JointId hook = world.addJoint(joint(JointType::ball, kWorld, {4, 3, 0}, lamp, {0, 1, 0}));
  run(world, 3);
  EXPECT_TRUE(world.isAsleep(box));
  EXPECT_TRUE(world.isAsleep(lamp));
  EXPECT_NEAR(world.reading(hook).force.y(), 3 * kGravity, 1e-6);
  double carried = 0;
  for (const ContactReading& c : world.contacts()) carried += c.force.y();
  EXPECT_NEAR(carried, 10 * kGravity, 1e-3 * 10 * kGravity);
  ASSERT_EQ(world.touches().size(), 1u);
  EXPECT_NEAR(world.touches()[0].force.y(), 10 * kGravity, 1e-3 * 10 * kGravity);
  const BodyId ball = world.addBody(tangible(Sphere{0.2}, 5, {{-2, 0.4, 0}}));
  world.setVelocity(ball, {5, 0, 0}, Vec3::Zero());
  run(world, 0.5);
  EXPECT_FALSE(world.isAsleep(box));
  EXPECT_GT(world.state(box).pose.position.x(), 0.01);
  EXPECT_TRUE(world.isAsleep(lamp));
  world.applyImpulse(lamp, {1, 0, 0}, {4, 2, 0});
  run(world, 0.2);
  EXPECT_FALSE(world.isAsleep(lamp));
  EXPECT_GT(world.state(lamp).velocity.norm(), 0.01);
}

TEST(Sleep, EndsWhenAPushComesThatWasToldBefore) {
  World world({.sleepAfter = 0.5});
  world.addBody(ground(0.5));
  const BodyId box = world.addBody(tangible(Box{Vec3::Constant(0.5)}, 10, {{0, 0.25, 0}}));
  world.addPush({.body = box, .force = {60, 0, 0}, .from = 2.005, .until = 2.505});
  run(world, 1);
  ASSERT_TRUE(world.isAsleep(box));
  run(world, 1.5);
  EXPECT_NEAR(world.state(box).velocity.x(), 6 * 0.495 - 0.5 * kGravity * 0.495, 1e-3);
}

TEST(Sleep, DoesNotStopWhatIsSlow) {
  World world({.gravity = Vec3::Zero(), .sleepAfter = 0.5});
  const BodyId door = world.addBody(solid(Box{Vec3::Constant(0.2)}, 10, {{0, 0, 0}}));
  JointDef slow = joint(JointType::slider, kWorld, {0, 0, 0}, door, Vec3::Zero());
  slow.axes[0].speed = 5e-4, slow.axes[0].cap = 1e3;
  world.addJoint(slow);
  const BodyId drifter = world.addBody(solid(Box{Vec3::Constant(0.2)}, 10, {{5, 0, 0}}));
  run(world, 2);
  ASSERT_TRUE(world.isAsleep(drifter));
  world.setGravity({0, -1e-3, 0});
  run(world, 3);
  EXPECT_NEAR(world.state(door).pose.position.x(), 5 * 5e-4, 1e-7);
  EXPECT_NEAR(world.state(drifter).pose.position.y(), -0.5 * 1e-3 * 9, 1e-6);
}

// Twelve separate assemblies among boxes: the same bits however many threads there are.
TEST(Threads, DoNotChangeABit) {
  const auto build = [] {
    World world;
    world.addBody(ground());
    for (int k = 0; k < 12; ++k) {
      BodyId last = kWorld;
      Vec3 at(2.0 * k, 3, 0);
      for (int i = 0; i < 6; ++i) {
        const BodyId link = world.addBody(tangible(
            Capsule{0.04, 0.3}, 0.5, {at + Vec3(0.15, 0, 0), Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitZ()))}));
        world.addJoint(joint(JointType::ball, last, i ? Vec3(0, -0.15, 0) : at, link, {0, 0.15, 0}));
        last = link;
        at.x() += 0.3;
      }
      world.addBody(tangible(Box{Vec3::Constant(0.3)}, 2, {{2.0 * k + 0.4, 0.15, 0}}));
    }
    return world;
  };
  World one = build(), many = build();
  {
    tbb::global_control single(tbb::global_control::max_allowed_parallelism, 1);
    run(one, 2);
  }
  {
    tbb::global_control four(tbb::global_control::max_allowed_parallelism, 4);
    run(many, 2);
  }
  for (BodyId id = 0; id < one.bodyCount(); ++id)
    EXPECT_EQ((one.state(id).pose.position - many.state(id).pose.position).norm(), 0) << "body " << id;
}

}  // namespace
}  // namespace calm::physics
