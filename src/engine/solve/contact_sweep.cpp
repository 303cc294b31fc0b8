// SPDX-License-Identifier: GPL-3.0-or-later
// Sweeps over the contacts: each in turn takes the impulse that its law asks for at the velocities of the moment.
#include <algorithm>
#include <cmath>
#include <cstdlib>

#include "engine/solve/contact_solver.h"

namespace calm {

namespace {

// The tangential impulse within the disc of radius `limit` that stops the slip or, failing that, opposes what is left
// of it. On the rim it solves p = projection(p - slip(p)/k), k the larger eigenvalue of the mobility; a plain scaling
// of the impulse that would stop the slip points elsewhere when the mobility is not the same in all directions.
struct Tangential {
  double first, second;
};
inline Tangential frictionImpulse(const Tangential& now, const Tangential& slip, const double* mobility,
                                  const double* stopSlip, double rate, double limit) {
  if (limit == 0) return {0, 0};
  Tangential next{now.first - (stopSlip[0] * slip.first + stopSlip[1] * slip.second),
                  now.second - (stopSlip[1] * slip.first + stopSlip[2] * slip.second)};
  if (next.first * next.first + next.second * next.second <= limit * limit) return next;
  // The sweeps go on with what is left.
  constexpr int kRounds = 6;
  constexpr double kSettled = 1e-3;  // of the limit
  next = now;
  for (int i = 0; i < kRounds; ++i) {
    const Tangential moved{next.first - now.first, next.second - now.second}, last = next;
    next.first -= rate * (slip.first + mobility[0] * moved.first + mobility[1] * moved.second);
    next.second -= rate * (slip.second + mobility[1] * moved.first + mobility[2] * moved.second);
    const double squared = next.first * next.first + next.second * next.second;
    if (squared > limit * limit) {
      const double scale = limit / std::sqrt(squared);
      next.first *= scale, next.second *= scale;
    }
    if (std::abs(next.first - last.first) + std::abs(next.second - last.second) < kSettled * limit) break;
  }
  return next;
}

[[gnu::always_inline]] inline void turnLanes(Quad& out, const Quad& in) {
  out = __builtin_shufflevector(in, in, 1, 2, 0, 3);
}
template <int I>
[[gnu::always_inline]] inline void spread(Quad& out, const Quad& in) {
  out = __builtin_shufflevector(in, in, I, I, I, I);
}
// x.yzx and so on: out = (a x b), its lanes turned back once.
[[gnu::always_inline]] inline void crossTurned(Quad& out, const Quad& a, const Quad& b) {
  Quad at, bt;
  turnLanes(at, a);
  turnLanes(bt, b);
  out = a * bt - at * b;
}
// out += m x, of the matrix with these columns.
[[gnu::always_inline]] inline void addProduct(Quad& out, const Padded* columns, const Quad& x) {
  Quad c0, c1, c2, x0, x1, x2;
  loadQuad(c0, columns[0]);
  loadQuad(c1, columns[1]);
  loadQuad(c2, columns[2]);
  spread<0>(x0, x);
  spread<1>(x1, x);
  spread<2>(x2, x);
  out += c0 * x0 + c1 * x1 + c2 * x2;
}

}  // namespace

// The arithmetic of a visit to a contact, to be inlined into functions for different processors.
struct ContactSolver::Visit {
  // Gives a contact that slips with v, along each direction, the impulse that its law asks for; returns by how much
  // that changes its velocity.
  [[gnu::always_inline]] static double resolve(Contact& c, const double* v) {
    double *impulse = c.impulse.at, *change = c.change.at;
    const double lack = c.target - v[0] - c.softness * impulse[0];
    const double normal = std::max(0.0, impulse[0] + lack * c.perSpeed);
    if (normal == 0 && impulse[0] == 0 && impulse[1] == 0 && impulse[2] == 0) {
      c.change = {};
      return 0;
    }
    change[0] = normal - impulse[0];
    const Tangential slip{v[1] + c.mobility.at[1] * change[0], v[2] + c.mobility.at[2] * change[0]};
    const Tangential next =
        frictionImpulse({impulse[1], impulse[2]}, slip, c.tangents, c.stopSlip, c.slipRate, c.friction * normal);
    change[1] = next.first - impulse[1], change[2] = next.second - impulse[2];
    impulse[0] = normal, impulse[1] = next.first, impulse[2] = next.second;
    return std::max({c.mobility.at[0] * std::abs(change[0]), c.tangents[0] * std::abs(change[1]),
                     c.tangents[2] * std::abs(change[2])});
  }
  [[gnu::always_inline]] static double squaredChange(const Contact& c) {
    const double* x = c.change.at;
    return (x[0] * x[0] + x[1] * x[1] + x[2] * x[2]) * c.mobility.at[0];
  }

