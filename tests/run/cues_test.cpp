// SPDX-License-Identifier: GPL-3.0-or-later
// Cues against mechanics: what they do, when they come, and the energy that they put in.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "engine/shape/mesh.h"
#include "rig/edits.h"
#include "run/cue_rigs.h"

namespace calm::run {
namespace {

TEST(Cues, AnImpulsePutsInItsSquareOverTwiceTheMass) {
  rig::Rig rig = adrift();
  Cue blow = cueAt(1, Cue::Act::impulse, rig.parts[0].id);
  blow.vector = {20, 0, 0};
  rig::addCue(rig, blow);
  const auto r = runOf(rig);
  EXPECT_EQ(r->frame(59).cues[0].begunAt, -1) << "not before its time";
  EXPECT_NEAR(lastOf(*r).cues[0].begunAt, 1, 1e-12);
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), 2, 1e-12);
  EXPECT_NEAR(lastOf(*r).cues[0].energy, 20 * 20 / (2 * 10.0), 1e-9);
}

TEST(Cues, APushPutsInTheWorkThatItDoes) {
  rig::Rig rig = adrift();
  Cue push = cueAt(0.5, Cue::Act::push, rig.parts[0].id);
  push.vector = {30, 0, 0};
  push.lasts = 1;
  rig::addCue(rig, push);
  const auto r = runOf(rig);
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), 3, 1e-9) << "F t / m";
  EXPECT_NEAR(lastOf(*r).cues[0].energy, 0.5 * 10 * 9, 1e-6) << "becomes energy of motion";
}

TEST(Cues, APushMayEndWithinAFrame) {
  for (const double lasts : {0.004, 0.1234}) {
    rig::Rig rig = adrift();
    Cue push = cueAt(0.5, Cue::Act::push, rig.parts[0].id);
    push.vector = {30, 0, 0};
    push.lasts = lasts;
    rig::addCue(rig, push);
    const auto r = runOf(rig);
    const double speed = 30 * lasts / 10;
    EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), speed, 1e-9) << "F t / m";
    EXPECT_NEAR(lastOf(*r).cues[0].energy, 0.5 * 10 * speed * speed, 1e-9);
  }
}

// m v' = q (w(t) - v)^2 with w = W (1 - cos 2 pi t / T) / 2, by classical Runge-Kutta steps of 1 ms.
TEST(Cues, AGustBlowsAsItsLawSays) {
  rig::Rig rig = adrift();
  Cue gust = cueAt(0, Cue::Act::gust);
  gust.vector = {25, 0, 0};
  gust.lasts = 2;
  gust.drag = 1.5;
  rig::addCue(rig, gust);
  double v = 0;
  const auto slope = [](double t, double speed) {
    const double past = 12.5 * (1 - std::cos(std::numbers::pi * t)) - speed;
    return 1.5 * std::abs(past) * past / 10;
  };
  for (int i = 0; i < 2000; ++i) {
    const double t = i * 1e-3, h = 1e-3;
    const double a = slope(t, v), b = slope(t + h / 2, v + h / 2 * a), c = slope(t + h / 2, v + h / 2 * b),
                 d = slope(t + h, v + h * c);
    v += h / 6 * (a + 2 * b + 2 * c + d);
  }
  const auto r = runOf(rig);
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), v, 0.005 * v);
  EXPECT_NEAR(lastOf(*r).cues[0].energy, 0.5 * 10 * v * v, 0.01 * 0.5 * 10 * v * v)
      << "nothing else moves it; the work is summed frame by frame";
}

TEST(Cues, WithoutADragAGustTakesTheFrontalArea) {
  rig::Rig rig = adrift();
  Cue given = cueAt(0, Cue::Act::gust);
  given.vector = {0, 0, 10};
  given.lasts = 1;
  rig::Rig same = rig;
  rig::addCue(rig, given);
  given.drag = 0.5 * 1.2 * 1;  // half the density of air times a square metre
  rig::addCue(same, given);
  EXPECT_NEAR(lastOf(*runOf(rig)).parts[0].velocity.z(), lastOf(*runOf(same)).parts[0].velocity.z(), 1e-12);
}

