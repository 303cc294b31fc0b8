// SPDX-License-Identifier: GPL-3.0-or-later
// What is hastened within a single frame, or pressed far harder than by its weight, meets what is in its way.
#include <gtest/gtest.h>

#include <cmath>
#include <functional>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

constexpr double kRadius = 0.02;  // m

struct Launch {
  const char* name;
  // Drives the ball, of 0.1 kg at the origin, along x with about this force, N.
  std::function<void(World&, BodyId ball, double force)> by;
};

void PrintTo(const Launch& launch, std::ostream* out) {
  *out << launch.name;
}

JointDef rail(BodyId world, BodyId ball, const AxisDef& axis) {
  JointDef def = joint(JointType::slider, world, Vec3::Zero(), ball, Vec3::Zero());
  def.axes[0] = axis;
  return def;
}

BodyId still(World& world) {
  BodyDef def;
  def.role = Role::fixed;
  return world.addBody(def);
}

const Launch kLaunches[] = {
    {"force",
     [](World& w, BodyId ball, double f) {
       w.addForce(ball, {f, 0, 0}, Vec3::Zero());
     }},
    {"push",
     [](World& w, BodyId ball, double f) {
       w.addPush({.body = ball, .at = Vec3::Zero(), .force = {f, 0, 0}, .torque = Vec3::Zero()});
     }},
    {"field",
     [](World& w, BodyId, double f) {
       w.addField({Attraction{{1000, 0, 0}, f / 0.1, 0}, {}});
     }},
    {"wind",
     [](World& w, BodyId, double f) {
       w.addField({Wind{{f / 5, 0, 0}, 5, 0}, {}});
     }},
    {"spring", [](World& w, BodyId b, double f) { w.addJoint(rail(still(w), b, {.stiffness = f, .target = 1})); }},
    {"motor", [](World& w, BodyId b, double f) { w.addJoint(rail(still(w), b, {.speed = 100, .cap = f})); }},
    {"lever",
     [](World& w, BodyId ball, double f) {
       const BodyId arm = w.addBody(solid(Box{{0.02, 1, 0.02}}, 0.1, {{0, -0.5, 0}}));
       JointDef hinge = joint(JointType::hinge, still(w), {0, -1, 0}, arm, {0, -0.5, 0});
       hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
       hinge.axes[0] = {.speed = -100, .cap = f};
       w.addJoint(hinge);
       w.addJoint(joint(JointType::fixed, arm, {0, 0.5, 0}, ball, Vec3::Zero()));
     }},
};

class Launched : public testing::TestWithParam<Launch> {};

TEST_P(Launched, IsStoppedByAThinPlate) {
  for (const double at : {0.1, 0.3, 0.6})
    for (const double force : {50.0, 500.0, 5000.0}) {
      World world({.gravity = Vec3::Zero()});
      BodyDef plate;
      plate.role = Role::fixed;
      plate.pose.position = {at, 0, 0};
      plate.shapes = {{Box{{0.005, 1, 1}}, {}}};
      plate.restitution = 0.5;
      world.addBody(plate);
      const BodyId ball = world.addBody(tangible(Sphere{kRadius}, 0.1));
      GetParam().by(world, ball, force);
      double furthest = 0;
      for (int i = 0; i < 40; ++i) world.step(), furthest = std::max(furthest, world.state(ball).pose.position.x());
      // What contacts yield to such a force, below.
      EXPECT_LT(furthest, at - kRadius + 0.03 * force / 0.1 / (480 * 480)) << force << " N, plate at " << at << " m";
      EXPECT_GT(furthest, at - 0.1) << force << " N, plate at " << at << " m";
    }
}
INSTANTIATE_TEST_SUITE_P(By, Launched, testing::ValuesIn(kLaunches),
                         [](const auto& launch) { return std::string(launch.param.name); });

