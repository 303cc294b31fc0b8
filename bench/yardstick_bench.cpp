// SPDX-License-Identifier: GPL-3.0-or-later
// The yardstick: a plain solver of the common kind (velocity level, warm-started projected Gauss-Seidel with
// Baumgarte's stabilisation, semi-implicit Euler; Catto, "Iterative dynamics with temporal coherence", GDC 2005), on
// the same chains. What separation does it leave in the time that the engine takes, and how long does it take for the
// engine's?
#include <benchmark/benchmark.h>

#include <chrono>
#include <functional>

#include "physics/rigs.h"

namespace {

using namespace calm;
using namespace calm::physics;

// Links of solid spheres' inertia on ball joints, with a load at the end.
class PlainChain {
 public:
  PlainChain(int links, double payload, double angle, int sweeps) : sweeps_(sweeps) {
    const Vec3 down(std::sin(angle), -std::cos(angle), 0);
    for (int i = 0; i <= links; ++i) {
      const bool load = i == links;
      const double mass = load ? payload : kMass, length = load ? std::cbrt(payload / 2600) : kLength;
      const Vec3 from = links_.empty() ? Vec3(Vec3::Zero()) : Vec3(links_.back().position + down * links_.back().half);
      links_.push_back({from + down * (length / 2), Vec3::Zero(), Vec3::Zero(), turnBetween(Vec3::UnitY(), down),
                        1 / mass, 12 / (mass * length * length), length / 2, Vec3::Zero()});
    }
  }
  void step(double h) {
    for (Link& l : links_) l.velocity.y() -= kGravity * h;
    apply();
    for (int s = 0; s < sweeps_; ++s)
      for (std::size_t i = 0; i < links_.size(); ++i) sweep(i, h);
    for (Link& l : links_) {
      l.position += h * l.velocity;
      l.rotation = (rotationFromVector(h * l.spin) * l.rotation).normalized();
    }
  }
  double separation() const {
    double worst = 0;
    for (std::size_t i = 0; i < links_.size(); ++i) worst = std::max(worst, gap(i).norm());
    return worst;
  }

 private:
  static constexpr double kMass = 0.2, kLength = 0.05, kRate = 0.2;
  struct Link {
    Vec3 position, velocity, spin;
    Quat rotation;
    double inverseMass, inverseInertia, half;
    Vec3 impulse;  // of the joint above it
    Vec3 arm(double side) const { return rotation * Vec3(0, side * half, 0); }
    void push(const Vec3& p, const Vec3& at) {
      velocity += inverseMass * p;
      spin += inverseInertia * at.cross(p);
    }
  };
  Vec3 gap(std::size_t i) const {
    const Vec3 top = links_[i].position + links_[i].arm(-1);
    return i == 0 ? top : Vec3(top - links_[i - 1].position - links_[i - 1].arm(1));
  }
  void apply() {
    for (std::size_t i = 0; i < links_.size(); ++i) pushPair(i, links_[i].impulse);
  }
  void pushPair(std::size_t i, const Vec3& p) {
    links_[i].push(p, links_[i].arm(-1));
    if (i > 0) links_[i - 1].push(-p, links_[i - 1].arm(1));
  }
  void sweep(std::size_t i, double h) {
    const auto cross = [](const Vec3& r) {
      Mat3 m;
      m << 0, -r.z(), r.y(), r.z(), 0, -r.x(), -r.y(), r.x(), 0;
      return m;
    };
    Link& l = links_[i];
    const Vec3 r = l.arm(-1);
    Vec3 v = l.velocity + l.spin.cross(r);
    Mat3 k = l.inverseMass * Mat3::Identity() - l.inverseInertia * cross(r) * cross(r);
    if (i > 0) {
      const Link& u = links_[i - 1];
      const Vec3 s = u.arm(1);
      v -= u.velocity + u.spin.cross(s);
      k += u.inverseMass * Mat3::Identity() - u.inverseInertia * cross(s) * cross(s);
    }
    const Vec3 p = k.inverse() * -(v + kRate / h * gap(i));
    l.impulse += p;
    pushPair(i, p);
  }
  int sweeps_;
  std::vector<Link> links_;
};

double secondsOf(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// 40 links, 500 kg, let go at 45 degrees, two seconds.
void againstTheYardstick(benchmark::State& state) {
  constexpr int kFrames = 120;
  const auto plain = [&](int sweeps, int substeps, double& separation) {
    PlainChain chain(40, 500, kPi / 4, sweeps);
    separation = 0;
    return secondsOf([&] {
      for (int i = 0; i < kFrames * substeps; ++i) chain.step(1.0 / 60 / substeps);
      separation = chain.separation();
    });
  };
  double own = 0, ownSeparation = 0, equalTime = 0, separationAtEqualTime = 0, best = 1e9;
  for (auto _ : state) {
    ChainPlan plan;
    plan.payload = 500, plan.angle = kPi / 4;
    Chain chain = makeChain(plan);
    own = secondsOf([&] { ownSeparation = watch(chain.world, 2).separation; });
    // Its best use of the same time: substeps help it more than sweeps, so both are tried.
    for (const int sweeps : {20, 50})
      for (int substeps = 1; substeps <= 512; substeps *= 2) {
        double separation = 0;
        const double time = plain(sweeps, substeps, separation);
        if (time > 1.5 * own) break;
        if (separation < best) best = separation, equalTime = time;
      }
    separationAtEqualTime = best;
  }
  state.counters["engine ms"] = own * 1e3;
  state.counters["engine separation mm"] = ownSeparation * 1e3;
  state.counters["yardstick ms"] = equalTime * 1e3;
  state.counters["yardstick separation mm"] = separationAtEqualTime * 1e3;
}
BENCHMARK(againstTheYardstick)->Iterations(1)->Unit(benchmark::kMillisecond);

// The time in which the yardstick comes within a tenth of a millimetre, if it does within four thousand substeps a
// frame.
void yardstickForATenthOfAMillimetre(benchmark::State& state) {
  double taken = 0, separation = 1;
  int substeps = 8;
  for (auto _ : state)
    for (; substeps <= 4096 && !(separation < 1e-4); substeps *= 2) {
      PlainChain chain(40, 500, kPi / 4, 20);
      taken = secondsOf([&] {
        for (int i = 0; i < 30 * substeps; ++i) chain.step(1.0 / 60 / substeps);
      });
      separation = chain.separation();
    }
  state.counters["x real time"] = 0.5 / taken;
  state.counters["separation mm"] = separation * 1e3;
  state.counters["substeps"] = substeps / 2;
}
BENCHMARK(yardstickForATenthOfAMillimetre)->Iterations(1)->Unit(benchmark::kSecond);

}  // namespace
