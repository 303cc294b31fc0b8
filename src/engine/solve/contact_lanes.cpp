// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_lanes.h"

#include <algorithm>
#include <cstdlib>

namespace calm {

namespace {

// Sets of contacts up to so many patches are swept in their own order: that of a stack from below loses least where
// sweeps end before they have converged.
constexpr int kSmallSet = 32;

constexpr int kLanes = ContactLanes::kLanes;

// By name, not by number: compilers keep these in registers.
struct Three {
  Quad x, y, z;
};

[[gnu::always_inline]] inline void add(Three& sum, const Three& v) {
  sum.x += v.x;
  sum.y += v.y;
  sum.z += v.z;
}
[[gnu::always_inline]] inline void subtract(Three& from, const Three& v) {
  from.x -= v.x;
  from.y -= v.y;
  from.z -= v.z;
}
[[gnu::always_inline]] inline void addScaled(Three& sum, const Quad& factor, const Three& v) {
  sum.x += factor * v.x;
  sum.y += factor * v.y;
  sum.z += factor * v.z;
}
[[gnu::always_inline]] inline void take(Three& out, const Quad (&from)[3]) {
  out.x = from[0];
  out.y = from[1];
  out.z = from[2];
}
[[gnu::always_inline]] inline void cross(Three& out, const Three& a, const Three& b) {
  out.x = a.y * b.z - a.z * b.y;
  out.y = a.z * b.x - a.x * b.z;
  out.z = a.x * b.y - a.y * b.x;
}
// Of a symmetric matrix by its six numbers.
[[gnu::always_inline]] inline void product(Three& out, const Quad (&m)[6], const Three& v) {
  out.x = m[0] * v.x + m[1] * v.y + m[2] * v.z;
  out.y = m[1] * v.x + m[3] * v.y + m[4] * v.z;
  out.z = m[2] * v.x + m[4] * v.y + m[5] * v.z;
}
[[gnu::always_inline]] inline void dot(Quad& out, const Quad (&a)[3], const Three& b) {
  out = a[0] * b.x + a[1] * b.y + a[2] * b.z;
}

// Three numbers of each of four bodies into lanes, and back. The fourth of each is 0.
[[gnu::always_inline]] inline void gather(Three& out, const Padded& a, const Padded& b, const Padded& c,
                                          const Padded& d) {
  Quad r[4];
  loadQuad(r[0], a);
  loadQuad(r[1], b);
  loadQuad(r[2], c);
  loadQuad(r[3], d);
  const Quad low01 = __builtin_shufflevector(r[0], r[1], 0, 4, 2, 6),
             high01 = __builtin_shufflevector(r[0], r[1], 1, 5, 3, 7);
  const Quad low23 = __builtin_shufflevector(r[2], r[3], 0, 4, 2, 6),
             high23 = __builtin_shufflevector(r[2], r[3], 1, 5, 3, 7);
  out.x = __builtin_shufflevector(low01, low23, 0, 1, 4, 5);
  out.y = __builtin_shufflevector(high01, high23, 0, 1, 4, 5);
  out.z = __builtin_shufflevector(low01, low23, 2, 3, 6, 7);
}
[[gnu::always_inline]] inline void scatter(const Three& in, Padded& a, Padded& b, Padded& c, Padded& d) {
  const Quad zero{};
  const Quad low01 = __builtin_shufflevector(in.x, in.y, 0, 4, 2, 6),
             high01 = __builtin_shufflevector(in.x, in.y, 1, 5, 3, 7);
  const Quad low23 = __builtin_shufflevector(in.z, zero, 0, 4, 2, 6),
             high23 = __builtin_shufflevector(in.z, zero, 1, 5, 3, 7);
  storeQuad(a, __builtin_shufflevector(low01, low23, 0, 1, 4, 5));
  storeQuad(b, __builtin_shufflevector(high01, high23, 0, 1, 4, 5));
  storeQuad(c, __builtin_shufflevector(low01, low23, 2, 3, 6, 7));
  storeQuad(d, __builtin_shufflevector(high01, high23, 2, 3, 6, 7));
}

}  // namespace

// The arithmetic, to be inlined into functions for different processors.
struct ContactLanes::Visit {
  [[gnu::always_inline]] static void gatherSide(const Side& side, const Motion* motions, Three& velocity, Three& spin) {
    const PerLane& at = side.places;
    const Motion &a = motions[at[0]], &b = motions[at[1]], &c = motions[at[2]], &d = motions[at[3]];
    gather(velocity, a.velocity, b.velocity, c.velocity, d.velocity);
    gather(spin, a.spin, b.spin, c.spin, d.spin);
  }
  [[gnu::always_inline]] static void scatterSide(const Side& side, Motion* motions, const Three& velocity,
                                                 const Three& spin) {
    const PerLane& at = side.places;
    Motion &a = motions[at[0]], &b = motions[at[1]], &c = motions[at[2]], &d = motions[at[3]];
    scatter(velocity, a.velocity, b.velocity, c.velocity, d.velocity);
    scatter(spin, a.spin, b.spin, c.spin, d.spin);
  }

