// SPDX-License-Identifier: GPL-3.0-or-later
// Contact and friction against closed forms, and loads that have to come to rest.
#include <gtest/gtest.h>

#include "physics/rigs.h"

namespace calm::physics {
namespace {

// A block that was put down flat on a tilted half space.
struct Slope {
  World world;
  BodyId block;
  Vec3 downhill;
};

Slope makeSlope(double tilt, double friction) {
  Slope s{World(), 0, Vec3(-std::cos(tilt), -std::sin(tilt), 0)};
  s.world.addBody(ground(friction, tilt));
  const Quat turned(Eigen::AngleAxisd(tilt, Vec3::UnitZ()));
  BodyDef def = tangible(Box{{0.4, 0.2, 0.3}}, 12, {turned * Vec3(0, 0.1, 0), turned});
  def.friction = friction;
  s.block = s.world.addBody(def);
  return s;
}

TEST(Friction, HoldsBelowItsAngle) {
  Slope s = makeSlope(0.98 * std::atan(0.5), 0.5);
  const Vec3 start = s.world.state(s.block).pose.position;
  for (int i = 0; i < 3600; ++i) s.world.step();
  const double crept = (s.world.state(s.block).pose.position - start).norm();
  report("creep on a slope at 98 % of the friction angle, 60 s", crept * 1e3, 1, "mm");
  EXPECT_LE(crept, 1e-3);
}

TEST(Friction, SlidesWithTheRightAcceleration) {
  const double tilt = 0.6, mu = 0.3;
  Slope s = makeSlope(tilt, mu);
  const Vec3 start = s.world.state(s.block).pose.position;
  for (int i = 0; i < 60; ++i) s.world.step();
  const double exact = 0.5 * kGravity * (std::sin(tilt) - mu * std::cos(tilt));
  const double slid = (s.world.state(s.block).pose.position - start).dot(s.downhill);
  report("slide after 1 s", (slid / exact - 1) * 100, 1, "%");
  EXPECT_NEAR(slid, exact, 0.01 * exact);
}

// A uniform sphere rolls down without slipping at 5/7 g sin(tilt).
TEST(Friction, RollsWithTheRightAcceleration) {
  const double tilt = 0.3, r = 0.2;
  World world;
  world.addBody(ground(0.8, tilt));
  const Quat turned(Eigen::AngleAxisd(tilt, Vec3::UnitZ()));
  BodyDef def = tangible(Sphere{r}, 3, {turned * Vec3(0, r, 0), Quat::Identity()});
  def.friction = 0.8;
  const BodyId ball = world.addBody(def);
  const Vec3 start = world.state(ball).pose.position;
  for (int i = 0; i < 60; ++i) world.step();
  const double exact = 0.5 * 5.0 / 7 * kGravity * std::sin(tilt);
  const double rolled = (world.state(ball).pose.position - start).norm();
  report("roll after 1 s", (rolled / exact - 1) * 100, 1, "%");
  EXPECT_NEAR(rolled, exact, 0.01 * exact);
}

// A solid cylinder rolls down at 2/3 g sin(tilt), and smoothly: its path never strays from the closed form.
TEST(Friction, CylinderRollsWithTheRightAcceleration) {
  const double tilt = 0.25, r = 0.15;
  World world;
  world.addBody(ground(0.8, tilt));
  const Quat turned(Eigen::AngleAxisd(tilt, Vec3::UnitZ()));
  const Quat lying = turned * Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitX()));
  BodyDef def = tangible(Cylinder{r, 0.4}, 5, {turned * Vec3(0, r, 0), lying});
  def.friction = 0.8;
  const BodyId roller = world.addBody(def);
  const Vec3 start = world.state(roller).pose.position;
  double worst = 0;
  for (int i = 0; i < 120; ++i) {
    world.step();
    const double t = world.time(), exact = 0.5 * 2.0 / 3 * kGravity * std::sin(tilt) * t * t;
    worst = std::max(worst, std::abs((world.state(roller).pose.position - start).norm() / exact - 1));
  }
  report("rolling cylinder, path", worst * 100, 1, "%");
  EXPECT_LE(worst, 0.01);
}

