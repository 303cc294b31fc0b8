// SPDX-License-Identifier: GPL-3.0-or-later
// What slides on a face: its friction acts where its load lies, wherever seams divide that face.
#include <gtest/gtest.h>

#include <memory>

#include "engine/shape/mesh.h"
#include "physics/rigs.h"
#include "physics/surfaces.h"

namespace calm::physics {
namespace {

constexpr double kHalf = 2, kThick = 0.4;  // m, of a square table

struct Table {
  const char* name;
  std::vector<PlacedShape> shapes;  // its face at y = 0
};
std::ostream& operator<<(std::ostream& out, const Table& table) {
  return out << table.name;
}

std::vector<Table> tables() {
  const Pose below{{0, -kThick / 2, 0}, Quat::Identity()};
  std::vector<PlacedShape> halves;
  for (const double side : {-0.5, 0.5})
    halves.push_back({Box{{kHalf, kThick, 2 * kHalf}}, {{side * kHalf, -kThick / 2, 0}, Quat::Identity()}});
  const std::vector<Vec3> corners{{-kHalf, 0, -kHalf}, {-kHalf, 0, kHalf}, {kHalf, 0, kHalf}, {kHalf, 0, -kHalf}};
  constexpr int kCells = 8;
  const std::vector<double> heights((kCells + 1) * (kCells + 1), 0);
  const double cell = 2 * kHalf / kCells;
  return {
      {"block", {{Box{{2 * kHalf, kThick, 2 * kHalf}}, below}}},
      {"twoBlocks", halves},
      {"twoTriangles", {{meshOf(corners, {{0, 1, 2}, {0, 2, 3}}), {}}}},
      {"manyTriangles",
       {{TriangleMesh{std::make_shared<MeshData>(makeHeightField(kCells + 1, kCells + 1, cell, cell, heights))}, {}}}}};
}

class Sliding : public testing::TestWithParam<Table> {
 protected:
  static BodyId addTable(World& world, Role role, double friction) {
    BodyDef def;
    def.role = role;
    def.shapes = GetParam().shapes;
    def.friction = friction;
    return world.addBody(def);
  }
};

// Coulomb: where all of a face slides one way, friction is the coefficient times the load, wherever that lies, and acts
// in the line under the centre of mass; so nothing turns, however far that is from the middle of the face.
TEST_P(Sliding, GoesStraightWhereverItsLoadLies) {
  const double mu = 0.3, speed = 2, stops = speed * speed / (2 * mu * kGravity);
  const Vec3 start(-1.5, 0.2, 0.13);
  struct Load {
    Shape shape;
    Vec3 centre;  // of mass, m
  };
  const Load loads[] = {{Box{Vec3::Constant(0.4)}, {0.05, 0, 0.1}}, {Cylinder{0.2, 0.4}, {0, 0, 0.05}}};
  double turned = 0, off = 0;
  for (const Load& load : loads) {
    World world;
    addTable(world, Role::fixed, mu);
    BodyDef def = tangible(load.shape, 3, {start});
    def.mass.center = load.centre;
    def.friction = mu;
    def.velocity = {speed, 0, 0};
    const BodyId body = world.addBody(def);
    for (int i = 0; i < 60; ++i) world.step();
    const Pose end = world.state(body).pose;
    turned = std::max(turned, end.rotation.angularDistance(Quat::Identity()));
    off = std::max(off, (end.position - start - Vec3(stops, 0, 0)).norm());
  }
  report(std::string("heavy on one side, sliding straight: turns, ") + GetParam().name, turned, 0.01, "rad");
  report(std::string("heavy on one side, sliding straight: end, ") + GetParam().name, off * 1e3, 0.5, "mm");
  EXPECT_LT(turned, 0.01);
  EXPECT_LT(off, 5e-4);
}

// The same in an impact: what falls flat is not turned by it, and loses the coefficient times the speed of its fall.
TEST_P(Sliding, LandsFlatAndGoesOnStraight) {
  const double mu = 0.3, speed = 3, drop = 0.2, falls = std::sqrt(2 * kGravity * drop);
  World world;
  addTable(world, Role::fixed, mu);
  BodyDef def = tangible(Box{Vec3::Constant(0.4)}, 3, {{-1.8, 0.2 + drop, 0.13}});
  def.mass.center = {0.05, 0, 0.1};
  def.friction = mu;
  def.velocity = {speed, 0, 0};
  const BodyId body = world.addBody(def);
  const double frame = world.settings().frame;
  while (world.time() < falls / kGravity + 2 * frame) world.step();
  const BodyState now = world.state(body);
  const double slides = world.time() - falls / kGravity;
  EXPECT_NEAR(now.velocity.x(), speed - mu * falls - mu * kGravity * slides, 1e-3);
  report(std::string("heavy on one side, landing flat: spin, ") + GetParam().name, now.angularVelocity.norm(), 0.01,
         "rad/s");
  EXPECT_LT(now.angularVelocity.norm(), 0.01);
}

// A capsule on its side on a turntable, by an integration of its own: an even pressure along its line, which leans as
// the moments ask for, and Coulomb friction on each piece of it.
struct OnTurntable {
  double length, radius, mass, friction, rate;
  double x, z, turn = 0, vx = 0, vz = 0, spin = 0, roll = 0;