  // A row's points take what their law asks for, where the bodies b move away from the bodies a with `apart` and all
  // turn with their spins.
  template <bool kTwists>
  [[gnu::always_inline]] static void visit(const Batch& batch, Row& row, const ContactStep<Quad>& step, Three& apart,
                                           Three& spinA, Three& spinB, Swept& swept) {
    Three armA, armB, onA, onB;
    take(armA, row.arms[0]);
    take(armB, row.arms[1]);
    cross(onA, spinA, armA);
    cross(onB, spinB, armB);
    subtract(onB, onA);
    add(onB, apart);
    Quad slip[3];
    dot(slip[0], batch.directions[0], onB);
    dot(slip[1], batch.directions[1], onB);
    dot(slip[2], batch.directions[2], onB);
    if constexpr (kTwists) {
      Three turning = spinB;
      subtract(turning, spinA);
      Quad twist;
      dot(twist, batch.directions[0], turning);
      slip[1] += twist * row.lever[0];
      slip[2] += twist * row.lever[1];
    }
    goOn(step, row.push.impulse[0], row.push.direction[0], row.push.change[0]);
    goOn(step, row.push.impulse[1], row.push.direction[1], row.push.change[1]);
    goOn(step, row.push.impulse[2], row.push.direction[2], row.push.change[2]);
    Quad effect;
    resolve(row.law, slip, row.push, effect);
    lanes::raiseTo(swept.largest, effect);
    addSquaredChange(row.law, row.push, swept.gradient);

    Three along{}, direction;
    for (int k = 0; k < 3; ++k) {
      take(direction, batch.directions[k]);
      addScaled(along, row.push.change[k], direction);
    }
    addScaled(apart, batch.inverseMass, along);
    cross(onA, armA, along);
    cross(onB, armB, along);
    Three answerA, answerB;
    product(answerA, batch.sides[0].response, onA);
    product(answerB, batch.sides[1].response, onB);
    if constexpr (kTwists) {
      const Quad twist = row.push.change[1] * row.lever[0] + row.push.change[2] * row.lever[1];
      take(direction, batch.sides[0].twist);
      addScaled(answerA, twist, direction);
      take(direction, batch.sides[1].twist);
      addScaled(answerB, twist, direction);
    }
    subtract(spinA, answerA);
    add(spinB, answerB);
  }

  [[gnu::always_inline]] static void sweepBatch(const Batch& batch, Row* rows, Motion* motions,
                                                const ContactStep<Quad>& step, Swept& swept) {
    Three velocityA, velocityB, spinA, spinB;
    gatherSide(batch.sides[0], motions, velocityA, spinA);
    gatherSide(batch.sides[1], motions, velocityB, spinB);
    Three apart = velocityB;
    subtract(apart, velocityA);
    const Three before = apart;
    if (batch.twists)
      for (int i = batch.first; i < batch.end; ++i) visit<true>(batch, rows[i], step, apart, spinA, spinB, swept);
    else
      for (int i = batch.first; i < batch.end; ++i) visit<false>(batch, rows[i], step, apart, spinA, spinB, swept);
    // Each side has its share of what the two move against each other.
    subtract(apart, before);
    addScaled(velocityA, batch.sides[0].share, apart);
    addScaled(velocityB, batch.sides[1].share, apart);
    scatterSide(batch.sides[0], motions, velocityA, spinA);
    scatterSide(batch.sides[1], motions, velocityB, spinB);
  }