// A plate that starts from rest within a frame sends a ball on at twice its own speed.
TEST(Moved, PlateThatStartsAtOnceTakesWhatIsBeforeIt) {
  for (const double speed : {5.0, 20.0, 60.0, 200.0})
    for (const double start : {0.1, 0.25, 0.2541})
      for (const double at : {0.1, 0.5}) {
        World world({.gravity = Vec3::Zero()});
        BodyDef plate;
        plate.role = Role::kinematic;
        plate.shapes = {{Box{{0.01, 1, 1}}, {}}};
        plate.motion =
            Motion{.keys = {{0, {{-0.1, 0, 0}}}, {start, {{-0.1, 0, 0}}}, {start + 3 / speed, {{2.9, 0, 0}}}},
                   .smooth = false,
                   .waves = {},
                   .approach = {}};
        world.addBody(plate);
        BodyDef def = tangible(Sphere{kRadius}, 0.2, {{at, 0, 0}});
        def.restitution = 1;
        const BodyId ball = world.addBody(def);
        watch(world, start + 1 / speed + 0.05);
        EXPECT_NEAR(world.state(ball).velocity.x() / (2 * speed), 1, 0.05) << speed << " m/s at " << start << " s";
      }
}

// So does what a joint holds to a part that starts at once, after a while or as the run begins.
TEST(Moved, HammerOnAPartThatStartsAtOnce) {
  for (const double speed : {5.0, 20.0, 60.0})
    for (const double start : {0.0, 0.1}) {
      World world({.gravity = Vec3::Zero()});
      BodyDef handle;
      handle.role = Role::kinematic;
      if (start > 0)
        handle.motion = Motion{.keys = {{0, {}}, {start, {}}, {start + 3 / speed, {{3, 0, 0}}}},
                               .smooth = false,
                               .waves = {},
                               .approach = {}};
      else
        handle.velocity = {speed, 0, 0};
      const BodyId held = world.addBody(handle);
      BodyDef head = tangible(Sphere{kRadius}, 1000);
      head.restitution = 1;
      world.addJoint(joint(JointType::fixed, held, Vec3::Zero(), world.addBody(head), Vec3::Zero()));
      const BodyId ball = world.addBody(tangible(Sphere{kRadius}, 0.2, {{0.3, 0, 0}}));
      watch(world, start + 1 / speed + 0.05);
      EXPECT_NEAR(world.state(ball).velocity.x() / (2 * speed), 1, 0.05) << speed << " m/s after " << start << " s";
    }
}

// Whatever the rate, a push gives force times its time, however little of a substep that is.
TEST(Push, GivesItsImpulseWheneverItComes) {
  struct Case {
    double from, until;
  };
  constexpr double force = 10, seconds = 0.5;
  for (const auto& [from, until] : {Case{0.0513, 0.2177}, {0.0001, 0.0007}, {0.1, 0.3}, {-1, 0.01234}})
    for (const bool onARail : {false, true}) {
      World world({.gravity = Vec3::Zero()});
      const BodyId cart = world.addBody(solid(Box{Vec3::Constant(0.1)}, 2));
      if (onARail) world.addJoint(rail(still(world), cart, {}));
      world.addPush(
          {.body = cart, .at = Vec3::Zero(), .force = {force, 0, 0}, .torque = {}, .from = from, .until = until});
      for (int i = 0; i < 60 * seconds; ++i) world.step();
      const double start = std::max(from, 0.0), lasts = until - start, given = force * lasts / 2;
      const std::string what = "from " + std::to_string(from) + " s" + (onARail ? " on a rail" : "");
      EXPECT_NEAR(world.state(cart).velocity.x(), given, 1e-9) << what;
      // It may seem to begin and to end up to half a substep off.
      const double way = given * (seconds - start - lasts / 2);
      EXPECT_NEAR(world.state(cart).pose.position.x(), way, given / 960) << what;
    }
}