  void run(double time) {
    constexpr int kPieces = 64;
    constexpr double kStep = 1e-4, kSticks = 1e-5;  // s; m/s, below which friction fades
    const MassProperties own = massPropertiesOf(Capsule{radius, length + 2 * radius}, mass);
    const double along = own.inertia(1, 1), across = own.inertia(0, 0);
    double lean = 0;
    for (double t = 0; t < time; t += kStep) {
      const double ex = std::cos(turn), ez = -std::sin(turn);
      double fx = 0, fz = 0, moment = 0, second = 0;
      for (int i = 0; i < kPieces; ++i) {
        const double s = length * ((i + 0.5) / kPieces - 0.5), px = x + s * ex, pz = z + s * ez;
        const double ux = vx + spin * s * ez + radius * roll * ez - rate * pz,
                     uz = vz - spin * s * ex - radius * roll * ex + rate * px;
        const double push = friction * mass * kGravity / kPieces * (1 + lean * s) / std::hypot(ux, uz, kSticks);
        fx -= push * ux, fz -= push * uz;
        moment += push * s * (ex * uz - ez * ux);
        second += s * s / kPieces;
      }
      const double aboutAxis = -radius * (fz * ex - fx * ez), aboutLevel = -radius * (fz * ez + fx * ex);
      lean = (aboutLevel - along * roll * spin) / (mass * kGravity * second);
      vx += kStep * fx / mass, vz += kStep * fz / mass;
      spin += kStep * moment / across, roll += kStep * aboutAxis / along;
      x += kStep * vx, z += kStep * vz, turn += kStep * spin;
    }
  }
};

TEST_P(Sliding, CapsuleIsTakenAlongByATurntable) {
  OnTurntable expected{.length = 0.4, .radius = 0.1, .mass = 3, .friction = 0.6, .rate = 1.5, .x = 0.21, .z = 0.13};
  expected.run(1);
  World world;
  const BodyId table = addTable(world, Role::kinematic, expected.friction);
  world.setVelocity(table, Vec3::Zero(), {0, expected.rate, 0});
  BodyDef def = tangible(Capsule{expected.radius, expected.length + 2 * expected.radius}, expected.mass,
                         {{0.21, expected.radius, 0.13}, Quat(Eigen::AngleAxisd(-kPi / 2, Vec3::UnitZ()))});
  def.friction = expected.friction;
  const BodyId capsule = world.addBody(def);
  for (int i = 0; i < 60; ++i) world.step();
  const Vec3 at = world.state(capsule).pose.position;
  const double way = std::hypot(expected.x - 0.21, expected.z - 0.13),
               off = std::hypot(at.x() - expected.x, at.z() - expected.z);
  report(std::string("capsule on a turntable: place, ") + GetParam().name, off / way * 100, 4, "% of its way");
  EXPECT_LT(off, 0.04 * way);
}

// What slides and spins on a flat face, pressed evenly: friction goes another way at each place, so that both fade
// together, whichever there was more of (Voyenli and Eriksen, American Journal of Physics 53, 1985; Farkas and others,
// Physical Review Letters 90, 248302, 2003). By an integration over cells of the face.
struct EvenPuck {
  std::vector<Eigen::Vector2d> cells;  // in its own frame
  double gyration2;                    // m^2
  double friction;
  Eigen::Vector2d velocity;
  double spin, turned = 0;
  Eigen::Vector2d way = Eigen::Vector2d::Zero();