  // Goes on along a direction that then follows what the last sweep changed.
  [[gnu::always_inline]] static void goOn(Padded& value, Padded& direction, const Padded& change, const Step& step) {
    if (!step.follows) {
      direction = {};
      return;
    }
    Quad v, d, last;
    loadQuad(v, value);
    loadQuad(d, direction);
    loadQuad(last, change);
    d *= step.share;
    v += d;
    d += last;
    storeQuad(value, v);
    storeQuad(direction, d);
  }

  // A patch under way: the motions of its two bodies, in registers.
  struct Work {
    const Patch& patch;
    Motion &a, &b;
    Quad va, wa, vb, wb;

    [[gnu::always_inline]] Work(const Patch& p, Motion* motions)
        : patch(p), a(motions[p.placeA]), b(motions[p.placeB]) {
      loadQuad(va, a.velocity);
      loadQuad(wa, a.spin);
      loadQuad(vb, b.velocity);
      loadQuad(wb, b.spin);
    }
    [[gnu::always_inline]] void finish() {
      storeQuad(a.velocity, va);
      storeQuad(a.spin, wa);
      storeQuad(b.velocity, vb);
      storeQuad(b.spin, wb);
    }
    [[gnu::always_inline]] void visit(Contact& c, const Step& step, Swept& swept) {
      goOn(c.impulse, c.direction, c.change, step);
      Quad armA, armB, onA, onB, turned, slip{};
      loadQuad(armA, c.armA);
      loadQuad(armB, c.armB);
      crossTurned(onA, wa, armA);
      crossTurned(onB, wb, armB);
      turnLanes(turned, onB - onA);
      addProduct(slip, patch.across, vb - va + turned);
      Quad lever;
      if (patch.twists) {
        Quad normal;
        loadQuad(normal, patch.directions[0]);
        loadQuad(lever, c.lever);
        const Quad along = normal * (wb - wa);
        slip += (along[0] + along[1] + along[2]) * lever;
      }
      const double v[] = {slip[0], slip[1], slip[2]};
      const double effect = resolve(c, v);
      if (effect == 0) return;
      swept.largest = std::max(swept.largest, effect);
      swept.gradient += squaredChange(c);
      const Quad change{c.change.at[0], c.change.at[1], c.change.at[2], 0};
      Quad along{};
      addProduct(along, patch.directions, change);
      va -= a.inverseMass * along;
      vb += b.inverseMass * along;
      crossTurned(turned, armA, -along);
      turnLanes(onA, turned);
      addProduct(wa, a.response, onA);
      crossTurned(turned, armB, along);
      turnLanes(onB, turned);
      addProduct(wb, b.response, onB);
      if (patch.twists) {
        Quad twistA, twistB;
        loadQuad(twistA, patch.twistA);
        loadQuad(twistB, patch.twistB);
        const double twist = change[1] * lever[1] + change[2] * lever[2];
        wa -= twist * twistA;
        wb += twist * twistB;
      }
    }
  };

  // Two patches that share no moving body are taken together, point by point in turn: neither waits for what the other
  // is still computing.
  [[gnu::always_inline]] static Swept sweep(const Patch* patches, int count, Contact* contacts, Motion* motions,
                                            const Step& step) {
    Swept swept;
    for (int k = 0; k < count; ++k) {
      Work one(patches[k], motions);
      int i = one.patch.first;
      if (one.patch.withNext) {
        Work other(patches[++k], motions);
        int j = other.patch.first;
        for (; i < one.patch.end && j < other.patch.end; ++i, ++j) {
          one.visit(contacts[i], step, swept);
          other.visit(contacts[j], step, swept);
        }
        for (; j < other.patch.end; ++j) other.visit(contacts[j], step, swept);
        other.finish();
      }
      for (; i < one.patch.end; ++i) one.visit(contacts[i], step, swept);
      one.finish();
    }
    return swept;
  }

