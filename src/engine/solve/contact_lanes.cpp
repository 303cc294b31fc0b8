// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/contact_lanes.h"

#include <algorithm>
#include <climits>

#include "engine/solve/contact_sweep.h"

namespace calm {

namespace {

// The arithmetic for each kind of processor.
struct Narrow {
  using Lanes = Oct;
  using Arithmetic = ContactArithmetic<Lanes>;
  static void sweep(const Arithmetic::Sweep& s) { Arithmetic::sweep(s); }
  static void prepare(const Arithmetic::Batch& batch, Arithmetic::Row& row, const Lanes& left,
                      const ContactLanes::Terms& terms) {
    Arithmetic::prepare(batch, row, left, terms);
  }
};
struct Wide : Narrow {
  CALM_WIDE static void sweep(const Arithmetic::Sweep& s) { Arithmetic::sweep(s); }
  CALM_WIDE static void prepare(const Arithmetic::Batch& batch, Arithmetic::Row& row, const Lanes& left,
                                const ContactLanes::Terms& terms) {
    Arithmetic::prepare(batch, row, left, terms);
  }
};
struct Widest {
  using Lanes = WholeOct;
  using Arithmetic = ContactArithmetic<Lanes>;
  CALM_WIDEST static void sweep(const Arithmetic::Sweep& s) { Arithmetic::sweep(s); }
  CALM_WIDEST static void prepare(const Arithmetic::Batch& batch, Arithmetic::Row& row, const Lanes& left,
                                  const ContactLanes::Terms& terms) {
    Arithmetic::prepare(batch, row, left, terms);
  }
};

template <class Processor>
class LanesFor final : public ContactLanes {
 public:
  void load(const Touches& touches, const std::vector<Body>& bodies, const Terms& terms) override;
  double relax(int sweeps, double enough, double reduction, std::vector<ContactSet>& unsettled) override;
  double sweep() override;
  void takeVelocities(const std::vector<Body>& bodies) override;
  void giveVelocities(std::vector<Body>& bodies) const override;
  void giveImpulses(Touches& touches) const override;
  void takeImpulses(const Touches& touches) override;

 private:
  using T = typename Processor::Lanes;
  using Arithmetic = ContactArithmetic<T>;
  using Batch = ContactBatch<T>;
  using Row = ContactRow<T>;
  using Range = ContactLayout::Range;
  static constexpr int kLanes = ContactLayout::kLanes;

  // The conjugate gradients' way, by lanes.
  struct Course {
    T gradient{};  // squared length of the last sweep's change; 0 before the first
    T before{};    // that of the sweep before it

    void next(ContactStep<T>& step) const;
  };

  void layRows(const Touches& touches);
  // visit(point, row, lane)
  template <class Visit>
  void forEachPoint(const Touches& touches, const Visit& visit) const;
  void takePatch(const ContactPatch& patch, int lane, const Touches& touches, const std::vector<Body>& bodies,
                 Batch& batch);
  // The largest changes go to `largest`.
  void sweepOn(const Range& range, Course& course, T& largest);