TEST(Cues, AGustOnAllBlowsOnEachByItsOwnSize) {
  rig::Rig rig = adrift();
  for (int i = 0; i < 3; ++i) addBox(rig, "crate like it", {0, 3.0 * (i + 1), 0});
  rig::Part small;
  small.name = "keg";
  small.shape = Box{{0.5, 0.5, 0.5}};
  small.heft = rig::Mass{10};
  small.pose.position = {0, -3, 0};
  rig::addPart(rig, small);
  Cue gust = cueAt(0, Cue::Act::gust);
  gust.vector = {0, 0, 2};
  gust.lasts = 1;
  rig::addCue(rig, gust);
  const auto r = runOf(rig);
  const auto speed = [&](std::size_t p) { return lastOf(*r).parts[p].velocity.z(); };
  EXPECT_GT(speed(0), 0.01);
  EXPECT_EQ(speed(0), speed(2));
  // Far below the wind's speed the force goes with the area: a quarter of it.
  EXPECT_NEAR(speed(4), speed(0) / 4, 0.05 * speed(0));
}

TEST(Cues, AHandLetsBeWhatSomethingStrongerMoves) {
  rig::Rig rig = adrift();
  Cue pull = cueAt(0, Cue::Act::pull, rig.parts[0].id);
  pull.track = {{0, {0, 1, 0}}, {2, {0, 1, 0}}};
  rig::addCue(rig, pull);
  Cue hold = cueAt(0.5, Cue::Act::role, rig.parts[0].id);
  hold.role = Role::fixed;
  rig::addCue(rig, hold);
  const auto r = runOf(rig);
  EXPECT_EQ(r->size(), 181u);
  EXPECT_EQ(lastOf(*r).parts[0].velocity, Vec3(0, 0, 0));
}

TEST(Cues, AThrownBallGivesItsMomentum) {
  rig::Rig rig = adrift();
  Cue ball = cueAt(0.25, Cue::Act::ball);
  ball.point = {-3, 0, 0};
  ball.vector = {12, 0, 0};
  ball.mass = 2;
  ball.radius = 0.1;
  rig::addCue(rig, ball);
  const auto r = runOf(rig);
  EXPECT_NEAR(lastOf(*r).cues[0].energy, 0.5 * 2 * 144, 1e-9);
  EXPECT_EQ(r->frame(10).cues[0].body, CueSample::Body::none);
  ASSERT_EQ(lastOf(*r).cues[0].body, CueSample::Body::ball);
  // They do not bounce, so that both go on at the common speed, but for what undoes the overlap of the blow.
  const double moved = lastOf(*r).cues[0].pose.position.x() - r->frame(r->size() - 2).cues[0].pose.position.x();
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), 2 * 12 / 12.0, 0.01);
  EXPECT_NEAR(10 * lastOf(*r).parts[0].velocity.x() + 2 * moved * 60, 24, 1e-6);
}

TEST(Cues, AProbePushesAndIsGone) {
  rig::Rig rig = adrift();
  Cue probe = cueAt(0, Cue::Act::probe);
  probe.track = {{0, {-2, 0, 0}}, {1, {0, 0, 0}}};
  probe.cap = 3000;
  rig::addCue(rig, probe);
  const auto r = runOf(rig);
  EXPECT_EQ(r->frame(30).cues[0].body, CueSample::Body::probe);
  EXPECT_EQ(lastOf(*r).cues[0].body, CueSample::Body::none);
  EXPECT_GT(lastOf(*r).parts[0].velocity.x(), 0.2);
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.x(), r->frame(70).parts[0].velocity.x(), 1e-9) << "nothing touches it";
  EXPECT_GT(lastOf(*r).cues[0].energy, 0.5 * 10 * std::pow(lastOf(*r).parts[0].velocity.x(), 2))
      << "the probe itself was moved, too";
}

TEST(Cues, AHandBringsWhatItHoldsWithoutSwinging) {
  rig::Rig rig = adrift(-9.81);
  rig.stage.duration = 6;
  rig.parts[0].angularDamping = 3;
  Cue pull = cueAt(0, Cue::Act::pull, rig.parts[0].id);
  pull.point = {0, 0.5, 0};
  pull.track = {{0, {0, 0.5, 0}}, {0.5, {1, 1, 0}}, {6, {1, 1, 0}}};
  rig::addCue(rig, pull);
  const auto r = runOf(rig);
  const Vec3 held = lastOf(*r).parts[0].pose.apply({0, 0.5, 0});
  // The weight stretches it: 98.1 N over 1 kN/m, the strength of 500 N at half a metre.
  EXPECT_NEAR(held.y(), 1 - 0.0981, 0.002);
  EXPECT_NEAR(held.x(), 1, 0.05) << "it hangs like a pendulum from the hand";
  for (std::size_t i = 0; i < r->size(); ++i)
    EXPECT_LT(r->frame(i).parts[0].pose.position.norm(), 2.5) << "at " << r->frame(i).time;
}