TEST(Shapes, CylinderStandsOnItsEnd) {
  World world;
  world.addBody(ground());
  const BodyId drum = world.addBody(tangible(Cylinder{0.3, 0.8}, 60, {{0, 0.42, 0}, Quat::Identity()}));
  const BodyId box = world.addBody(tangible(Box{{0.3, 0.3, 0.3}}, 20, {{0.05, 1, 0}, Quat::Identity()}));
  for (int i = 0; i < 300; ++i) world.step();
  EXPECT_NEAR(world.state(drum).pose.position.y(), 0.4, 1e-3);
  EXPECT_NEAR(world.state(box).pose.position.y(), 0.95, 1e-3);
  EXPECT_LE(world.state(box).velocity.norm(), 1e-3);
}

// Spinning on its flat end, pressed evenly, a disc is braked by the moment 2/3 mu N R (the integral of mu p r over the
// disc), so that it stops after 3 w R / (4 mu g). A ring of the same radius would stop it in two thirds of that.
TEST(Friction, BrakesASpinningDiscLikeAnEvenPressure) {
  const double mu = 0.3, radius = 0.5, spin = 10, stop = 3 * spin * radius / (4 * mu * kGravity);
  enum class Case { onGround, onBox, onAShaft };  // the last is solved with the joint's answer
  for (const Case what : {Case::onGround, Case::onBox, Case::onAShaft}) {
    SCOPED_TRACE(static_cast<int>(what));
    World world;
    BodyDef floor = ground(mu);
    if (what == Case::onBox) floor.shapes = {{Box{{4, 1, 4}}, {{0, -0.5, 0}, Quat::Identity()}}};
    const BodyId below = world.addBody(floor);
    BodyDef def = tangible(Cylinder{radius, 0.1}, 20, {{0, 0.05, 0}, Quat::Identity()});
    def.friction = mu;
    def.angularVelocity = Vec3(0, spin, 0);
    const BodyId disc = world.addBody(def);
    if (what == Case::onAShaft) {
      JointDef shaft = joint(JointType::cylinder, below, {0, 0.05, 0}, disc, Vec3::Zero());
      shaft.frameA.rotation = shaft.frameB.rotation = Quat(Eigen::AngleAxisd(kPi / 2, Vec3::UnitZ()));
      shaft.neighboursCollide = true;
      world.addJoint(shaft);
    }
    while (world.time() < 0.8 * stop) world.step();
    const double expected = spin * (1 - world.time() / stop), now = world.state(disc).angularVelocity.y();
    report("spinning disc: spin when four fifths are gone", (now / expected - 1) * 100, 1, "%");
    EXPECT_NEAR(now, expected, 0.01 * expected);
    while (world.time() < 1.1 * stop) world.step();
    EXPECT_NEAR(world.state(disc).angularVelocity.norm(), 0, 1e-4);
    const Vec3 at = world.state(disc).pose.position;
    EXPECT_LE(std::hypot(at.x(), at.z()), 1e-3) << "it wandered";
  }
}

struct Spinning {
  const char* name;
  Vec3 size;      // m; lies on its largest face
  double moment;  // mean distance of its face from the middle, m
};
class SpinningBlock : public testing::TestWithParam<Spinning> {};

