// SPDX-License-Identifier: GPL-3.0-or-later
// Fast things that strike others, which strike others yet in the same step: against exact event by event solutions.
#include <gtest/gtest.h>

#include <cmath>
#include <random>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

struct Ball {
  Vec3 at, velocity;
  double mass, radius;
};

// Smooth balls without gravity fly straight; each next touch is the root of a quadratic. Returns how many there were.
int fly(std::vector<Ball>& balls, double span, double restitution) {
  for (int touches = 0;; ++touches) {
    double next = span;
    Ball *one = nullptr, *other = nullptr;
    for (Ball& a : balls)
      for (Ball& b : balls) {
        const Vec3 d = b.at - a.at, v = b.velocity - a.velocity;
        const double r = a.radius + b.radius, closing = d.dot(v), square = v.squaredNorm();
        const double under = closing * closing - square * (d.squaredNorm() - r * r);
        if (&a == &b || closing >= 0 || under < 0) continue;
        const double after = std::max(0.0, (-closing - std::sqrt(under)) / square);
        if (after < next) next = after, one = &a, other = &b;
      }
    for (Ball& b : balls) b.at += next * b.velocity;
    if (!one) return touches;
    span -= next;
    const Vec3 n = (other->at - one->at).normalized();
    const double closing = n.dot(other->velocity - one->velocity);
    const Vec3 impulse = -(1 + restitution) * closing / (1 / one->mass + 1 / other->mass) * n;
    one->velocity -= impulse / one->mass;
    other->velocity += impulse / other->mass;
  }
}

std::vector<BodyId> addTo(World& world, const std::vector<Ball>& balls, double restitution) {
  std::vector<BodyId> ids;
  for (const Ball& b : balls) {
    BodyDef def = tangible(Sphere{b.radius}, b.mass, {b.at});
    def.restitution = restitution;
    def.friction = 0;
    def.velocity = b.velocity;
    ids.push_back(world.addBody(def));
  }
  return ids;
}

// Greatest error of a ball's velocity, as a share of the fastest one's at first.
double errorOf(const World& world, const std::vector<BodyId>& ids, const std::vector<Ball>& balls, double speed) {
  double worst = 0;
  for (std::size_t i = 0; i < ids.size(); ++i)
    worst = std::max(worst, (world.state(ids[i]).velocity - balls[i].velocity).norm() / speed);
  return worst;
}

struct Row {
  double speed, gap;
};
class SpacedRow : public testing::TestWithParam<Row> {};

// One ball after another hands on all its speed, however many are struck within a step.
TEST_P(SpacedRow, HandsOnItsSpeedBallByBall) {
  const auto [speed, gap] = GetParam();
  for (const double restitution : {1.0, 0.5}) {
    World world({.gravity = Vec3::Zero()});
    std::vector<Ball> balls;
    for (int i = 0; i < 5; ++i) balls.push_back({Vec3(i * (0.04 + gap), 0, 0), Vec3::Zero(), 1.0 + i % 2, 0.02});
    balls[0].velocity = Vec3(speed, 0, 0);
    const std::vector<BodyId> ids = addTo(world, balls, restitution);
    const int frames = static_cast<int>(std::ceil(60 * 10 * gap / speed)) + 1;
    fly(balls, frames / 60.0, restitution);
    for (int i = 0; i < frames; ++i) world.step();
    EXPECT_LE(errorOf(world, ids, balls, speed), 1e-3) << "restitution " << restitution;
  }
}
INSTANTIATE_TEST_SUITE_P(Cases, SpacedRow,
                         testing::Values(Row{1, 0.02}, Row{5, 0.02}, Row{20, 0.02}, Row{20, 0.5}, Row{50, 0.02},
                                         Row{50, 0.1}, Row{200, 0.02}, Row{200, 0.5}));

