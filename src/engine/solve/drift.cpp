// SPDX-License-Identifier: GPL-3.0-or-later
#include "engine/solve/drift.h"

#include "engine/math/free_rotation.h"

namespace calm {

namespace {

constexpr int kLanes = Oct::kLanes;

// Eight bodies: what turning them reads, and what it writes.
struct Turning {
  Oct orientation[4], axes[3][3];  // columns; those of the mark at first
  Oct spin[3], momentum[3], inBody[3];
  Oct kept;  // 1 where the momentum is taken over from the last drift
  Oct moments[3], inverse[3], spherical;
  Oct full[3]{}, half[3]{};  // what the axial parts' inverse moments are beyond the spherical one, by axes; else 0
  bool turnsFull[3]{}, turnsHalf[3]{};  // whether any is not
  Oct held;                             // see carryAxis()
  int fullAxis[kLanes];
  bool holds = false;  // whether any is held

  void take(const Body& b, int lane);
  void give(Body& b, int lane) const;
  void forgetAxes();
};

void Turning::take(const Body& b, int lane) {
  const PrincipalInertia& inertia = b.inertia;
  const bool keeps = b.spin == b.momentumSpin;
  kept[lane] = keeps ? 1 : 0;
  spherical[lane] = inertia.spherical();
  held[lane] = b.held, fullAxis[lane] = inertia.fullAxis(), holds |= b.held > 0;
  for (int i = 0; i < 3; ++i) {
    if (keeps)
      momentum[i][lane] = b.momentum[i];
    else
      spin[i][lane] = b.spin[i];
    for (int k = 0; k < 3; ++k) axes[i][k][lane] = b.mark.axes(k, i);
    moments[i][lane] = inertia.moments()[i];
    inverse[i][lane] = inertia.inverse()[i];
  }
  for (int i = 0; i < 4; ++i) orientation[i][lane] = b.mark.orientation.coeffs()[i];
  const auto note = [&](int axis, Oct* excess, bool* turns) {
    excess[axis][lane] = inertia.inverse()[axis] - inertia.spherical();
    turns[axis] = true;
  };
  if (inertia.kind() != InertiaKind::spherical) note(inertia.fullAxis(), full, turnsFull);
  if (inertia.kind() == InertiaKind::general) note(inertia.halfAxis(), half, turnsHalf);
}

void Turning::give(Body& b, int lane) const {
  for (int i = 0; i < 3; ++i) {
    b.spin[i] = spin[i][lane];
    b.momentum[i] = momentum[i][lane];
    for (int k = 0; k < 3; ++k) b.axes(k, i) = axes[i][k][lane];
  }
  for (int i = 0; i < 4; ++i) b.orientation.coeffs()[i] = orientation[i][lane];
}

void Turning::forgetAxes() {
  holds = false;
  for (int i = 0; i < 3; ++i) {
    if (turnsFull[i]) full[i] = Oct{}, turnsFull[i] = false;
    if (turnsHalf[i]) half[i] = Oct{}, turnsHalf[i] = false;
  }
}

// Of those that are held: what they add to the turn about their own axis, and the factor on that about the momentum.
void carryAxes(const Turning& d, double h, Oct& share, Oct (&own)[3]) {
  for (int l = 0; l < kLanes; ++l) {
    if (!(d.held[l] > 0)) continue;
    const Vec3 momentum(d.momentum[0][l], d.momentum[1][l], d.momentum[2][l]);
    const double whole = h * d.spherical[l];
    const int axis = d.fullAxis[l];
    double factor, turn = own[axis][l];
    carryAxis(d.held[l], whole * d.inBody[axis][l], whole * momentum.norm(), factor, turn);
    share[l] = factor, own[axis][l] = turn;
  }
}

// The turning of Body::drift.
CALM_INLINE void turnEight(Turning& d, double h) {
  const auto keeps = Oct{} < d.kept;
  Oct turning[3];
  for (int i = 0; i < 3; ++i) turning[i] = lanes::pick(keeps, d.momentum[i], d.spin[i]);
  for (int i = 0; i < 3; ++i) {
    const Oct seen = d.axes[i][0] * turning[0] + d.axes[i][1] * turning[1] + d.axes[i][2] * turning[2];
    d.inBody[i] = lanes::pick(keeps, seen, d.moments[i] * seen);
  }
  for (int k = 0; k < 3; ++k) {
    const Oct taken = d.axes[0][k] * d.inBody[0] + d.axes[1][k] * d.inBody[1] + d.axes[2][k] * d.inBody[2];
    d.momentum[k] = lanes::pick(keeps, d.momentum[k], taken);
  }
  const auto turnHalf = [&]() __attribute__((always_inline)) {
    for (int i = 0; i < 3; ++i)
      if (d.turnsHalf[i]) turnAboutOwnAxis(i, h / 2 * d.half[i] * d.inBody[i], d.orientation, d.inBody);
  };
  turnHalf();
  Oct share, own[3];
  lanes::fill(share, 1);
  for (int i = 0; i < 3; ++i) own[i] = h * d.full[i] * d.inBody[i];
  if (d.holds) carryAxes(d, h, share, own);
  for (int i = 0; i < 3; ++i)
    if (d.turnsFull[i]) turnAboutOwnAxis(i, own[i], d.orientation, d.inBody);
  turnHalf();
  Oct by[3];
  for (int i = 0; i < 3; ++i) by[i] = d.momentum[i] * (h * d.spherical * share);
  turnInWorld(by, d.orientation);
  axesOf(d.orientation, d.axes);
  Oct rate[3];
  for (int i = 0; i < 3; ++i) rate[i] = d.inverse[i] * d.inBody[i];
  for (int k = 0; k < 3; ++k) d.spin[k] = d.axes[0][k] * rate[0] + d.axes[1][k] * rate[1] + d.axes[2][k] * rate[2];
}
void turnNarrow(Turning& d, double h) {
  turnEight(d, h);
}
CALM_WIDE void turnWide(Turning& d, double h) {
  turnEight(d, h);
}

}  // namespace

void moveBy(Body& body, const Vec3& way, const Vec3& turn) {
  body.position += way;
  body.orientation = (rotationFromVector(turn) * body.orientation).normalized();
  body.axes = body.orientation.toRotationMatrix();
}

void driftAll(std::vector<Body>& bodies, const std::vector<int>& ids, double h) {
  const auto turn = lanes::areWide() ? turnWide : turnNarrow;
  Turning eight{};
  Body* waiting[kLanes];
  int count = 0;
  for (const int id : ids) {
    Body& body = bodies[id];
    if (!body.dynamic()) {
      body.drift(h);
      continue;
    }
    eight.take(body, count);
    waiting[count++] = &body;
    if (count < kLanes) continue;
    count = 0;
    turn(eight, h);
    for (int l = 0; l < kLanes; ++l) {
      Body& b = *waiting[l];
      b.kickedSpin = b.spin;
      b.position = b.mark.position + b.velocity * h;
      eight.give(b, l);
      b.momentumSpin = b.spin;
    }
    eight.forgetAxes();
  }
  for (int l = 0; l < count; ++l) waiting[l]->drift(h);
}

}  // namespace calm