// Pressed evenly, a block that spins on the ground is braked by mu N times its face's mean distance from the middle:
// for a square of side a that is (sqrt 2 + ln(1 + sqrt 2)) a / 6, for a thin rod L / 4.
TEST_P(SpinningBlock, IsBrakedLikeByAnEvenPressure) {
  const auto [name, size, moment] = GetParam();
  const double mu = 0.3, mass = 5, spin = 8;
  const double inertia = mass * (size.x() * size.x() + size.z() * size.z()) / 12;
  const double stop = inertia * spin / (mu * mass * kGravity * moment);
  World world;
  world.addBody(ground(mu));
  BodyDef def = tangible(Box{size}, mass, {{0, size.y() / 2, 0}, Quat::Identity()});
  def.friction = mu;
  def.angularVelocity = Vec3(0, spin, 0);
  const BodyId block = world.addBody(def);
  while (world.time() < 0.8 * stop) world.step();
  const double expected = spin * (1 - world.time() / stop), now = world.state(block).angularVelocity.y();
  report(std::string("spinning ") + name + ": spin when four fifths are gone", (now / expected - 1) * 100, 1, "%");
  EXPECT_NEAR(now, expected, 0.01 * expected);
  while (world.time() < 1.1 * stop) world.step();
  EXPECT_NEAR(world.state(block).angularVelocity.norm(), 0, 1e-4);
}
INSTANTIATE_TEST_SUITE_P(
    Cases, SpinningBlock,
    testing::Values(Spinning{"square block", {0.4, 0.1, 0.4}, 0.4 * (std::sqrt(2) + std::log(1 + std::sqrt(2))) / 6},
                    // Mean distance in a rectangle: d/6 + (a^2 asinh(b/a)/b + b^2 asinh(a/b)/a)/12, d its diagonal.
                    Spinning{"block of two squares",
                             {0.8, 0.1, 0.4},
                             std::sqrt(0.8) / 6 + (0.64 * std::asinh(0.5) / 0.4 + 0.16 * std::asinh(2) / 0.8) / 12},
                    Spinning{"rod", {1, 0.002, 0.005}, 0.25}));

// Skidding ball: friction turns the slide into a roll at 5/7 of the first speed.
TEST(Friction, BowlingBallEndsRollingAtFiveSeventhsOfItsSpeed) {
  World world;
  world.addBody(ground(0.2));
  BodyDef def = tangible(Sphere{0.11}, 6, {{0, 0.11, 0}, Quat::Identity()});
  def.friction = 0.2;
  def.velocity = Vec3(7, 0, 0);
  const BodyId ball = world.addBody(def);
  for (int i = 0; i < 120; ++i) world.step();
  const double speed = world.state(ball).velocity.x();
  report("bowling ball's end speed", (speed / 5 - 1) * 100, 1, "%");
  EXPECT_NEAR(speed, 5, 0.05);
}

TEST(Bounce, GoesBackAtRestitutionTimesTheSpeed) {
  World world({.gravity = Vec3::Zero()});
  world.addBody(ground());
  BodyDef def = tangible(Sphere{0.1}, 1, {{0, 0.5, 0}, Quat::Identity()});
  def.restitution = 0.7;
  def.velocity = Vec3(0, -3, 0);
  const BodyId ball = world.addBody(def);
  for (int i = 0; i < 60; ++i) world.step();
  EXPECT_NEAR(world.state(ball).velocity.y(), 2.1, 1e-9);
}

// A ball dropped from h comes back to e^2 h, bounce after bounce, at the times that free fall gives.
TEST(Bounce, KeepsTheHeightsOfNewtonsLaw) {
  for (const double e : {1.0, 0.8}) {
    World world;
    world.addBody(ground());
    BodyDef def = tangible(Sphere{0.1}, 1, {{0, 1.1, 0}, Quat::Identity()});
    def.restitution = e;
    const BodyId ball = world.addBody(def);
    double worst = 0;
    for (int i = 0; i < 240; ++i) {
      world.step();
      // The exact height at this time, from bounce to bounce.
      double t = world.time(), height = 1, up = 0;
      double fall = std::sqrt(2 * height / kGravity);
      double exact = t < fall ? height - kGravity * t * t / 2 : -1;
      t -= fall;
      while (exact < 0) {
        height *= e * e;
        up = std::sqrt(2 * kGravity * height);
        const double flight = 2 * up / kGravity;
        if (t < flight) exact = up * t - kGravity * t * t / 2;
        t -= flight;
      }
      worst = std::max(worst, std::abs(world.state(ball).pose.position.y() - 0.1 - exact));
    }
    report("bouncing ball, restitution " + std::to_string(e) + ", height over 4 s", worst * 1e3, 10, "mm");
    EXPECT_LE(worst, 0.01) << "restitution " << e;
  }
}

