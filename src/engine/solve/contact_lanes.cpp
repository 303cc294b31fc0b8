// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_lanes.h"

#include <algorithm>

#include "engine/math/three.h"

namespace calm {

namespace {

// Sets of contacts up to so many patches are swept in their own order: that of a stack from below loses least where
// sweeps end before they have converged.
constexpr int kSmallSet = 32;

}  // namespace

// The arithmetic, to be inlined into functions for different processors.
struct ContactLanes::Visit {
  template <Padded Motion::*kWhat>
  CALM_INLINE static void gatherSide(const Side& side, const Motion* m, Three& v) {
    const PerLane& at = side.places;
    gather(v.x.low, v.y.low, v.z.low, m[at[0]].*kWhat, m[at[1]].*kWhat, m[at[2]].*kWhat, m[at[3]].*kWhat);
    gather(v.x.high, v.y.high, v.z.high, m[at[4]].*kWhat, m[at[5]].*kWhat, m[at[6]].*kWhat, m[at[7]].*kWhat);
  }
  template <Padded Motion::*kWhat>
  CALM_INLINE static void scatterSide(const Side& side, Motion* m, const Three& v) {
    const PerLane& at = side.places;
    scatter(v.x.low, v.y.low, v.z.low, m[at[0]].*kWhat, m[at[1]].*kWhat, m[at[2]].*kWhat, m[at[3]].*kWhat);
    scatter(v.x.high, v.y.high, v.z.high, m[at[4]].*kWhat, m[at[5]].*kWhat, m[at[6]].*kWhat, m[at[7]].*kWhat);
  }

  // A row's points take what their law asks for, where the bodies b move away from the bodies a with `apart` and all
  // turn with their spins.
  template <bool kTwists>
  CALM_INLINE static void visit(const Batch& batch, Row& row, const ContactStep<Oct>& step, Three& apart, Three& spinA,
                                Three& spinB, Swept& swept) {
    Three armA, armB, onA, onB;
    take(armA, row.arms[0]);
    take(armB, row.arms[1]);
    cross(onA, spinA, armA);
    cross(onB, spinB, armB);
    subtract(onB, onA);
    add(onB, apart);
    Oct slip[3] = {dot(batch.directions[0], onB), dot(batch.directions[1], onB), dot(batch.directions[2], onB)};
    if constexpr (kTwists) {
      Three turning = spinB;
      subtract(turning, spinA);
      const Oct twist = dot(batch.directions[0], turning);
      slip[1] += twist * row.lever[0];
      slip[2] += twist * row.lever[1];
    }
    goOn(step, row.push.impulse[0], row.push.direction[0], row.push.change[0]);
    goOn(step, row.push.impulse[1], row.push.direction[1], row.push.change[1]);
    goOn(step, row.push.impulse[2], row.push.direction[2], row.push.change[2]);
    swept.largest = lanes::larger(swept.largest, resolve(row.law, batch.friction, slip, row.push));
    swept.gradient += squaredChange(row.law, row.push);

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
      const Oct twist = row.push.change[1] * row.lever[0] + row.push.change[2] * row.lever[1];
      take(direction, batch.sides[0].twist);
      addScaled(answerA, twist, direction);
      take(direction, batch.sides[1].twist);
      addScaled(answerB, twist, direction);
    }
    subtract(spinA, answerA);
    add(spinB, answerB);
  }

  CALM_INLINE static void sweepBatch(const Batch& batch, Row* rows, Motion* motions, const ContactStep<Oct>& step,
                                     Swept& swept) {
    Three velocityA, velocityB, spinA, spinB;
    gatherSide<&Motion::velocity>(batch.sides[0], motions, velocityA);
    gatherSide<&Motion::velocity>(batch.sides[1], motions, velocityB);
    gatherSide<&Motion::spin>(batch.sides[0], motions, spinA);
    gatherSide<&Motion::spin>(batch.sides[1], motions, spinB);
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
    scatterSide<&Motion::velocity>(batch.sides[0], motions, velocityA);
    scatterSide<&Motion::velocity>(batch.sides[1], motions, velocityB);
    scatterSide<&Motion::spin>(batch.sides[0], motions, spinA);
    scatterSide<&Motion::spin>(batch.sides[1], motions, spinB);
  }

  // Goes on with a body's motion, whose `change` becomes what to take it from after the sweep.
  CALM_INLINE static void goOnWith(const ContactStep<double>& step, Padded& value, Padded& direction, Padded& change) {
    Quad v, d, c;
    loadQuad(v, value);
    loadQuad(d, direction);
    loadQuad(c, change);
    goOn(step, v, d, c);
    storeQuad(value, v);
    storeQuad(direction, d);
    storeQuad(change, v);
  }
  CALM_INLINE static void noteChange(const Padded& value, Padded& change) {
    Quad v, c;
    loadQuad(v, value);
    loadQuad(c, change);
    storeQuad(change, v - c);
  }