  [[gnu::always_inline]] static void goOn(const ContactStep<Quad>& step, Quad& value, Quad& direction,
                                          const Quad& change) {
    calm::goOn(step, value, direction, change);
  }
  [[gnu::always_inline]] static void goOn(const ContactStep<Quad>& step, Padded& value, Padded& direction,
                                          Padded& change) {
    Quad v, d, c;
    loadQuad(v, value);
    loadQuad(d, direction);
    loadQuad(c, change);
    calm::goOn(step, v, d, c);
    storeQuad(value, v);
    storeQuad(direction, d);
    storeQuad(change, v);  // to be taken from what the sweep makes of it
  }
  [[gnu::always_inline]] static void noteChange(const Padded& value, Padded& change) {
    Quad v, c;
    loadQuad(v, value);
    loadQuad(c, change);
    storeQuad(change, v - c);
  }

  [[gnu::always_inline]] static void sweep(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                                           const ContactStep<Quad>& step, Swept& swept) {
    for (int l = 0; l < range.sets; ++l) {
      const ContactStep<Quad> own{Quad{} + step.share[l], Quad{} + step.keep[l]};
      for (int i = range.set[l].firstPlace; i < range.set[l].endPlace; ++i) {
        Motion& m = motions[i];
        goOn(own, m.velocity, m.headingVelocity, m.sweptVelocity);
        goOn(own, m.spin, m.headingSpin, m.sweptSpin);
      }
    }
    for (int k = range.firstBatch; k < range.endBatch; ++k) sweepBatch(batches[k], rows, motions, step, swept);
    for (int l = 0; l < range.sets; ++l)
      for (int i = range.set[l].firstPlace; i < range.set[l].endPlace; ++i) {
        Motion& m = motions[i];
        noteChange(m.velocity, m.sweptVelocity);
        noteChange(m.spin, m.sweptSpin);
      }
  }

  // The law of a row's points, of which `real` says whether there are any: without, nothing is pushed.
  [[gnu::always_inline]] static void prepare(const Batch& batch, Row& row, const Quad& real, double softness,
                                             bool closing) {
    Quad mobility[3][3] = {};
    for (int k = 0; k < 3; ++k) mobility[k][k] = batch.inverseMass;
    for (int s = 0; s < 2; ++s) {
      Three arm, turning[3], answer[3];
      take(arm, row.arms[s]);
      for (int k = 0; k < 3; ++k) {
        Three direction;
        take(direction, batch.directions[k]);
        cross(turning[k], arm, direction);
        take(direction, batch.directions[0]);
        if (k > 0) addScaled(turning[k], row.lever[k - 1], direction);
        product(answer[k], batch.sides[s].response, turning[k]);
      }
      constexpr int kRead[][2] = {{0, 0}, {1, 0}, {2, 0}, {1, 1}, {1, 2}, {2, 2}};
      for (const auto& [i, j] : kRead)
        mobility[i][j] += turning[i].x * answer[j].x + turning[i].y * answer[j].y + turning[i].z * answer[j].z;
    }
    ContactLaw<Quad>& law = row.law;
    setMobility(law, mobility, softness);
    const Quad zero{};
    for (Quad& x : law.stopSlip) x = real > zero ? x : zero;
    law.slipRate = real > zero ? law.slipRate : zero;
    law.perSpeed = real > zero ? law.perSpeed : zero;
    // Velocities are closed without the compliance's own yield.
    if (closing) law.target += law.softness * row.push.impulse[0];
  }

