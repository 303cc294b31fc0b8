// SPDX-License-Identifier: GPL-3.0-or-later
// Trees of any joints between boxes of any size, let go at rest in any pose: nothing takes energy, and however they
// crack, none may go or come.
#include <gtest/gtest.h>

#include "physics/random.h"

namespace calm::physics {
namespace {

struct Growth {
  bool stops = false;   // on free axes, elastic
  bool loops = false;   // some parts are held by balls twice
  bool pushes = false;  // at points of some parts, of 0.1 to 10 times their weight
};

class RandomTree : private Random {
 public:
  RandomTree(unsigned seed, const Growth& growth) : Random(seed), stops_(growth.stops) {
    const int parts = 2 + whole(6);
    for (int i = 0; i < parts; ++i) {
      const int parent = whole(static_cast<int>(ids_.size()));
      const Pose pose{poses_[parent].position + Vec3(0.3, 0, 0) + vector(0.4), rotation()};
      const double size = uniform(0.2, 0.6);
      const Box box{{size, size * uniform(0.2, 1), size * uniform(0.2, 1)}};
      poses_.push_back(pose);
      ids_.push_back(world_.addBody(solid(box, uniform(0.3, 3), pose)));
      const Vec3 between = (poses_[parent].position + pose.position) / 2 + vector(0.1);
      static constexpr JointType kAny[] = {JointType::ball,   JointType::hinge, JointType::universal, JointType::slider,
                                           JointType::planar, JointType::fixed, JointType::cylinder,  JointType::limb};
      hold(growth.loops ? JointType::ball : kAny[whole(8)], parent, i + 1, between);
    }
    for (int i = 0; growth.loops && i < 2; ++i) {
      const int a = whole(parts + 1), b = 1 + whole(parts);
      if (a != b) hold(JointType::ball, a, b, vector(0.5));
    }
    for (int i = 1; growth.pushes && i <= parts; ++i)
      if (whole(2) == 0)
        pushes_.push_back({.body = ids_[i], .at = vector(0.3), .force = vector(std::pow(10, uniform(0, 2)))});
    for (const World::PushDef& push : pushes_) world_.addPush(push);
  }

  // The largest change of its energy over five seconds, as a share of the largest that moves; and of the separation, m.
  struct Course {
    double change, separation;
  };
  Course run() {
    const double start = energy();
    double most = 1e-9, change = 0, separation = 0;
    for (int f = 0; f < 300; ++f) {
      separation = std::max(separation, world_.step().linear);
      most = std::max(most, world_.energy().kinetic);
      change = std::max(change, std::abs(energy() - start));
    }
    return {change / most, separation};
  }

 private:
  // With the potentials of the pushes.
  double energy() const {
    double sum = world_.energy().total();
    for (const World::PushDef& push : pushes_) sum -= push.force.dot(world_.state(push.body).pose.apply(push.at));
    return sum;
  }
  // The pivot's frame, given in the world, as the part sees it; part 0 is the world.
  Pose seenBy(int part, const Pose& frame) const { return part == 0 ? frame : poses_[part].inverse() * frame; }
  void hold(JointType type, int a, int b, const Vec3& at) {
    JointDef def;
    def.type = type;
    def.a = ids_[a], def.b = ids_[b];
    const Pose frame{at, rotation()};
    def.frameA = seenBy(a, frame), def.frameB = seenBy(b, frame);
    for (AxisDef& axis : def.axes)
      if (stops_ && whole(2) == 0) axis.low = -uniform(0.1, 1), axis.high = uniform(0.1, 1), axis.restitution = 1;
    world_.addJoint(def);
  }

  bool stops_;
  World world_;
  std::vector<World::PushDef> pushes_;
  std::vector<int> ids_{kWorld};
  std::vector<Pose> poses_{Pose{}};
};

void expectEnergyKept(const std::string& what, const Growth& growth) {
  constexpr int kTrees = 60;
  double worst = 0, sum = 0, separation = 0;
  for (unsigned seed = 1; seed <= kTrees; ++seed) {
    const RandomTree::Course course = RandomTree(seed, growth).run();
    EXPECT_LE(course.change, 5e-3) << what << ", seed " << seed;
    worst = std::max(worst, course.change);
    sum += course.change;
    separation = std::max(separation, course.separation);
  }
  report(what + ", energy, mean of 60", 100 * sum / kTrees, 0.1, "%");
  report(what + ", energy, worst of 60", 100 * worst, 0.5, "%");
  report(what + ", separation", 1e3 * separation, 0.01, "mm");
  EXPECT_LE(sum, 1e-3 * kTrees);
  EXPECT_LE(separation, 1e-5);
}

TEST(RandomTrees, KeepTheirEnergy) {
  expectEnergyKept("random trees", {});
}

TEST(RandomTrees, KeepTheirEnergyBetweenElasticStops) {
  expectEnergyKept("random trees with elastic stops", {.stops = true});
}

TEST(RandomTrees, KeepTheirEnergyInLoops) {
  expectEnergyKept("random loops of balls", {.loops = true});
}

TEST(RandomTrees, KeepTheirEnergyUnderSteadyPushes) {
  expectEnergyKept("random trees under steady pushes", {.pushes = true});
}

}  // namespace
}  // namespace calm::physics
