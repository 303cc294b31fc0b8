// SPDX-License-Identifier: GPL-3.0-or-later
// The arithmetic of sweeps over contacts in lanes T, to be inlined into functions for different processors.
#pragma once

#include "engine/math/three.h"
#include "engine/solve/contact_lanes.h"
#include "engine/solve/contact_law.h"
#include "engine/solve/contact_layout.h"

namespace calm {

// The motion of a touched body.
struct ContactMotion {
  Padded velocity, spin;
  // What the last sweep changed, and the direction of the conjugate gradients: the impulses' directions as velocities.
  Padded sweptVelocity, sweptSpin;
  Padded headingVelocity, headingSpin;
};

// A body in each lane.
template <class T>
struct ContactSide {
  T share;        // of what the two sides' velocities change against each other
  T response[6];  // xx, xy, xz, yy, yz, zz
  T twist[3];     // spin by a unit angular impulse about the normal
  ContactLayout::PerLane places;
};

// A patch in each lane, or none.
template <class T>
struct ContactBatch {
  T directions[3][3];
  T inverseMass;  // of both sides together
  T friction;
  ContactSide<T> sides[2];
  int first, end;  // rows
  bool twists;
};

// A point of each of a batch's patches, or none.
template <class T>
struct ContactRow {
  T arms[2][3];
  T lever[2];  // of the tangents
  ContactLaw<T> law;
  ContactPush<T> push;
};

// What came of a sweep.
template <class T>
struct ContactSwept {
  T largest{};   // m/s, change of a contact's velocity
  T gradient{};  // squared length of all changes
};

template <class T>
struct ContactArithmetic {
  using Batch = ContactBatch<T>;
  using Row = ContactRow<T>;
  using Side = ContactSide<T>;
  using Three = calm::Three<T>;
  using Motion = ContactMotion;
  using Swept = ContactSwept<T>;

  template <Padded Motion::*kWhat>
  CALM_INLINE static void gatherSide(const Side& side, const Motion* m, Three& v) {
    const ContactLayout::PerLane& at = side.places;
    const Padded* const from[] = {&(m[at[0]].*kWhat), &(m[at[1]].*kWhat), &(m[at[2]].*kWhat), &(m[at[3]].*kWhat),
                                  &(m[at[4]].*kWhat), &(m[at[5]].*kWhat), &(m[at[6]].*kWhat), &(m[at[7]].*kWhat)};
    gather(v, from);
  }
  template <Padded Motion::*kWhat>
  CALM_INLINE static void scatterSide(const Side& side, Motion* m, const Three& v) {
    const ContactLayout::PerLane& at = side.places;
    Padded* const to[] = {&(m[at[0]].*kWhat), &(m[at[1]].*kWhat), &(m[at[2]].*kWhat), &(m[at[3]].*kWhat),
                          &(m[at[4]].*kWhat), &(m[at[5]].*kWhat), &(m[at[6]].*kWhat), &(m[at[7]].*kWhat)};
    scatter(v, to);
  }

  // A row's points take what their law asks for, where the bodies b move away from the bodies a with `apart` and all
  // turn with their spins.
  template <bool kTwists>
  CALM_INLINE static void visit(const Batch& batch, Row& row, const ContactStep<T>& step, Three& apart, Three& spinA,
                                Three& spinB, Swept& swept) {
    Three armA, armB, onA, onB;
    take(armA, row.arms[0]);
    take(armB, row.arms[1]);
    cross(onA, spinA, armA);
    cross(onB, spinB, armB);
    subtract(onB, onA);
    add(onB, apart);
    T slip[3] = {dot(batch.directions[0], onB), dot(batch.directions[1], onB), dot(batch.directions[2], onB)};
    if constexpr (kTwists) {
      Three turning = spinB;
      subtract(turning, spinA);
      const T twist = dot(batch.directions[0], turning);
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
      const T twist = row.push.change[1] * row.lever[0] + row.push.change[2] * row.lever[1];
      take(direction, batch.sides[0].twist);
      addScaled(answerA, twist, direction);
      take(direction, batch.sides[1].twist);
      addScaled(answerB, twist, direction);
    }
    subtract(spinA, answerA);
    add(spinB, answerB);
  }

  CALM_INLINE static void sweepBatch(const Batch& batch, Row* rows, Motion* motions, const ContactStep<T>& step,
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

  // What a sweep works on.
  struct Sweep {
    const ContactLayout::Range& range;
    const Batch* batches;
    Row* rows;
    Motion* motions;
    const ContactStep<T>& step;
    Swept& swept;
  };
  CALM_INLINE static void sweep(const Sweep& s) {
    const ContactLayout::Range& range = s.range;
    for (int l = 0; l < range.sets; ++l) {
      const ContactStep<double> own{s.step.share[l], s.step.keep[l]};
      for (int i = range.set[l].firstPlace; i < range.set[l].endPlace; ++i) {
        Motion& m = s.motions[i];
        goOnWith(own, m.velocity, m.headingVelocity, m.sweptVelocity);
        goOnWith(own, m.spin, m.headingSpin, m.sweptSpin);
      }
    }
    for (int k = range.firstBatch; k < range.endBatch; ++k)
      sweepBatch(s.batches[k], s.rows, s.motions, s.step, s.swept);
    for (int l = 0; l < range.sets; ++l)
      for (int i = range.set[l].firstPlace; i < range.set[l].endPlace; ++i) {
        Motion& m = s.motions[i];
        noteChange(m.velocity, m.sweptVelocity);
        noteChange(m.spin, m.sweptSpin);
      }
  }

  // The law of a row's points. Lanes where `left` is not above zero have none: nothing is pushed there.
  CALM_INLINE static void prepare(const Batch& batch, Row& row, const T& left, const ContactLanes::Terms& terms) {
    T mobility[3][3] = {};
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
    ContactLaw<T>& law = row.law;
    setMobility(law, mobility, terms.softness);
    const auto isReal = T{} < left;
    for (T& x : law.stopSlip) x = lanes::pick(isReal, x, T{});
    law.perSpeed = lanes::pick(isReal, law.perSpeed, T{});
    // Velocities are closed without the compliance's own yield.
    if (terms.closing) law.target += law.softness * row.push.impulse[0];
  }
};

}  // namespace calm