  ContactLayout layout_;
  std::vector<Batch> batches_;  // as in the layout
  std::vector<Row> rows_;
  std::vector<ContactMotion> motions_;  // of the touched bodies, and one more of none
  std::vector<int> touched_;
  Course course_;  // of sweep()
};

template <class Processor>
void LanesFor<Processor>::load(const Touches& touches, const std::vector<Body>& bodies, const Terms& terms) {
  course_ = {};
  touched_ = touches.bodies;
  motions_.assign(touched_.size() + 1, {});
  layout_.lay(touches, bodies, terms.apart);
  layRows(touches);
  for (std::size_t k = 0; k < batches_.size(); ++k) {
    Batch& batch = batches_[k];
    T left{};  // points, from the present row on
    for (int l = 0; l < kLanes; ++l) {
      if (layout_.batches[k][l] < 0) continue;
      const ContactPatch& patch = touches.patches[layout_.batches[k][l]];
      left[l] = patch.size();
      takePatch(patch, l, touches, bodies, batch);
    }
    for (int i = batch.first; i < batch.end; ++i) {
      Processor::prepare(batch, rows_[i], left, terms);
      for (int l = 0; l < kLanes; ++l) left[l] -= 1;
    }
  }
}

// As many rows for each batch as its largest patch has points. All is nothing where a patch has fewer.
template <class Processor>
void LanesFor<Processor>::layRows(const Touches& touches) {
  batches_.clear();
  batches_.resize(layout_.batches.size());
  int count = 0;
  std::vector<int> full;  // ends of the rows that have a point in every lane
  for (std::size_t k = 0; k < batches_.size(); ++k) {
    int most = 0, least = INT_MAX;
    for (const int patch : layout_.batches[k]) {
      const int points = patch < 0 ? 0 : touches.patches[patch].size();
      most = std::max(most, points), least = std::min(least, points);
    }
    Batch& batch = batches_[k];
    for (ContactSide<T>& side : batch.sides) side.places.fill(static_cast<int>(touched_.size()));
    batch.first = count;
    full.push_back(count + least);
    batch.end = count += most;
  }
  rows_.resize(count);
  for (std::size_t k = 0; k < batches_.size(); ++k) {
    for (int i = batches_[k].first; i < full[k]; ++i)
      for (int d = 0; d < 3; ++d) rows_[i].push.change[d] = rows_[i].push.direction[d] = T{};
    std::fill(rows_.begin() + full[k], rows_.begin() + batches_[k].end, Row{});
  }
}

template <class Processor>
void LanesFor<Processor>::takePatch(const ContactPatch& patch, int lane, const Touches& touches,
                                    const std::vector<Body>& bodies, Batch& batch) {
  for (int k = 0; k < 3; ++k)
    for (int i = 0; i < 3; ++i) batch.directions[k][i][lane] = patch.directions(i, k);
  batch.twists |= patch.twist != 0;
  batch.friction[lane] = patch.friction;
  const auto takeSide = [&](ContactSide<T>& side, int place, const Body& body) {
    side.places[lane] = place;
    if (!body.dynamic()) return;
    side.share[lane] = body.linearResponse;
    batch.inverseMass[lane] += body.linearResponse;
    const Mat3& r = body.response;
    const double six[] = {r(0, 0), r(1, 0), r(2, 0), r(1, 1), r(2, 1), r(2, 2)};
    for (int i = 0; i < 6; ++i) side.response[i][lane] = six[i];
    if (patch.twist == 0) return;
    const Vec3 twist = r * patch.normal();
    for (int i = 0; i < 3; ++i) side.twist[i][lane] = twist[i];
  };
  takeSide(batch.sides[0], patch.placeA, bodies[patch.a]);
  takeSide(batch.sides[1], patch.placeB, bodies[patch.b]);
  batch.sides[0].share[lane] /= -batch.inverseMass[lane];
  batch.sides[1].share[lane] /= batch.inverseMass[lane];
  for (int k = 0; k < patch.size(); ++k) {
    const ContactPoint& p = touches.points[patch.first + k];
    Row& row = rows_[batch.first + k];
    for (int i = 0; i < 3; ++i) {
      row.arms[0][i][lane] = p.armA[i];
      row.arms[1][i][lane] = p.armB[i];
      row.push.impulse[i][lane] = p.impulse[i];
    }
    const Vec3 lever = patch.leverOf(p);
    for (int i = 0; i < 2; ++i) row.lever[i][lane] = lever[1 + i];
    row.law.target[lane] = p.target;
    for (int i = 0; i < 2; ++i) row.law.carried[i][lane] = p.carried[i], row.law.came[i][lane] = p.came[i];
  }
}

template <class Processor>
void LanesFor<Processor>::takeVelocities(const std::vector<Body>& bodies) {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    motions_[i].velocity = bodies[touched_[i]].velocity;
    motions_[i].spin = bodies[touched_[i]].spin;
  }
}

template <class Processor>
void LanesFor<Processor>::giveVelocities(std::vector<Body>& bodies) const {
  for (std::size_t i = 0; i < touched_.size(); ++i) {
    Body& b = bodies[touched_[i]];
    if (b.dynamic()) b.velocity = motions_[i].velocity.vec(), b.spin = motions_[i].spin.vec();
  }
}

template <class Processor>
template <class Visit>
void LanesFor<Processor>::forEachPoint(const Touches& touches, const Visit& visit) const {
  for (std::size_t b = 0; b < batches_.size(); ++b)
    for (int l = 0; l < kLanes; ++l) {
      if (layout_.batches[b][l] < 0) continue;
      const ContactPatch& patch = touches.patches[layout_.batches[b][l]];
      for (int k = 0; k < patch.size(); ++k) visit(patch.first + k, batches_[b].first + k, l);
    }
}

template <class Processor>
void LanesFor<Processor>::giveImpulses(Touches& touches) const {
  forEachPoint(touches, [&](int point, int row, int lane) {
    for (int i = 0; i < 3; ++i) touches.points[point].impulse[i] = rows_[row].push.impulse[i][lane];
  });
}

template <class Processor>
void LanesFor<Processor>::takeImpulses(const Touches& touches) {
  forEachPoint(touches, [&](int point, int row, int lane) {
    for (int i = 0; i < 3; ++i) rows_[row].push.impulse[i][lane] = touches.points[point].impulse[i];
  });
}

template <class Processor>
void LanesFor<Processor>::Course::next(ContactStep<T>& step) const {
  for (int l = 0; l < kLanes; ++l) {
    const ContactStep<double> own = stepAfter(gradient[l], before[l]);
    step.share[l] = own.share, step.keep[l] = own.keep;
  }
}

template <class Processor>
void LanesFor<Processor>::sweepOn(const Range& range, Course& course, T& largest) {
  ContactStep<T> step;
  course.next(step);
  ContactSwept<T> swept;
  Processor::sweep({range, batches_.data(), rows_.data(), motions_.data(), step, swept});
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

template <class Processor>
double LanesFor<Processor>::sweep() {
  T largest{};
  for (const Range& range : layout_.ranges) sweepOn(range, course_, largest);
  return largest[0];
}

template <class Processor>
double LanesFor<Processor>::relax(int sweeps, double enough, double reduction, std::vector<ContactSet>& unsettled) {
  double worst = 0;
  for (const Range& range : layout_.ranges) {
    Course course;
    T limit, first{}, change{};
    lanes::fill(limit, enough);
    const auto settled = [&](int lane) { return change[lane] < limit[lane]; };
    const auto allSettled = [&] {
      for (int l = 0; l < kLanes; ++l)
        if (!settled(l)) return false;
      return true;
    };
    for (int i = 0; i < sweeps; ++i) {
      sweepOn(range, course, change);
      if (i == 0) first = change;
      if (allSettled()) break;
      if (i == 0) limit = lanes::larger(limit, reduction * change);
    }
    for (int l = 0; l < kLanes; ++l) worst = std::max(worst, change[l]);
    for (int l = 0; l < range.sets; ++l) {
      if (settled(l)) continue;
      unsettled.push_back(range.set[l]);
      unsettled.back().stir = first[l];
    }
  }
  return worst;
}

}  // namespace

std::unique_ptr<ContactLanes> ContactLanes::make() {
  const int bits = lanes::registerBits();
  if (bits >= 512) return std::make_unique<LanesFor<Widest>>();
  if (bits >= 256) return std::make_unique<LanesFor<Wide>>();
  return std::make_unique<LanesFor<Narrow>>();
}

}  // namespace calm