  static void sweepNarrow(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                          const ContactStep<Quad>& step, Swept& swept) {
    sweep(range, batches, rows, motions, step, swept);
  }
  static void prepareNarrow(const Batch& batch, Row& row, const Quad& real, double softness, bool closing) {
    prepare(batch, row, real, softness, closing);
  }
#ifdef __x86_64__
  [[gnu::target("avx2")]] static void sweepWide(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                                                const ContactStep<Quad>& step, Swept& swept) {
    sweep(range, batches, rows, motions, step, swept);
  }
  [[gnu::target("avx2")]] static void prepareWide(const Batch& batch, Row& row, const Quad& real, double softness,
                                                  bool closing) {
    prepare(batch, row, real, softness, closing);
  }
  // The environment may ask for the narrow path, to see that both give the same.
  static bool isWide() {
    static const bool wide = __builtin_cpu_supports("avx2") && !std::getenv("CALM_TETHER_NARROW");
    return wide;
  }
#else
  static constexpr auto sweepWide = sweepNarrow;
  static constexpr auto prepareWide = prepareNarrow;
  static bool isWide() {
    return false;
  }
#endif
};

void ContactLanes::load(const std::vector<ContactPatch>& patches, const std::vector<ContactPoint>& points,
                        const std::vector<ContactSet>& sets, const std::vector<int>& touched,
                        const std::vector<Body>& bodies, double softness, bool closing, bool apart) {
  batches_.clear();
  ranges_.clear();
  rows_.clear();
  course_ = {};
  touched_ = touched;
  motions_.assign(touched.size() + 1, {});
  if (apart) {
    std::vector<ContactSet> small;
    for (const ContactSet& set : sets) {
      if (set.size() > kSmallSet)
        addLarge(set, patches, bodies);
      else
        small.push_back(set);
    }
    // Such as need equally many batches go together.
    std::stable_sort(small.begin(), small.end(),
                     [](const ContactSet& x, const ContactSet& y) { return x.size() > y.size(); });
    const int count = static_cast<int>(small.size());
    for (int i = 0; i < count; i += kLanes) addSmall(&small[i], std::min(kLanes, count - i));
  } else {
    const int all = static_cast<int>(patches.size());
    addLarge({0, all, 0, static_cast<int>(touched.size())}, patches, bodies);
  }
  fill(patches, points, bodies, softness, closing);
}

// Each batch takes what shares no moving body with the rest of it, from the next few patches.
void ContactLanes::addLarge(const ContactSet& set, const std::vector<ContactPatch>& patches,
                            const std::vector<Body>& bodies) {
  constexpr std::size_t kFar = 24;  // patches that are looked at
  const auto shares = [&](const ContactPatch& x, const ContactPatch& y) {
    const auto holds = [&](int body) { return bodies[body].dynamic() && (body == y.a || body == y.b); };
    return holds(x.a) || holds(x.b);
  };
  Range range;
  range.firstBatch = static_cast<int>(batches_.size());
  range.set[0] = set;
  std::vector<int> waiting;
  int next = set.firstPatch;
  for (;;) {
    while (next < set.endPatch && waiting.size() < kFar) waiting.push_back(next++);
    if (waiting.empty()) break;
    PerLane chosen;
    chosen.fill(-1);
    int lanes = 0;
    std::size_t kept = 0;
    for (const int candidate : waiting) {
      const auto clashes = [&](int other) { return shares(patches[candidate], patches[other]); };
      if (lanes < kLanes && std::none_of(chosen.begin(), chosen.begin() + lanes, clashes))
        chosen[lanes++] = candidate;
      else
        waiting[kept++] = candidate;
    }
    waiting.resize(kept);
    addBatch(chosen);
  }
  range.endBatch = static_cast<int>(batches_.size());
  ranges_.push_back(range);
}

void ContactLanes::addSmall(const ContactSet* sets, int count) {
  Range range;
  range.firstBatch = static_cast<int>(batches_.size());
  range.sets = count;
  std::copy_n(sets, count, range.set.begin());
  for (int k = 0; k < sets[0].size(); ++k) {  // the largest
    PerLane patches;
    patches.fill(-1);
    for (int l = 0; l < count; ++l)
      if (k < sets[l].size()) patches[l] = sets[l].firstPatch + k;
    addBatch(patches);
  }
  range.endBatch = static_cast<int>(batches_.size());
  ranges_.push_back(range);
}

void ContactLanes::addBatch(const PerLane& patches) {
  batches_.push_back(Batch{});
  batches_.back().patches = patches;
}

void ContactLanes::fill(const std::vector<ContactPatch>& patches, const std::vector<ContactPoint>& points,
                        const std::vector<Body>& bodies, double softness, bool closing) {
  const auto prepare = Visit::isWide() ? Visit::prepareWide : Visit::prepareNarrow;
  const int nobody = static_cast<int>(touched_.size());
  struct alignas(sizeof(Quad)) Real {
    Quad at{};
  };
  std::vector<Real> real;
  for (Batch& batch : batches_) {
    batch.first = static_cast<int>(rows_.size());
    for (Side& side : batch.sides) side.places.fill(nobody);
    real.clear();
    for (int l = 0; l < kLanes; ++l) {
      if (batch.patches[l] < 0) continue;
      const ContactPatch& patch = patches[batch.patches[l]];
      for (int k = 0; k < 3; ++k)
        for (int i = 0; i < 3; ++i) batch.directions[k][i][l] = patch.directions(i, k);
      batch.twists |= patch.twists;
      const auto takeSide = [&](Side& side, int place, const Body& body) {
        side.places[l] = place;
        if (!body.dynamic()) return;
        side.share[l] = body.linearResponse;
        batch.inverseMass[l] += body.linearResponse;
        const Mat3& r = body.response;
        const double six[] = {r(0, 0), r(1, 0), r(2, 0), r(1, 1), r(2, 1), r(2, 2)};
        for (int i = 0; i < 6; ++i) side.response[i][l] = six[i];
        if (!patch.twists) return;
        const Vec3 twist = r * patch.normal();
        for (int i = 0; i < 3; ++i) side.twist[i][l] = twist[i];
      };
      takeSide(batch.sides[0], patch.placeA, bodies[patch.a]);
      takeSide(batch.sides[1], patch.placeB, bodies[patch.b]);
      batch.sides[0].share[l] /= -batch.inverseMass[l];
      batch.sides[1].share[l] /= batch.inverseMass[l];
      const std::size_t count = patch.end - patch.first;
      if (real.size() < count) real.resize(count), rows_.resize(batch.first + count);
      for (std::size_t k = 0; k < count; ++k) {
        const ContactPoint& p = points[patch.first + k];
        Row& row = rows_[batch.first + k];
        real[k].at[l] = 1;
        for (int i = 0; i < 3; ++i) {
          row.arms[0][i][l] = p.armA[i];
          row.arms[1][i][l] = p.armB[i];
          row.push.impulse[i][l] = p.impulse[i];
        }
        for (int i = 0; i < 2; ++i) row.lever[i][l] = p.lever[1 + i];
        row.law.target[l] = p.target;
        row.law.friction[l] = patch.pair->friction;
      }
    }
    batch.end = static_cast<int>(rows_.size());
    for (std::size_t k = 0; k < real.size(); ++k) prepare(batch, rows_[batch.first + k], real[k].at, softness, closing);
  }
}

void ContactLanes::takeVelocities(const std::vector<Body>& bodies) {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    motions_[i].velocity = bodies[touched_[i]].velocity;
    motions_[i].spin = bodies[touched_[i]].spin;
  }
}