TEST(EqualBalls, PassTheirSpeedAlongTheRow) {
  World world({.gravity = Vec3::Zero()});
  std::vector<BodyId> balls;
  for (int i = 0; i < 5; ++i) {
    BodyDef def = tangible(Sphere{0.05}, 0.4, {{i * 0.1 + (i > 0 ? 0.2 : 0), 0, 0}, Quat::Identity()});
    def.restitution = 1;
    def.friction = 0;
    if (i == 0) def.velocity = Vec3(2, 0, 0);
    balls.push_back(world.addBody(def));
  }
  for (int i = 0; i < 60; ++i) world.step();
  report("last ball's speed", world.state(balls.back()).velocity.x(), 2, "m/s");
  EXPECT_NEAR(world.state(balls.back()).velocity.x(), 2, 0.02);
}

TEST(Stack, OfTenBoxesStandsForAMinute) {
  World world;
  world.addBody(ground());
  std::vector<BodyId> boxes;
  for (int i = 0; i < 10; ++i)
    boxes.push_back(world.addBody(tangible(Box{Vec3::Constant(0.3)}, 20, {{0, 0.15 + 0.3 * i, 0}, Quat::Identity()})));
  for (int i = 0; i < 3600; ++i) world.step();
  double worst = 0;
  for (int i = 0; i < 10; ++i)
    worst = std::max(worst, (world.state(boxes[i]).pose.position - Vec3(0, 0.15 + 0.3 * i, 0)).norm());
  report("drift of a stack of ten boxes, 60 s", worst * 1e3, 1, "mm");
  EXPECT_LE(worst, 1e-3);
}

// Whatever they were dropped like, boxes on each other come to lie still, with each interface carrying the weight above
// it: forces that solvers take over from step to step make up for what earlier ones have left, and must not keep a
// tower swaying.
TEST(Stack, LiesStillAndCarriesTheWeightAbove) {
  for (const int count : {2, 5, 7, 10, 14}) {
    World world;
    world.addBody(ground(0.6));
    std::vector<BodyId> boxes;
    for (int i = 0; i < count; ++i)
      boxes.push_back(world.addBody(tangible(Box{Vec3::Constant(0.5)}, 10, {{0.003 * i, 0.25 + 0.51 * i, 0.004 * i}})));
    for (int i = 0; i < 480; ++i) world.step();
    double fastest = 0, spin = 0;
    for (int i = 0; i < 60; ++i) {
      world.step();
      for (const BodyId box : boxes) {
        fastest = std::max(fastest, world.state(box).velocity.norm());
        spin = std::max(spin, world.state(box).angularVelocity.norm());
      }
    }
    const std::string what = "a tower of " + std::to_string(count) + " boxes at rest";
    report(what + ", speed", 1e6 * fastest, 10, "um/s");
    // Hundredths of a millimetre in a second, of any corner.
    EXPECT_LE(fastest, 1e-5) << what;
    EXPECT_LE(spin, 1e-5) << what;
    for (const TouchReading& touch : world.touches()) {
      const int above =
          boxes.back() - std::min(touch.a, touch.b);  // all were added one after another, from the ground up
      EXPECT_NEAR(std::abs(touch.force.y()) / (kGravity * 10), above, 1e-5 * above) << what;
    }
  }
}