TEST(Cues, AHandIsNoStrongerThanItsCap) {
  rig::Rig rig = adrift(-9.81);
  Cue pull = cueAt(0, Cue::Act::pull, rig.parts[0].id);
  pull.track = {{0, {0, 5, 0}}, {3, {0, 5, 0}}};
  pull.cap = 90;
  rig::addCue(rig, pull);
  const auto r = runOf(rig);
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.y(), 3 * (9 - 9.81), 1e-6) << "less than the weight, all the time";
}

TEST(Cues, WhatBecomesKinematicComesOverToItsKeys) {
  for (const double lasts : {0.0, 0.5}) {
    rig::Rig rig = adrift();
    rig.parts[0].velocity = {2, 0, 0};
    rig.parts[0].motion = Motion{};
    rig.parts[0].motion->keys = {{0, {{0, 3, 0}, Quat::Identity()}}};
    Cue role = cueAt(1, Cue::Act::role, rig.parts[0].id);
    role.role = Role::kinematic;
    role.lasts = lasts;
    rig::addCue(rig, role);
    const auto r = runOf(rig);
    EXPECT_LT((lastOf(*r).parts[0].pose.position - Vec3(0, 3, 0)).norm(), 1e-9);
    double fastest = 0, jump = 0;
    for (std::size_t i = 1; i < r->size(); ++i) {
      const Vec3 step = r->frame(i).parts[0].pose.position - r->frame(i - 1).parts[0].pose.position;
      fastest = std::max(fastest, step.norm() * 60);
      jump = std::max(jump, (r->frame(i).parts[0].velocity - r->frame(i - 1).parts[0].velocity).norm());
    }
    if (lasts == 0) {
      EXPECT_GT(fastest, 100) << "at once, it is thrown there";
    } else {
      // The quintic's greatest rate is 15/8 of the mean one: 3.6 m in half a second.
      EXPECT_LT(fastest, 15.0 / 8 * std::hypot(3, 2) / 0.5 + 2);
      EXPECT_LT(jump, 3.5) << "no kick: at most the quintic's acceleration over a frame";
    }
  }
}

TEST(Cues, AJointThatIsMadeClosesWithinItsTime) {
  rig::Rig rig = adrift();
  const rig::Id plug = rig.parts[0].id, socket = addBox(rig, "socket", {2.2, 0, 0});
  const rig::Id joint = rig::addJoint(rig, JointType::fixed, plug, socket, {1, 0, 0}, Vec3::UnitX());
  rig.joint(joint)->b.at.x() -= 0.1;  // 10 cm short
  rig.joint(joint)->made = false;
  rig.parts[0].velocity = {0, 0.1, 0};
  Cue make = cueAt(1, Cue::Act::make);
  make.joint = joint;
  make.lasts = 0.6;
  rig::addCue(rig, make);
  const auto r = runOf(rig);
  const auto gap = [&](double time) {
    const Frame& f = r->frame(r->indexAt(time));
    return (f.parts[0].pose.apply(rig.joints[0].a.at) - f.parts[1].pose.apply(rig.joints[0].b.at)).norm();
  };
  EXPECT_EQ(r->frame(30).joints[0].force, 0) << "not there yet";
  EXPECT_GT(gap(0.98), 0.09);
  EXPECT_LT(gap(1.62), 0.06 * gap(0.98));
  EXPECT_LT(gap(3), 1e-4);
  EXPECT_FALSE(r->partedAt(0));
  // Momentum stays: both go on at half the speed.
  EXPECT_NEAR(lastOf(*r).parts[0].velocity.y() + lastOf(*r).parts[1].velocity.y(), 0.1, 1e-9);
}