  CALM_INLINE static void sweep(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                                const ContactStep<Oct>& step, Swept& swept) {
    for (int l = 0; l < range.sets; ++l) {
      const ContactStep<double> own{step.share[l], step.keep[l]};
      for (int i = range.set[l].firstPlace; i < range.set[l].endPlace; ++i) {
        Motion& m = motions[i];
        goOnWith(own, m.velocity, m.headingVelocity, m.sweptVelocity);
        goOnWith(own, m.spin, m.headingSpin, m.sweptSpin);
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
  CALM_INLINE static void prepare(const Batch& batch, Row& row, const Oct& real, double softness, bool closing) {
    Oct mobility[3][3] = {};
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
    ContactLaw<Oct>& law = row.law;
    setMobility(law, mobility, softness);
    const auto isReal = Oct{} < real;
    for (Oct& x : law.stopSlip) x = lanes::pick(isReal, x, Oct{});
    law.perSpeed = lanes::pick(isReal, law.perSpeed, Oct{});
    // Velocities are closed without the compliance's own yield.
    if (closing) law.target += law.softness * row.push.impulse[0];
  }

  static void sweepNarrow(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                          const ContactStep<Oct>& step, Swept& swept) {
    sweep(range, batches, rows, motions, step, swept);
  }
  static void prepareNarrow(const Batch& batch, Row& row, const Oct& real, double softness, bool closing) {
    prepare(batch, row, real, softness, closing);
  }
  CALM_WIDE static void sweepWide(const Range& range, const Batch* batches, Row* rows, Motion* motions,
                                  const ContactStep<Oct>& step, Swept& swept) {
    sweep(range, batches, rows, motions, step, swept);
  }
  CALM_WIDE static void prepareWide(const Batch& batch, Row& row, const Oct& real, double softness, bool closing) {
    prepare(batch, row, real, softness, closing);
  }
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
  const auto prepare = lanes::areWide() ? Visit::prepareWide : Visit::prepareNarrow;
  const int nobody = static_cast<int>(touched_.size());
  std::vector<Oct> real;  // 1 where there is a point
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
      batch.friction[l] = patch.pair->friction;
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
      if (real.size() < count) real.resize(count, Oct{}), rows_.resize(batch.first + count);
      for (std::size_t k = 0; k < count; ++k) {
        const ContactPoint& p = points[patch.first + k];
        Row& row = rows_[batch.first + k];
        real[k][l] = 1;
        for (int i = 0; i < 3; ++i) {
          row.arms[0][i][l] = p.armA[i];
          row.arms[1][i][l] = p.armB[i];
          row.push.impulse[i][l] = p.impulse[i];
        }
        for (int i = 0; i < 2; ++i) row.lever[i][l] = p.lever[1 + i];
        row.law.target[l] = p.target;
      }
    }
    batch.end = static_cast<int>(rows_.size());
    for (std::size_t k = 0; k < real.size(); ++k) prepare(batch, rows_[batch.first + k], real[k], softness, closing);
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

void ContactLanes::Course::next(ContactStep<Oct>& step) const {
  for (int l = 0; l < kLanes; ++l) {
    const ContactStep<double> own = stepAfter(gradient[l], before[l]);
    step.share[l] = own.share, step.keep[l] = own.keep;
  }
}

void ContactLanes::sweepOn(const Range& range, Course& course, Oct& largest) {
  ContactStep<Oct> step;
  course.next(step);
  Swept swept;
  (lanes::areWide() ? Visit::sweepWide : Visit::sweepNarrow)(range, batches_.data(), rows_.data(), motions_.data(),
                                                             step, swept);
  if (range.sets == 1) {
    // One set in all lanes.
    double sum = 0, most = 0;
    for (int l = 0; l < kLanes; ++l) sum += swept.gradient[l], most = std::max(most, swept.largest[l]);
    lanes::fill(swept.largest, most);
    lanes::fill(swept.gradient, sum);
  }
  course.before = course.gradient;
  course.gradient = swept.gradient;
  largest = swept.largest;
}

double ContactLanes::sweep() {
  Oct largest{};
  for (const Range& range : ranges_) sweepOn(range, course_, largest);
  return largest[0];
}

double ContactLanes::relax(int sweeps, double enough, double reduction) {
  double worst = 0;
  for (const Range& range : ranges_) {
    Course course;
    Oct limit, change{};
    lanes::fill(limit, enough);
    const auto settled = [&] {
      for (int l = 0; l < kLanes; ++l)
        if (!(change[l] < limit[l])) return false;
      return true;
    };
    for (int i = 0; i < sweeps; ++i) {
      sweepOn(range, course, change);
      if (settled()) break;
      if (i == 0) limit = lanes::larger(limit, reduction * change);
    }
    for (int l = 0; l < kLanes; ++l) worst = std::max(worst, change[l]);
  }
  return worst;
}

}  // namespace calm