// Light boxes under a load of any weight: the ground carries all of it, and nothing yields, creeps or trembles.
TEST(Stack, OfLightBoxesCarriesAnyLoad) {
  constexpr double kSide = 0.5, kNeeded = 5e-5;  // m, hundredths of a millimetre
  for (const int light : {1, 3, 9})
    for (const double load : {1e2, 1e3, 1e4, 1e5}) {
      World world;
      const BodyId floor = world.addBody(ground());
      std::vector<BodyId> boxes;
      for (int i = 0; i <= light; ++i)
        boxes.push_back(world.addBody(
            tangible(Box{Vec3::Constant(kSide)}, i < light ? 1 : load, {{0, kSide * (i + 0.5), 0}, Quat::Identity()})));
      double worst = 0, late = 0, carried = 0;
      for (int i = 0; i < 240; ++i) {
        world.step();
        for (int k = 0; k <= light; ++k) {
          const BodyState box = world.state(boxes[k]);
          worst = std::max(worst, (box.pose.position - Vec3(0, kSide * (k + 0.5), 0)).norm());
          if (i > 120) late = std::max(late, box.velocity.norm());
        }
      }
      for (const TouchReading& touch : world.touches())
        if (touch.a == floor || touch.b == floor) carried += std::abs(touch.force.y());
      const std::string what = std::to_string(light) + " light boxes under " + std::to_string(load) + " times as much";
      report(what + ", drift", 1000 * worst, 1000 * kNeeded, "mm");
      EXPECT_LE(worst, kNeeded) << what;
      EXPECT_LE(late, 1e-6) << what;
      EXPECT_NEAR(carried / (kGravity * (light + load)), 1, 1e-6) << what;
    }
}

// A plate of 1 kg drawn away under a block of a tonne, and a tonne that slides on such a plate: friction takes its
// share whatever the masses (Coulomb).
TEST(Friction, BetweenVeryUnequalMasses) {
  constexpr double kSeconds = 0.5, kFloor = 0.1, kBetween = 0.3, kLoad = 1000;
  struct Case {
    double pull;
    int substeps;
  };
  for (const auto& [pull, substeps] : {Case{2000, 8}, Case{3930, 8}, Case{2000, 32}, Case{3930, 32}}) {
    StepSettings settings;
    settings.substeps = substeps;
    World world(settings);
    BodyDef floor = ground(kFloor);
    world.addBody(floor);
    BodyDef plate = tangible(Box{{4, 0.1, 1}}, 1, {{0, 0.05, 0}, Quat::Identity()});
    plate.friction = kFloor;
    const BodyId below = world.addBody(plate);
    BodyDef block = tangible(Box{{0.4, 0.4, 0.4}}, kLoad, {{0, 0.3, 0}, Quat::Identity()});
    block.friction = kBetween * kBetween / kFloor;  // of the two the geometric mean
    const BodyId above = world.addBody(block);
    world.addForce(below, {pull, 0, 0}, plate.pose.position);
    for (int i = 0; i < kSeconds * 60; ++i) world.step();
    const double fromFloor = kFloor * (kLoad + 1) * kGravity, most = kBetween * kLoad * kGravity;
    const double together = (pull - fromFloor) / (kLoad + 1);
    const bool slips = kLoad * together > most;
    const double wantAbove = slips ? most / kLoad : together, wantBelow = slips ? pull - fromFloor - most : together;
    const double a = world.state(above).velocity.x() / kSeconds, b = world.state(below).velocity.x() / kSeconds;
    report("a tonne on a plate of 1 kg pulled by " + std::to_string(pull) + " N: load",
           100 * std::abs(a / wantAbove - 1), 0.1, "%");
    EXPECT_NEAR(a / wantAbove, 1, 1e-3);
    EXPECT_NEAR(b / wantBelow, 1, 1e-3);
    // Friction is there from the first step on: in one of them without it the plate would go 13 mm.
    const double way = world.state(below).pose.position.x(), wantWay = 0.5 * wantBelow * kSeconds * kSeconds;
    report("the plate's way, off", std::abs(way - wantWay) * 1e3, 0.5, "mm");
    EXPECT_NEAR(way, wantWay, 5e-4);
  }
}