TEST(Cues, ConditionsAreWaitedFor) {
  rig::Rig rig = adrift(-10);
  const rig::Id crate = rig.parts[0].id;
  const rig::Id low = addBox(rig, "deck", {0, -6, 0});
  rig.part(low)->role = Role::fixed;
  struct Case {
    const char* what;
    Trigger when;
    double at;
  };
  Trigger speed{Trigger::Kind::above, 0, rig::kNone, rig::kNone, {rig::Reading::What::speed, crate}, 5, 0.25};
  Trigger height{Trigger::Kind::below, 0, rig::kNone, rig::kNone, {rig::Reading::What::y, crate}, -1.25, 0};
  Trigger near{
      Trigger::Kind::below, 0, rig::kNone, rig::kNone, {rig::Reading::What::distance, crate, 0, low}, 6 - 1.25, 0};
  Trigger touch{Trigger::Kind::touch, 0, crate, low, {}, 0, 0};
  Trigger load{Trigger::Kind::above, 0, rig::kNone, rig::kNone, {rig::Reading::What::touch, crate}, 50, 0};
  for (const Case& c : {Case{"speed", speed, 0.75}, Case{"height", height, 0.5}, Case{"distance", near, 0.5},
                        Case{"touch", touch, 1}, Case{"load", load, 1}}) {
    rig::Rig tried = rig;
    Cue cue;
    cue.when = c.when;
    cue.act = Cue::Act::gravity;
    rig::addCue(tried, cue);
    const auto r = runOf(tried);
    EXPECT_NEAR(lastOf(*r).cues[0].begunAt, c.at, 2.1 / 60) << c.what;
    EXPECT_EQ(lastOf(*r).cues.size(), 1u);
  }
}

TEST(Cues, APartingIsWaitedForAndDelayed) {
  rig::Rig rig = adrift(-10);
  rig::addJoint(rig, JointType::ball, rig::kNone, rig.parts[0].id, {0, 0.5, 0}, Vec3::UnitX());
  Cue cut = cueAt(0.5, Cue::Act::cut);
  cut.joint = rig.joints[0].id;
  rig::addCue(rig, cut);
  Cue stop;
  stop.when.kind = Trigger::Kind::parted;
  stop.when.of = rig.joints[0].id;
  stop.when.delay = 0.5;
  stop.act = Cue::Act::role;
  stop.part = rig.parts[0].id;
  stop.role = Role::fixed;
  rig::addCue(rig, stop);
  const auto r = runOf(rig);
  EXPECT_NEAR(lastOf(*r).cues[1].begunAt, 1, 2.1 / 60);
  EXPECT_NEAR(lastOf(*r).parts[0].pose.position.y(), -10 * 0.25 / 2, 0.1);
  EXPECT_NEAR(lastOf(*r).cues[1].energy, -0.5 * 10 * 25, 25) << "it takes the energy of motion away";
}

TEST(Cues, FaultsNameTheCueAndWhatIsWrong) {
  const auto faultWith = [](const std::function<void(Cue&)>& spoil) {
    rig::Rig rig = adrift();
    Cue cue = cueAt(0, Cue::Act::push, rig.parts[0].id);
    cue.vector = {1, 0, 0};
    cue.lasts = 1;
    rig::addCue(rig, cue);
    spoil(rig.cues[0]);
    try {
      compile(rig);
    } catch (const CompileError& e) {
      return std::string(e.what());
    }
    return std::string();
  };
  using testing::HasSubstr;
  EXPECT_EQ(faultWith([](Cue&) {}), "");
  EXPECT_THAT(faultWith([](Cue& c) { c.part = 77; }), HasSubstr("cue 1 (push): there is no part 77"));
  EXPECT_THAT(faultWith([](Cue& c) { c.lasts = 0; }), HasSubstr("more than 0 s"));
  EXPECT_THAT(faultWith([](Cue& c) { c.vector.x() = NAN; }), HasSubstr("finite"));
  EXPECT_THAT(faultWith([](Cue& c) { c.when.at = -1; }), HasSubstr("0 or more"));
  EXPECT_THAT(faultWith([](Cue& c) { c.act = Cue::Act::pull; }), HasSubstr("track"));
  EXPECT_THAT(faultWith([](Cue& c) { c.act = Cue::Act::field; }), HasSubstr("there is no field 1"));
  EXPECT_THAT(faultWith([](Cue& c) { c.act = Cue::Act::make; }), HasSubstr("there is no joint 0"));
}

TEST(Cues, WhatCannotBeDoneInTheRunIsNamedWithItsTime) {
  rig::Rig rig = adrift();
  rig::Part plate;
  plate.name = "plate";
  plate.role = Role::fixed;
  plate.shape = TriangleMesh{std::make_shared<MeshData>(makeHeightField(2, 2, 1, 1, {0, 0, 0, 0}))};
  const rig::Id id = rig::addPart(rig, plate);
  Cue role = cueAt(0.5, Cue::Act::role, id);
  rig::addCue(rig, role);
  try {
    runOf(rig);
    FAIL() << "a mesh cannot fall";
  } catch (const CompileError& e) {
    EXPECT_THAT(e.what(), testing::HasSubstr("cue 1 (role) at 0.500 s"));
  }
}

}  // namespace
}  // namespace calm::run