  static Swept sweepNarrow(const Patch* patches, int count, Contact* contacts, Motion* motions, const Step& step) {
    return sweep(patches, count, contacts, motions, step);
  }
#ifdef __x86_64__
  [[gnu::target("avx2")]] static Swept sweepWide(const Patch* patches, int count, Contact* contacts, Motion* motions,
                                                 const Step& step) {
    return sweep(patches, count, contacts, motions, step);
  }
  static bool hasWideLanes() {
    return __builtin_cpu_supports("avx2");
  }
#else
  static constexpr auto sweepWide = sweepNarrow;
  static bool hasWideLanes() {
    return false;
  }
#endif
};

ContactSolver::Swept ContactSolver::sweepPatches(const Patch* patches, int count, Contact* contacts, const Step& step) {
  // The environment may ask for the narrow path, to see that both give the same.
  static const bool wide = Visit::hasWideLanes() && !std::getenv("CALM_TETHER_NARROW");
  static const auto sweep = wide ? Visit::sweepWide : Visit::sweepNarrow;
  return sweep(patches, count, contacts, motions_.data(), step);
}

ContactSolver::Step ContactSolver::nextStep() const {
  return {beta_ > 1 ? 0 : beta_, gradient_ > 0 && beta_ <= 1};
}

void ContactSolver::noteGradient(double gradient) {
  beta_ = gradient_ > 0 ? gradient / gradient_ : 0;
  gradient_ = gradient;
}

double ContactSolver::sweepOn(const Range& range) {
  const Step step = nextStep();
  for (int i = range.firstMotion; i < range.endMotion; ++i) {
    Motion& m = motions_[i];
    Visit::goOn(m.velocity, m.headingVelocity, m.sweptVelocity, step);
    Visit::goOn(m.spin, m.headingSpin, m.sweptSpin, step);
    m.sweptVelocity = m.velocity, m.sweptSpin = m.spin;
  }
  const Swept swept =
      sweepPatches(&patches_[range.firstPatch], range.endPatch - range.firstPatch, contacts_.data(), step);
  for (int i = range.firstMotion; i < range.endMotion; ++i) {
    Motion& m = motions_[i];
    for (int k = 0; k < 3; ++k) {
      m.sweptVelocity.at[k] = m.velocity.at[k] - m.sweptVelocity.at[k];
      m.sweptSpin.at[k] = m.spin.at[k] - m.sweptSpin.at[k];
    }
  }
  noteGradient(swept.gradient);
  return swept.largest;
}

double ContactSolver::sweepCoupled() {
  const Step step = nextStep();
  if (step.follows) {
    headingSpeeds_ *= step.share;
    speeds_ += headingSpeeds_;
    headingSpeeds_ += sweptSpeeds_;
  } else {
    headingSpeeds_.setZero();
  }
  sweptSpeeds_ = speeds_;
  Swept swept;
  for (int i = 0; i < size(); ++i) {
    Contact& c = contacts_[i];
    Visit::goOn(c.impulse, c.direction, c.change, step);
    const double effect = Visit::resolve(c, &speeds_[3 * i]);
    if (effect == 0) continue;
    swept.largest = std::max(swept.largest, effect);
    swept.gradient += Visit::squaredChange(c);
    speeds_.noalias() += coupling_.middleCols<3>(3 * i) * c.change.vec();
  }
  sweptSpeeds_ = speeds_ - sweptSpeeds_;
  noteGradient(swept.gradient);
  return swept.largest;
}

double ContactSolver::sweep(std::vector<Body>& bodies) {
  load(bodies);
  const double largest = sweepOn({0, static_cast<int>(patches_.size()), 0, static_cast<int>(motions_.size())});
  unload(bodies);
  return largest;
}

double ContactSolver::relaxApart(std::vector<Body>& bodies, int sweeps, double enough, double reduction) {
  load(bodies);
  double worst = 0;
  for (const Range& range : ranges_) {
    gradient_ = beta_ = 0;
    double limit = enough, change = 0;
    for (int i = 0; i < sweeps; ++i) {
      change = sweepOn(range);
      if (change < limit) break;
      if (i == 0) limit = std::max(limit, reduction * change);
    }
    worst = std::max(worst, change);
  }
  unload(bodies);
  return worst;
}

}  // namespace calm