// Two balls on one body, a metre to either side of its middle: the far ends of what turns are as fast as they are.
TEST(Spinning, DumbbellStrikesWhatItsEndsComeTo) {
  for (const double rate : {20.0, 60.0, 200.0})
    for (const double ahead : {0.3, 1.1, 2.2}) {
      World world({.gravity = Vec3::Zero()});
      BodyDef dumbbell = solid(Box{{2, 0.02, 0.02}}, 2);
      dumbbell.shapes = {{Sphere{kRadius}, {{1, 0, 0}}}, {Sphere{kRadius}, {{-1, 0, 0}}}};
      dumbbell.angularVelocity = {0, rate, 0};
      dumbbell.restitution = 1;
      world.addBody(dumbbell);
      const BodyId ball = world.addBody(tangible(Sphere{kRadius}, 0.2, {{std::cos(ahead), 0, -std::sin(ahead)}}));
      watch(world, 2 * ahead / rate + 0.05);
      EXPECT_GT(world.state(ball).velocity.norm(), rate / 2) << rate << " rad/s, " << ahead << " rad ahead";
    }
}

// Fifty times its weight and more, without gravity: it comes to rest, and its velocity there is none.
TEST(Pressed, BoxLandsAndRests) {
  for (const double above : {1e-4, 1e-3, 1e-2})
    for (const double force : {100.0, 500.0, 5000.0}) {
      World world({.gravity = Vec3::Zero()});
      world.addBody(ground());
      const BodyId box = world.addBody(tangible(Box{Vec3::Constant(0.1)}, 1, {{0, 0.05 + above, 0}}));
      world.addPush({.body = box, .at = Vec3::Zero(), .force = {0, -force, 0}, .torque = Vec3::Zero()});
      watch(world, 0.5);
      // Contacts yield by 0.003 of a substep's push and are pushed out by a fifth in each: 0.015 a h^2.
      EXPECT_GT(world.state(box).pose.position.y() - 0.05, -0.03 * force / (480 * 480)) << force << " N";
      EXPECT_LT(world.state(box).velocity.norm(), 1e-3) << force << " N";
    }
}

// A roller between the ground and a plate that leans by alpha cannot be squeezed out once the friction is above
// tan(alpha / 2): the forces at its two touches act along one line.
TEST(Pressed, RollerInAWedgeLocksByFriction) {
  for (const double alpha : {0.3, 0.5, 0.8})
    for (const double share : {0.93, 1.07}) {
      const double friction = share * std::tan(alpha / 2), radius = 0.1;
      World world({.gravity = Vec3::Zero()});
      const BodyId floor = world.addBody(ground(friction));
      BodyDef roller = tangible(Cylinder{radius, 0.3}, 1, {{0, radius, 0}, turnBetween(Vec3::UnitY(), Vec3::UnitZ())});
      roller.friction = friction;
      const BodyId rolls = world.addBody(roller);
      const Vec3 into(std::sin(alpha), -std::cos(alpha), 0);
      const Vec3 middle = Vec3(0, radius, 0) - (radius + 0.05) * into;
      BodyDef plate = tangible(Box{{0.16, 0.1, 0.4}}, 1, {middle, Quat(Eigen::AngleAxisd(alpha, Vec3::UnitZ()))});
      plate.friction = friction;
      const BodyId presses = world.addBody(plate);
      world.addPush({.body = presses, .at = Vec3::Zero(), .force = {0, -500, 0}, .torque = Vec3::Zero()});
      JointDef guide = joint(JointType::slider, floor, middle, presses, Vec3::Zero());
      guide.frameA.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitY());
      guide.frameB.rotation = plate.pose.rotation.conjugate() * guide.frameA.rotation;
      world.addJoint(guide);
      watch(world, 1);
      const double moved = std::abs(world.state(rolls).pose.position.x());
      if (share < 1)
        EXPECT_GT(moved, 0.1) << alpha << " rad";
      else
        EXPECT_LT(moved, 1e-3) << alpha << " rad";
    }
}

}  // namespace
}  // namespace calm::physics