// A ball flies among four at rest. What is sent off at an angle multiplies every error with each touch; still most of
// the outcomes are those of the exact solution.
TEST(Billiard, FastBallAmongOthers) {
  for (const double speed : {10.0, 40.0, 120.0}) {
    std::mt19937 random{5};
    std::uniform_real_distribution<double> unit{-1, 1};
    constexpr int kTries = 60;
    int touches = 0, astray = 0;
    double mean = 0;
    for (int i = 0; i < kTries; ++i) {
      std::vector<Ball> balls{{Vec3(-0.4, 0.1 * unit(random), 0), Vec3(speed, 0.1 * speed * unit(random), 0), 1, 0.02}};
      while (balls.size() < 5) {
        const Ball next{Vec3(0.15 * unit(random), 0.15 * unit(random), 0), Vec3::Zero(), 1 + 0.5 * unit(random),
                        0.02 + 0.005 * unit(random)};
        const auto overlaps = [&](const Ball& b) { return (b.at - next.at).norm() < b.radius + next.radius + 0.003; };
        if (std::none_of(balls.begin(), balls.end(), overlaps)) balls.push_back(next);
      }
      World world({.gravity = Vec3::Zero()});
      const std::vector<BodyId> ids = addTo(world, balls, 1);
      const int frames = static_cast<int>(std::ceil(0.8 / speed * 60));
      touches += fly(balls, frames / 60.0, 1);
      for (int f = 0; f < frames; ++f) world.step();
      const double error = errorOf(world, ids, balls, speed);
      mean += error / kTries;
      astray += error > 0.02;
    }
    report("balls struck by one at " + std::to_string(static_cast<int>(speed)) + " m/s", mean, 0.01, "of its speed");
    EXPECT_GT(touches, 60) << "at " << speed << " m/s";
    EXPECT_LE(astray, kTries / 20) << "at " << speed << " m/s";
    EXPECT_LE(mean, 0.01) << "at " << speed << " m/s";
  }
}

// Smooth blocks with gaps, of which the first slides at the others.
std::vector<BodyId> addBlocks(World& world, double speed, double restitution) {
  std::vector<BodyId> ids;
  for (int i = 0; i < 4; ++i) {
    BodyDef def = tangible(Box{Vec3::Constant(0.1)}, 1, {Vec3(0.15 * i, 0, 0)});
    def.friction = 0;
    def.restitution = restitution;
    if (i == 0) def.velocity = Vec3(speed, 0, 0);
    ids.push_back(world.addBody(def));
  }
  return ids;
}

// A block that slides into a row of others, which do not bounce: each takes what momentum has come, and none goes
// through the next.
TEST(Billiard, BlocksThatDoNotBouncePushOneAnotherOn) {
  for (const double speed : {5.0, 30.0}) {
    World world({.gravity = Vec3::Zero()});
    const std::vector<BodyId> ids = addBlocks(world, speed, 0);
    for (int i = 0; i < 60; ++i) world.step();
    for (std::size_t i = 0; i < ids.size(); ++i) {
      EXPECT_NEAR(world.state(ids[i]).velocity.x(), speed / 4, 1e-2 * speed) << "block " << i << " at " << speed;
      if (i == 0) continue;
      EXPECT_GT(world.state(ids[i]).pose.position.x(), world.state(ids[i - 1]).pose.position.x() + 0.099)
          << "block " << i << " at " << speed;
    }
  }
}

// Blocks that bounce face to face: the last leaves at v ((1 + e) / 2)^3, and none begins to turn, as it would if one
// corner's touch counted without the others'.
TEST(Billiard, BlocksThatMeetFlatStayFlat) {
  for (const double restitution : {1.0, 0.5})
    for (const double speed : {2.0, 10.0, 50.0}) {
      World world({.gravity = Vec3::Zero()});
      const std::vector<BodyId> ids = addBlocks(world, speed, restitution);
      for (int i = 0; i < 60; ++i) world.step();
      const double last = speed * std::pow((1 + restitution) / 2, 3);
      EXPECT_NEAR(world.state(ids[3]).velocity.x(), last, 1e-6 * speed) << restitution << ", " << speed << " m/s";
      for (const BodyId id : ids)
        EXPECT_LE(world.state(id).angularVelocity.norm(), 1e-6) << restitution << ", " << speed << " m/s";
    }
}

// A rotor that turns more than half round in a frame strikes what it comes round to: its way is counted, not where it
// ends.
TEST(Billiard, FastRotorStrikesWhatItComesRoundTo) {
  World world({.gravity = Vec3::Zero()});
  BodyDef rotor = tangible(Box{{1, 0.1, 0.1}}, 4);
  rotor.angularVelocity = Vec3(0, 0, 250);
  const BodyId blade = world.addBody(rotor);
  JointDef hinge = joint(JointType::hinge, kWorld, {0, 0, 0}, blade, {0, 0, 0});
  hinge.frameA.rotation = hinge.frameB.rotation = turnBetween(Vec3::UnitX(), Vec3::UnitZ());
  world.addJoint(hinge);
  BodyDef pebble = tangible(Sphere{0.05}, 0.01, {Vec3(0, 0.4, 0)});
  pebble.friction = 0;
  const BodyId struck = world.addBody(pebble);
  for (int i = 0; i < 2; ++i) world.step();
  EXPECT_GT(world.state(struck).velocity.norm(), 50) << "it stayed where it was";
}