  void run(double time) {
    constexpr double kStep = 2e-4;
    const double share = 1 / static_cast<double>(cells.size());
    for (double t = 0; t < time; t += kStep) {
      const Eigen::Rotation2Dd turn(turned);
      Eigen::Vector2d pull = Eigen::Vector2d::Zero();
      double moment = 0;
      for (const Eigen::Vector2d& cell : cells) {
        const Eigen::Vector2d arm = turn * cell, slip = velocity + spin * Eigen::Vector2d(-arm.y(), arm.x());
        const Eigen::Vector2d direction = slip / std::max(slip.norm(), 1e-9);
        pull += share * direction, moment += share * (arm.x() * direction.y() - arm.y() * direction.x());
      }
      velocity -= kStep * friction * kGravity * pull;
      spin -= kStep * friction * kGravity * moment / gyration2;
      turned += kStep * spin;
      way += kStep * velocity;
    }
  }
};

struct Puck {
  const char* name;
  Shape shape;
  double height;
  std::vector<Eigen::Vector2d> cells;
};

std::vector<Puck> pucks() {
  constexpr int kCells = 40;
  constexpr double kRadius = 0.2, kLong = 0.6, kWide = 0.2, kHigh = 0.004;
  std::vector<Eigen::Vector2d> disc, plate;
  for (int i = 0; i < kCells; ++i)
    for (int k = 0; k < kCells; ++k) {
      const double out = kRadius * std::sqrt((i + 0.5) / kCells), angle = 2 * kPi * (k + 0.5) / kCells;
      disc.emplace_back(out * std::cos(angle), out * std::sin(angle));
      plate.emplace_back(kLong * ((i + 0.5) / kCells - 0.5), kWide * ((k + 0.5) / kCells - 0.5));
    }
  return {{"disc", Cylinder{kRadius, kHigh}, kHigh, disc}, {"plate", Box{{kLong, kHigh, kWide}}, kHigh, plate}};
}

void addTable(World& world, const Table& of, double friction, bool eachAPart) {
  BodyDef table;
  table.role = Role::fixed;
  table.friction = friction;
  table.shapes = of.shapes;
  if (!eachAPart) world.addBody(table);
  for (const PlacedShape& shape : of.shapes) {
    if (!eachAPart) break;
    table.shapes = {shape};
    world.addBody(table);
  }
}

// On the table, or on its shapes as a part each; with a part of 1 mg fixed to it if it is to be jointed.
void expectAsFar(const Table& table, bool jointed, bool eachAPart = false) {
  constexpr double kFriction = 0.3;
  constexpr double kTime = 0.5;
  for (const Puck& puck : pucks())
    for (const auto& [speed, spin] : {std::pair(1.0, 10.0), std::pair(2.0, 5.0), std::pair(0.5, 20.0)}) {
      SCOPED_TRACE(spin);
      double gyration2 = 0;
      for (const auto& cell : puck.cells) gyration2 += cell.squaredNorm() / static_cast<double>(puck.cells.size());
      // The world's y axis is up: seen from there, z is the second axis of the plane with its sign turned.
      EvenPuck expected{
          .cells = puck.cells, .gyration2 = gyration2, .friction = kFriction, .velocity = {speed, 0}, .spin = spin};
      expected.run(kTime);
      World world;
      addTable(world, table, kFriction, eachAPart);
      BodyDef def = tangible(puck.shape, 1, {{0, puck.height / 2, 0}});
      def.friction = kFriction;
      def.velocity = {speed, 0, 0}, def.angularVelocity = {0, spin, 0};
      const BodyId body = world.addBody(def);
      if (jointed) {
        BodyDef speck = solid(Sphere{0.03}, 1e-6, def.pose);
        speck.velocity = def.velocity, speck.angularVelocity = def.angularVelocity;
        world.addJoint(joint(JointType::fixed, body, Vec3::Zero(), world.addBody(speck), Vec3::Zero()));
      }
      while (world.time() < kTime - 1e-9) world.step();
      const BodyState end = world.state(body);
      double load = 0;
      for (const ContactReading& c : world.contacts()) load += std::abs(c.force.y());
      EXPECT_NEAR(load, kGravity, 1e-3 * kGravity) << "by its contacts";
      const Eigen::Vector2d way(end.pose.position.x(), -end.pose.position.z());
      const std::string name = std::string(jointed ? "jointed " : "free ") + puck.name + " that spins on " +
                               table.name + (eachAPart ? ", each a part" : "");
      report(name + ": way", (way - expected.way).norm() / expected.way.norm() * 100, 4, "%");
      report(name + ": spin", (end.angularVelocity.y() / expected.spin - 1) * 100, 4, "%");
      EXPECT_LT((way - expected.way).norm(), 0.04 * expected.way.norm());
      EXPECT_NEAR(end.angularVelocity.y(), expected.spin, 0.04 * expected.spin);
    }
}

class SpinningPuck : public testing::TestWithParam<Table> {};

TEST_P(SpinningPuck, SlidesAsFarAsAnEvenPressureLetsIt) {
  expectAsFar(GetParam(), false);
}

TEST(SpinningPuckOverTwoParts, SlidesAsFar) {
  expectAsFar(tables()[1], false, true);
}

TEST_P(SpinningPuck, SlidesAsFarWithAJoint) {
  expectAsFar(GetParam(), true);
}

// A thin rod on the ground, pushed across at its end, turns about the place 1/sqrt(2) of its length from there; it
// begins to with (sqrt(2) - 1) of the friction of its weight (Mason, "Mechanics of robotic manipulation", 2001, ch. 7).
TEST(PushedRod, BeginsToTurnWithItsShareOfFriction) {
  const double mu = 0.5, limit = (std::sqrt(2) - 1) * mu * kGravity;
  const auto turnsBy = [&](double force) {
    World world;
    world.addBody(ground(mu));
    BodyDef def = tangible(Box{{1, 0.05, 0.02}}, 1, {{0, 0.025, 0}});
    def.friction = mu;
    const BodyId rod = world.addBody(def);
    world.addPush({.body = rod, .at = {0.5, -0.025, 0}, .force = {0, 0, force}});
    for (int i = 0; i < 60; ++i) world.step();
    return world.state(rod).pose.rotation.angularDistance(Quat::Identity());
  };
  const double holds = turnsBy(0.96 * limit), gives = turnsBy(1.04 * limit);
  report("rod pushed at its end, 4 % less than it holds: turns", holds, 1e-3, "rad");
  EXPECT_LT(holds, 1e-3);
  EXPECT_GT(gives, 0.02);
}

INSTANTIATE_TEST_SUITE_P(Tables, SpinningPuck, testing::ValuesIn(tables()),
                         [](const auto& table) { return std::string(table.param.name); });
INSTANTIATE_TEST_SUITE_P(Tables, Sliding, testing::ValuesIn(tables()),
                         [](const auto& table) { return std::string(table.param.name); });

}  // namespace
}  // namespace calm::physics
