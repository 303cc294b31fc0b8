// SPDX-License-Identifier: GPL-3.0-or-later
// The work that joints say they did on their axes is the energy that the parts gained: of stops that are struck,
// motors, springs, dampers, friction and ropes, on random trees, some of which are thrown and bounce.
#include <gtest/gtest.h>

#include "physics/random.h"

namespace calm::physics {
namespace {

struct Means {
  const char* name;
  bool stops = false, elastic = false, friction = false, motors = false, springs = false, ropes = false;
  bool bounce = false;  // free of the world, over a floor that sends all back and does not rub
  // What may differ, as a share of the energy of motion: as much as a frame with impacts may before it is done again.
  double most = 0.01;
  unsigned first = 1;  // seed
};

std::ostream& operator<<(std::ostream& out, const Means& means) {
  return out << means.name;
}

class WorkingTree : private Random {
 public:
  WorkingTree(unsigned seed, const Means& means) : Random(seed), means_(means) {
    const int parts = 2 + whole(6);
    for (int i = 0; i < parts; ++i) {
      ids_.push_back(world_.addBody(part(i)));
      const BodyId to = i == 0 ? kWorld : ids_[static_cast<std::size_t>(whole(i))];
      if (!means_.bounce || i > 0) hold(to, ids_.back());
    }
    if (means_.bounce) {
      BodyDef floor = ground(0);
      floor.restitution = 1;
      world_.addBody(floor);
    }
    if (means_.ropes) span(JointType::distance), span(JointType::winch);
  }

  // By how much work and gain of energy differ over five seconds, as a share of the largest energy of motion.
  double difference() {
    world_.step();
    const double start = gainLessWork();
    double most = 1e-9, worst = 0;
    for (int f = 0; f < 300; ++f) {
      world_.step();
      most = std::max(most, world_.energy().kinetic);
      worst = std::max(worst, std::abs(gainLessWork() - start));
    }
    return worst / most;
  }

 private:
  Pose poseOf(BodyId id) const { return id == kWorld ? Pose{} : world_.state(id).pose; }

  BodyDef part(int number) {
    const double size = uniform(0.15, 0.6);
    const Pose pose{Vec3(0.6 * number, means_.bounce ? 2.5 : 0, 0) + vector(0.3), rotation()};
    const Box box{{size, size * uniform(0.2, 1), size * uniform(0.2, 1)}};
    const double mass = std::pow(10, uniform(-0.5, 0.7));
    if (!means_.bounce) return solid(box, mass, pose);
    BodyDef def = tangible(box, mass, pose);
    def.friction = 0;
    def.restitution = 1;
    def.velocity = vector(0.5), def.angularVelocity = vector(0.5);
    return def;
  }

  void hold(BodyId a, BodyId b) {
    static constexpr JointType kAny[] = {JointType::ball,  JointType::hinge, JointType::slider, JointType::cylinder,
                                         JointType::wheel, JointType::screw, JointType::planar};
    JointDef def;
    // Ropes snap on what swings; what slides far away from its joint has levers of tens of metres then.
    def.type = kAny[whole(means_.ropes ? 2 : 7)];
    def.a = a, def.b = b;
    const Pose at{poseOf(b).position + vector(0.3), rotation()};
    def.frameA = poseOf(a).inverse() * at;
    def.frameB = poseOf(b).inverse() * at;
    def.form.lead = 0.1;
    const AxisCount axes = axesOf(def.type);
    for (int k = 0; k < axes.all(); ++k) {
      const bool thread = def.type == JointType::screw && k == 1;
      if (!thread) def.axes[static_cast<std::size_t>(k)] = axis(k >= axes.along ? 1.2 : 0.5);
    }
    world_.addJoint(def);
  }

  AxisDef axis(double reach) {
    AxisDef a;
    if (means_.stops && chance(0.5)) a.low = -uniform(0.1, reach), a.high = uniform(0.1, reach);
    if (means_.elastic && a.hasStops()) {
      if (chance(0.5))
        a.restitution = uniform(0, 1);
      else
        a.stopStiffness = std::pow(10, uniform(2, 4)), a.stopDamping = uniform(0, 10);
    }
    if (means_.friction && chance(0.4)) a.friction = std::pow(10, uniform(-1, 1));
    if (means_.motors && chance(0.4)) a.speed = uniform(-5, 5), a.cap = std::pow(10, uniform(0, 1.5));
    if (means_.springs && chance(0.4)) a.stiffness = std::pow(10, uniform(0, 3)), a.damping = uniform(0, 3);
    return a;
  }

  // A rope from a point of the world to the last part.
  void span(JointType type) {
    JointDef def = joint(type, kWorld, Vec3(uniform(-1, 4), uniform(0.5, 2), uniform(-1, 1)), ids_.back(), vector(0.2));
    const double length = (def.frameA.position - (poseOf(def.b) * Pose{def.frameB.position}).position).norm();
    if (type == JointType::distance) def.axes[0].high = length * uniform(1, 1.2);
    if (type == JointType::winch) def.axes[0].speed = uniform(-0.5, 0.5), def.axes[0].cap = uniform(5, 50);
    world_.addJoint(def);
  }

  double gainLessWork() const {
    double work = 0;
    for (int j = 0; j < world_.jointCount(); ++j)
      for (const double w : world_.reading(j).work) work += w;
    const Energy energy = world_.energy();
    return energy.kinetic + energy.potential - work;
  }

  Means means_;
  World world_;
  std::vector<BodyId> ids_;
};

class Work : public testing::TestWithParam<Means> {};

TEST_P(Work, OfAllJointsIsTheEnergyGained) {
  constexpr unsigned kTrees = 40;
  double mean = 0, worst = 0;
  unsigned at = 0;
  for (unsigned seed = GetParam().first; seed < GetParam().first + kTrees; ++seed) {
    const double off = WorkingTree(seed, GetParam()).difference();
    mean += off / kTrees;
    if (off > worst) worst = off, at = seed;
  }
  const double most = GetParam().most;
  const std::string what = std::string("work of random trees, ") + GetParam().name;
  report(what + ", mean of 40", 100 * mean, 20 * most, "%");
  report(what + ", worst of 40", 100 * worst, 100 * most, "%");
  EXPECT_LT(mean, 0.2 * most);
  EXPECT_LT(worst, most) << "seed " << at;
}
INSTANTIATE_TEST_SUITE_P(
    Means, Work,
    testing::Values(
        Means{.name = "stops", .stops = true}, Means{.name = "elastic and soft stops", .stops = true, .elastic = true},
        Means{.name = "friction", .stops = true, .friction = true},
        Means{.name = "motors", .stops = true, .motors = true}, Means{.name = "springs", .springs = true},
        Means{
            .name = "all of these", .stops = true, .elastic = true, .friction = true, .motors = true, .springs = true},
        Means{.name = "bouncing", .bounce = true},
        // Among these are two that strike a stop just as a frame that is done again begins.
        Means{.name = "bouncing, stops", .stops = true, .bounce = true, .first = 51},
        Means{.name = "bouncing, all of these",
              .stops = true,
              .elastic = true,
              .friction = true,
              .motors = true,
              .springs = true,
              .bounce = true},
        // A rope that snaps taut along a chain is solved in steps at velocity level, which take energy.
        Means{.name = "ropes and stops", .stops = true, .elastic = true, .ropes = true, .most = 0.05}));

}  // namespace
}  // namespace calm::physics
