// SPDX-License-Identifier: GPL-3.0-or-later
// Cues that change axes, gravity and fields, at once or over a time, one after another.
#include <gtest/gtest.h>

#include <cmath>

#include "run/cue_rigs.h"

namespace calm::run {
namespace {

// The crate of 10 kg on a rail along x, with this on its axis.
rig::Rig onRail(const AxisDef& axis) {
  rig::Rig rig = adrift();
  const rig::Id joint = rig::addJoint(rig, JointType::slider, rig::kNone, rig.parts[0].id, {0, 0, 0}, Vec3::UnitX());
  rig.joint(joint)->axes[0] = axis;
  return rig;
}

Cue& addChange(rig::Rig& rig, double time, double lasts, double AxisDef::*number, double value) {
  Cue cue = cueAt(time, Cue::Act::axis);
  cue.joint = rig.joints[0].id;
  cue.lasts = lasts;
  cue.axis.set(number, value);
  rig::addCue(rig, cue);
  return rig.cues.back();
}

AxisDef motor(double speed, double cap) {
  AxisDef axis;
  axis.speed = speed, axis.cap = cap;
  return axis;
}

double xOf(const Recording& r, double time) {
  return r.frame(r.indexAt(time)).parts[0].pose.position.x();
}

TEST(Changes, GravityChangesEvenly) {
  for (const double lasts : {1.0, 0.995}) {
    rig::Rig rig = adrift(-10);
    Cue lift = cueAt(1, Cue::Act::gravity);
    lift.vector = {0, 0, 0};
    lift.lasts = lasts;
    rig::addCue(rig, lift);
    // -10 for a second, then evenly less.
    EXPECT_NEAR(lastOf(*runOf(rig)).parts[0].velocity.y(), -10 - 5 * lasts, 1e-9);
  }
}

TEST(Changes, AFieldThatWasTakenAwayComesBackWhole) {
  for (const double lasts : {0.0, 0.5}) {
    rig::Rig rig = adrift();
    rig.fields.push_back({Attraction{{1e9, 0, 0}, 4, 0, 1e-3}, {}});  // 4 m/s^2 along x
    for (const double share : {0.0, 1.0}) {
      Cue cue = cueAt(0.5 + share, Cue::Act::field);
      cue.share = share;
      cue.lasts = lasts;
      rig::addCue(rig, cue);
    }
    // Gone from 0.5 s to 1.5 s; what it loses while it goes it wins while it comes.
    EXPECT_NEAR(lastOf(*runOf(rig)).parts[0].velocity.x(), 4 * 2, 1e-6) << lasts;
  }
}

// From rest to w within T: w t^2 / 2T.
TEST(Changes, AMotorGathersSpeedEvenly) {
  rig::Rig rig = adrift();
  rig::addJoint(rig, JointType::hinge, rig::kNone, rig.parts[0].id, {0, 0, 0}, Vec3::UnitX());
  addChange(rig, 0.5, 1, &AxisDef::speed, 4).axis.set(&AxisDef::cap, 1e6);
  const auto r = runOf(rig);
  const auto turn = [&](double time) { return r->frame(r->indexAt(time)).joints[0].position[0]; };
  const auto rate = [&](double time) { return r->frame(r->indexAt(time)).parts[0].angularVelocity.x(); };
  EXPECT_NEAR(rate(1), 2, 1e-9) << "half of it at half time";
  EXPECT_NEAR(turn(1), 0.5, 1e-9);
  EXPECT_NEAR(rate(1.5), 4, 1e-9);
  EXPECT_NEAR(turn(1.5), 2, 1e-9);
  EXPECT_NEAR(turn(3), 2 + 4 * 1.5, 1e-9);
  const double inertia = 10 * 2 / 12.0;
  EXPECT_NEAR(lastOf(*r).cues[0].energy, 0.5 * inertia * 16, 1e-6) << "the motor's work";
}

TEST(Changes, WhatACueDoesNotNameStaysAsAnotherMadeIt) {
  rig::Rig rig = onRail(motor(0, 1e6));
  addChange(rig, 1, 0, &AxisDef::speed, 1);
  addChange(rig, 2, 0, &AxisDef::friction, 5);
  EXPECT_NEAR(xOf(*runOf(rig), 3), 2, 1e-4);
}

TEST(Changes, TwoAtATimeDoNotUndoEachOther) {
  rig::Rig rig = onRail(motor(0, 1e6));
  addChange(rig, 0, 2, &AxisDef::speed, 1);
  addChange(rig, 0.5, 0.5, &AxisDef::friction, 5);
  EXPECT_NEAR(xOf(*runOf(rig), 3), 1 + 1, 1e-6) << "evenly up to 1 m/s within 2 s, and on";
}

TEST(Changes, AWinchRunsOnWhileItsSpeedChanges) {
  for (const double lasts : {0.0, 1.0}) {
    rig::Rig rig = adrift(-10);
    rig.parts[0].pose.position = {0, -2, 0};
    rig.parts[0].velocity = {0, 0.5, 0};
    rig::Joint rope;
    rope.id = rig.nextId++;
    rope.name = "rope";
    rope.type = JointType::winch;
    rope.b.part = rig.parts[0].id;
    rope.axes[0].high = 2;
    rope.axes[0].speed = -0.5;
    rig.joints.push_back(rope);
    addChange(rig, 1, lasts, &AxisDef::speed, 0);
    EXPECT_NEAR(lastOf(*runOf(rig)).parts[0].pose.position.y(), -2 + 0.5 + 0.25 * lasts, 1e-6) << lasts;
  }
}

TEST(Changes, AStopCanBeTakenAway) {
  AxisDef axis = motor(1, 1000);
  axis.high = 0.5;
  rig::Rig rig = onRail(axis);
  addChange(rig, 2, 0, &AxisDef::high, kNoLimit);
  const auto r = runOf(rig);
  EXPECT_NEAR(xOf(*r, 2), 0.5, 1e-6);
  EXPECT_NEAR(xOf(*r, 3), 1.5, 0.01);
}

// x = (1 + w t) e^-wt from rest at 1 m, once the damping is critical.
TEST(Changes, ADampingRatioByItselfGoesWithTheSpringAsItIs) {
  AxisDef axis;
  axis.frequency = 1;
  rig::Rig rig = onRail(axis);
  rig.parts[0].pose.position.x() = 1;
  addChange(rig, 0, 0, &AxisDef::dampingRatio, 1);
  const auto r = runOf(rig);
  const double turns = 2 * std::numbers::pi * 0.5;
  EXPECT_NEAR(xOf(*r, 0.5), (1 + turns) * std::exp(-turns), 1e-3);
}

TEST(Changes, LeaveLaterEditsAlone) {
  rig::Rig rig = onRail(motor(1, 1e6));
  addChange(rig, 1, 0, &AxisDef::friction, 5);
  rig.joints[0].axes[0].speed = 2;  // set after the cue
  EXPECT_NEAR(xOf(*runOf(rig), 3), 6, 1e-4);
}

}  // namespace
}  // namespace calm::run
