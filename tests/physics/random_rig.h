// SPDX-License-Identifier: GPL-3.0-or-later
// Rigs that no one would build: any joint between any parts, mass ratios to a million, loops, misfits, overlaps,
// contradictory stops, huge speeds. The same seed gives the same rig.
#pragma once

#include <random>

#include "physics/rigs.h"

namespace calm::physics {

struct Nastiness {
  bool misfit = false;    // joints that do not fit where their parts are, stops that are violated at the start
  bool overlaps = false;  // parts that collide, from within one another
  bool drives = false;    // motors, servos, winches
  double speed = 10;      // m/s, the most at the start
  bool yields = false;    // compliances of any size
};

class RandomRig {
 public:
  RandomRig(unsigned seed, const Nastiness& how) : random_(seed), how_(how), world_({.gravity = gravity()}) {
    const int parts = 2 + whole(9);
    for (int i = 0; i < parts; ++i) addPart();
    const int joints = parts - 1 + whole(4);  // a tree, and up to three loops
    for (int i = 0; i < joints; ++i) addJoint(i + 1 < parts ? i + 1 : -1);
  }
  World& world() { return world_; }
  // Kinetic energy that closing misfits and overlaps may bring: everything at the speed with which it is let close.
  double allowance() const { return allowance_; }

 private:
  double uniform(double low, double high) { return std::uniform_real_distribution<double>(low, high)(random_); }
  int whole(int below) { return static_cast<int>(random_() % static_cast<unsigned>(below)); }
  bool chance(double p) { return uniform(0, 1) < p; }
  Vec3 vector(double size) { return {uniform(-size, size), uniform(-size, size), uniform(-size, size)}; }
  Quat rotation() { return Quat(uniform(-1, 1), uniform(-1, 1), uniform(-1, 1), uniform(-1, 1) + 1e-3).normalized(); }
  Vec3 gravity() { return chance(0.5) ? Vec3(Vec3::Zero()) : Vec3(0, -9.81, 0); }

  void addPart() {
    const double mass = std::pow(10, uniform(-3, 3)), size = std::pow(10, uniform(-1, 0.3));
    const Shape shape = [&]() -> Shape {
      switch (whole(4)) {
        case 0:
          return Sphere{size};
        case 1:
          return Capsule{size / 4, size};
        case 2:
          return Cylinder{size / 2, size};
        default:
          return Box{{size, size * uniform(0.1, 1), size * uniform(0.1, 1)}};
      }
    }();
    BodyDef def = solid(shape, mass, {vector(how_.overlaps ? 0.7 : 3), rotation()});
    if (how_.overlaps) def.shapes = {{shape, {}}};
    def.velocity = vector(how_.speed);
    def.angularVelocity = vector(how_.speed);
    bodies_.push_back(world_.addBody(def));
    if (how_.overlaps) allowance_ += 0.5 * mass * 2;  // pushed out at up to a metre a second
  }

  AxisDef axis(bool turns) {
    AxisDef a;
    const double reach = turns ? 1.5 : 0.7;
    if (chance(0.4)) a.low = how_.misfit ? uniform(-reach, reach) : -uniform(0.05, reach);
    if (chance(0.4)) a.high = how_.misfit ? std::max(uniform(-reach, reach), a.low) : uniform(0.05, reach);
    if (chance(0.2)) a.stopStiffness = std::pow(10, uniform(0, 7)), a.stopDamping = std::pow(10, uniform(-1, 4));
    if (chance(0.2)) a.restitution = uniform(0, 1);
    if (chance(0.2)) a.friction = std::pow(10, uniform(-2, 3));
    if (chance(0.3)) a.stiffness = std::pow(10, uniform(-1, 8)), a.damping = std::pow(10, uniform(-2, 5));
    if (how_.drives && chance(0.3)) a.speed = uniform(-10, 10), a.cap = std::pow(10, uniform(0, 4));
    if (how_.drives && chance(0.3)) a.springCap = std::pow(10, uniform(0, 4));
    return a;
  }

  // To the part before, so that a tree comes first; or between any two.
  void addJoint(int child) {
    constexpr int kTypes = static_cast<int>(JointType::rack) + 1;
    JointDef def;
    def.type = static_cast<JointType>(whole(kTypes));
    const auto any = [&] {
      return chance(0.2) ? kWorld : bodies_[static_cast<std::size_t>(whole(static_cast<int>(bodies_.size())))];
    };
    def.a = child > 0 ? bodies_[static_cast<std::size_t>(whole(child))] : any();
    def.b = child > 0 ? bodies_[static_cast<std::size_t>(child)] : any();
    if (def.a == def.b) return;
    const Pose at{vector(2), rotation()};
    const auto misplaced = [&](const Pose& p) {
      return how_.misfit && chance(0.5) ? p * Pose{vector(0.2), rotationFromVector(vector(0.3))} : p;
    };
    def.frameA = world_.state(def.a).pose.inverse() * misplaced(at);
    def.frameB = world_.state(def.b).pose.inverse() * misplaced(at);
    const bool spans = axesOf(def.type).along == 1 && rowCount(def.type).rows == 0 && def.type != JointType::rack;
    if (spans) def.frameA.position += vector(1), def.frameB.position += vector(1);
    // Wheels on one spot do not know where the other is.
    if (how_.yields && def.type == JointType::gear) def.frameA.position += vector(1);
    for (int k = 0; k < axesOf(def.type).all(); ++k) {
      def.axes[static_cast<std::size_t>(k)] = axis(k >= axesOf(def.type).along);
      if (spans && !how_.misfit)
        def.axes[0].low = -kNoLimit, def.axes[0].high = kNoLimit, def.axes[0].stopStiffness = 0;
    }
    if (def.type == JointType::winch)  // whose rope is none of these
      def.axes[0].friction = def.axes[0].stopStiffness = def.axes[0].stopDamping = def.axes[0].restitution = 0;
    def.form.ratio = uniform(-3, 3) + 0.01;
    def.form.lead = uniform(-0.5, 0.5);
    def.form.coneY = uniform(0.1, 2), def.form.coneZ = uniform(0.1, 2);
    if (chance(0.5))
      def.form.route = {{RouteOn::world, vector(3)}, {chance(0.5) ? RouteOn::a : RouteOn::b, vector(0.5)}};
    if (chance(0.2)) def.breakForce = std::pow(10, uniform(1, 5));
    def.neighboursCollide = chance(0.3);
    if (how_.yields && chance(0.7))
      def.compliance = std::pow(10, uniform(-12, -3)), def.pinRadius = std::pow(10, uniform(-2, 0));
    // Closed within a tenth of a second, a misfit of a few decimetres brings a few metres a second.
    if (how_.misfit) allowance_ += 0.5 * 2e3 * 25;
    world_.addJoint(def);
  }

  std::mt19937 random_;
  Nastiness how_;
  World world_;
  std::vector<BodyId> bodies_;
  double allowance_ = 0;
};

}  // namespace calm::physics