// A ball at rest between a wall and one a hundred, ten thousand, a million times as heavy that comes: there are as many
// touches as pi has digits' worth, 31, 314 and 3,141, over a thousand of them within one step (Galperin, "Playing pool
// with pi", Regular and Chaotic Dynamics 8, 2003).
TEST(Billiard, LightBallBetweenWallAndHeavyOne) {
  for (const auto& [ratio, touches] : {std::pair(1e2, 31), std::pair(1e4, 314), std::pair(1e6, 3141)}) {
    World world({.gravity = Vec3::Zero()});
    BodyDef wall;
    wall.role = Role::fixed;
    wall.shapes = {{Box{{0.2, 2, 2}}, {}}};
    wall.pose.position = {-0.1, 0, 0};
    wall.restitution = 1;
    world.addBody(wall);
    std::vector<Ball> balls{{{1, 0, 0}, {0, 0, 0}, 1, 0.1}, {{2, 0, 0}, {-1, 0, 0}, ratio, 0.1}};
    const std::vector<BodyId> ids = addTo(world, balls, 1);
    watch(world, 8);
    double light = 0, heavy = -1;
    for (int i = 0; i < touches; ++i) {
      const double common = (light + ratio * heavy) / (1 + ratio);
      if (i % 2)
        light = -light;
      else
        light = 2 * common - light, heavy = 2 * common - heavy;
    }
    EXPECT_NEAR(world.state(ids[0]).velocity.x(), light, 1e-6) << ratio;
    EXPECT_NEAR(world.state(ids[1]).velocity.x(), heavy, 1e-6) << ratio;
  }
}

// Two balls that meet off their centres, with friction: slip ends, or does not, by Coulomb's law in one impact. The
// touch comes at, just before and just after the end of a frame and of a substep, and in the middle of one.
TEST(Billiard, ObliqueTouchAtAnyInstant) {
  constexpr double kBall = 0.03, kMass = 0.2, kSpeed = 2, kRestitution = 0.9;
  struct Cut {
    double friction, angle, spin;  // rad, rad/s
  };
  for (const Cut& cut : {Cut{0.1, 0.5, 0}, Cut{0.06, 0.3, 100}, Cut{0.5, 1, -50}, Cut{0.3, 0.1, 0}, Cut{0, 0.5, 0}})
    for (const double substeps : {240.0, 100.0, 37.0})
      for (const double off : {-1e-3, -1e-9, -1e-12, 0.0, 1e-12, 1e-9, 1e-3, 0.37}) {
        const Vec3 n(std::cos(cut.angle), 0, std::sin(cut.angle));
        World world({.gravity = Vec3::Zero()});
        BodyDef ball = tangible(Sphere{kBall}, kMass, {{-kSpeed * (substeps + off) / 480, 0, 0}});
        ball.friction = cut.friction;
        ball.restitution = kRestitution;
        ball.velocity = {kSpeed, 0, 0};
        ball.angularVelocity = {0, cut.spin, 0};
        const BodyId cue = world.addBody(ball);
        ball.pose.position = 2 * kBall * n;
        ball.velocity = ball.angularVelocity = Vec3::Zero();
        const BodyId other = world.addBody(ball);
        watch(world, 0.6);
        const Vec3 v(kSpeed, 0, 0), slip = v - v.dot(n) * n + Vec3(0, cut.spin, 0).cross(kBall * n);
        const double pushed = kMass * (1 + kRestitution) * v.dot(n) / 2,
                     rubbed = std::min(cut.friction * pushed, kMass * slip.norm() / 7);
        const Vec3 impulse = pushed * n + rubbed * slip.normalized();
        EXPECT_LE((world.state(other).velocity - impulse / kMass).norm(), 1e-5 * kSpeed)
            << "friction " << cut.friction << ", touch after " << substeps << " + " << off << " substeps";
        EXPECT_LE((world.state(cue).velocity - v + impulse / kMass).norm(), 1e-5 * kSpeed)
            << "friction " << cut.friction << ", touch after " << substeps << " + " << off << " substeps";
      }
}

}  // namespace
}  // namespace calm::physics