TEST(Shapes, ComeToRestOnTheGround) {
  World world;
  world.addBody(ground());
  const Quat tilted(Eigen::AngleAxisd(0.7, Vec3(1, 2, 3).normalized()));
  std::vector<BodyId> parts;
  parts.push_back(world.addBody(tangible(Box{{0.3, 0.5, 0.2}}, 30, {{0, 1, 0}, tilted})));
  parts.push_back(world.addBody(tangible(Capsule{0.1, 0.6}, 5, {{2, 1, 0}, tilted})));
  parts.push_back(world.addBody(tangible(Box{{1, 0.1, 1}}, 50, {{0, 2, 0.1}, Quat::Identity()})));
  for (int i = 0; i < 60 * 8; ++i) world.step();
  for (BodyId p : parts) {
    // A capsule may roll on without resistance; it may not bounce or sink.
    EXPECT_LE(std::abs(world.state(p).velocity.y()), 1e-3) << "part " << p;
  }
  EXPECT_LE(world.state(parts[0]).velocity.norm(), 1e-3);
  for (const ContactReading& c : world.contacts()) EXPECT_GE(c.gap, -1e-3);
}

// The quay's jib hoist with its line paid out: the stone falls half a metre beside the hook while the chain hangs slack
// between them in two legs, lands, and all comes to rest.
TEST(ChainWithItsBlock, LandsAndComesToRest) {
  World world;
  world.addBody(ground());
  const ChainPlan plan{40, 0.05, 0.2, 500, 0};
  const double side = std::cbrt(plan.payload / 2600);
  const Vec3 hook(0, side + 0.9, 0), eye(0.8, side + 0.5, 0);
  // The lowest point of the two equal straight legs.
  const double leg = plan.links / 2 * plan.length, across = (eye - hook).norm();
  const Vec3 along = (eye - hook) / across, middle = (hook + eye) / 2;
  const Vec3 low = middle + std::sqrt(leg * leg - across * across / 4) * Vec3(along.y(), -along.x(), 0);
  BodyId above = kWorld;
  Vec3 anchor = hook, at = hook;
  std::vector<BodyId> links;
  for (int i = 0; i < plan.links; ++i) {
    const Vec3 direction = (i < plan.links / 2 ? Vec3(low - hook) : Vec3(eye - low)) / leg;
    const Quat turned = turnBetween(Vec3::UnitY(), direction);
    BodyDef def = tangible(Capsule{0.01, plan.length}, plan.mass, {at + direction * plan.length / 2, turned});
    def.linearDamping = 2.5;  // both as the Line kit gives
    def.angularDamping = 4;
    const BodyId link = world.addBody(def);
    world.addJoint(joint(JointType::ball, above, anchor, link, {0, -plan.length / 2, 0}));
    at += direction * plan.length;
    above = link;
    anchor = Vec3(0, plan.length / 2, 0);
    links.push_back(link);
  }
  const BodyId stone =
      world.addBody(tangible(Box{Vec3::Constant(side)}, plan.payload, {eye - Vec3(0, side / 2, 0), Quat::Identity()}));
  world.addJoint(joint(JointType::ball, above, anchor, stone, {0, side / 2, 0}));
  double separation = 0, landed = -1, quiet = -1;
  for (int i = 0; i < 60 * 6; ++i) {
    world.step();
    for (JointId j = 0; j < world.jointCount(); ++j) separation = std::max(separation, world.reading(j).separationPeak);
    if (landed < 0 && world.state(stone).pose.position.y() < side / 2 + 1e-3) landed = world.time();
    double speed = world.state(stone).velocity.norm();
    for (BodyId l : links) speed = std::max(speed, world.state(l).velocity.norm());
    if (speed > 0.05)
      quiet = -1;
    else if (quiet < 0)
      quiet = world.time();
  }
  ASSERT_GE(landed, 0) << "the stone never reached the ground";
  report("chain with block: separation", separation * 1e3, 0.1, "mm");
  report("chain with block: quiet after landing", quiet - landed, 3, "s");
  EXPECT_LE(separation, 1e-4);
  EXPECT_GE(quiet, 0) << "still moving at the end";
  EXPECT_LE(quiet - landed, 3);
}

}  // namespace
}  // namespace calm::physics