void ContactLanes::giveVelocities(std::vector<Body>& bodies) const {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    Body& b = bodies[touched_[i]];
    if (b.dynamic()) b.velocity = motions_[i].velocity.vec(), b.spin = motions_[i].spin.vec();
  }
}

void ContactLanes::giveImpulses(const std::vector<ContactPatch>& patches, std::vector<ContactPoint>& points) const {
  for (const Batch& batch : batches_)
    for (int l = 0; l < kLanes; ++l) {
      if (batch.patches[l] < 0) continue;
      const ContactPatch& patch = patches[batch.patches[l]];
      for (int k = 0; k < patch.end - patch.first; ++k)
        for (int i = 0; i < 3; ++i) points[patch.first + k].impulse[i] = rows_[batch.first + k].push.impulse[i][l];
    }
}

void ContactLanes::Course::next(ContactStep<Quad>& step) const {
  const Quad zero{}, one = zero + 1;
  step.share = beta > one ? zero : beta;
  step.keep = beta > one ? zero : gradient > zero ? one : zero;
}

void ContactLanes::Course::note(const Quad& now) {
  const Quad zero{};
  beta = gradient > zero ? now / gradient : zero;
  gradient = now;
}

void ContactLanes::sweepOn(const Range& range, Course& course, Quad& largest) {
  ContactStep<Quad> step;
  course.next(step);
  Swept swept;
  (Visit::isWide() ? Visit::sweepWide : Visit::sweepNarrow)(range, batches_.data(), rows_.data(), motions_.data(), step,
                                                            swept);
  if (range.sets == 1) {
    // One set in all lanes.
    double sum = 0, most = 0;
    for (int l = 0; l < kLanes; ++l) sum += swept.gradient[l], most = std::max(most, swept.largest[l]);
    swept = {Quad{} + most, Quad{} + sum};
  }
  course.note(swept.gradient);
  largest = swept.largest;
}

double ContactLanes::sweep() {
  Quad largest{};
  for (const Range& range : ranges_) sweepOn(range, course_, largest);
  return largest[0];
}

double ContactLanes::relax(int sweeps, double enough, double reduction) {
  double worst = 0;
  for (const Range& range : ranges_) {
    Course course;
    Quad limit = Quad{} + enough, change{};
    const auto settled = [&] {
      for (int l = 0; l < kLanes; ++l)
        if (!(change[l] < limit[l])) return false;
      return true;
    };
    for (int i = 0; i < sweeps; ++i) {
      sweepOn(range, course, change);
      if (settled()) break;
      if (i == 0) lanes::raiseTo(limit, reduction * change);
    }
    for (int l = 0; l < kLanes; ++l) worst = std::max(worst, change[l]);
  }
  return worst;
}

}  // namespace calm
