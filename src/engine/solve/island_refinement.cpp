// SPDX-License-Identifier: GPL-3.0-or-later
// Frames that are too hard for their substeps: the crack of a whip, a light chain that snaps taut. They are done again
// from where they began, with more substeps, until joints and energy are met.
#include <algorithm>
#include <cmath>
#include <limits>

#include "engine/solve/island.h"

namespace calm {

namespace {

// In how many pieces each substep is taken, attempt by attempt ...
constexpr int kPieces[] = {4, 16, 64, 256};
// ... up to so many where something touches: what jams then does not get better ...
constexpr int kMostPiecesInTouch = 16;
// ... and of top-heavy islands that come further apart than this, m.
constexpr int kCalmingPieces[] = {4, 16};
constexpr double kCalm = 1e-3;
// Rows, in all pieces together, up to which that is tried, and of the island itself.
constexpr int kMostRows = 160000, kMostRowsWithAxes = 2000, kMostRowsAtOnce = 1600;

}  // namespace

// Copies, once a frame: an archive of the same would cost a fifth to a third of it.
void Island::save(const Scene& scene) {
  canReturn_ = canBeRefined(kPieces[0]);
  if (!canReturn_) return;
  topHeavy_ = isTopHeavy(scene);
  saved_.bodies.clear(), saved_.joints.clear(), saved_.contacts.clear();
  for (const BodyId id : bodies) saved_.bodies.push_back(scene.bodies[id]);
  saved_.assemblies.resize(assemblies.size());
  for (std::size_t i = 0; i < assemblies.size(); ++i) {
    assemblies[i]->remember(saved_.assemblies[i]);
    for (int n = 0; n < assemblies[i]->nodes(); ++n)
      if (assemblies[i]->watched(n)) saved_.joints.push_back(scene.joints[assemblies[i]->jointOf(n)]);
  }
  for (const ContactPair* pair : pairs)
    saved_.contacts.push_back({pair->last, pair->roll, pair->rubbing, pair->fromTheStart, pair->interlaced});
}

void Island::returnToStart(const Scene& scene) {
  for (std::size_t i = 0; i < bodies.size(); ++i) scene.bodies[bodies[i]] = saved_.bodies[i];
  auto joint = saved_.joints.begin();
  for (std::size_t i = 0; i < assemblies.size(); ++i) {
    assemblies[i]->recall(saved_.assemblies[i]);
    for (int n = 0; n < assemblies[i]->nodes(); ++n)
      if (assemblies[i]->watched(n)) scene.joints[assemblies[i]->jointOf(n)] = *joint++;
  }
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const Saved::Contact& saved = saved_.contacts[i];
    ContactPair& pair = *pairs[i];
    pair.last = saved.last, pair.roll = saved.roll, pair.rubbing = saved.rubbing;
    pair.fromTheStart = saved.fromTheStart, pair.interlaced = saved.interlaced;
    pair.frameImpulse = pair.frameMoment = Vec3::Zero();
  }
  recallWork(scene);
  openAccounts(scene);
  contacts_.takeOver(pairs);
  forgetResidual(scene);
  evaluate(scene);
}

bool Island::canBeRefined(int pieces) const {
  int rows = 0;
  for (const Assembly* assembly : assemblies) rows += assembly->rows();
  return rows > 0 && rows <= kMostRowsAtOnce && rows * pieces <= (hasAxes() ? kMostRowsWithAxes : kMostRows) &&
         !parted_;
}

// Where heavy loads hang on light links, what smaller steps follow is the links' own trembling, until it cannot be
// followed. Steps at velocity level calm it.
bool Island::isTopHeavy(const Scene& scene) const {
  constexpr double kAlike = 300;
  double lightest = std::numeric_limits<double>::infinity(), heaviest = 0;
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (b.dynamic() && b.jointed) lightest = std::min(lightest, b.mass), heaviest = std::max(heaviest, b.mass);
  }
  return heaviest > kAlike * lightest;
}

// A frame that was too hard is done again with more substeps. Where that does not help either, at velocity level.
void Island::refine(const Scene& scene, double energyBefore, Account& account) {
  // Trouble that lasts is not looked into frame by frame.
  if ((hasAxes() || moved_) && saved_.assemblies.front().fallback > 0) return;
  constexpr int kAsBefore = -1;
  int taken = 1;  // pieces, in the last attempt
  const auto again = [&](int pieces, int fallback) {
    returnToStart(scene);
    for (Assembly* assembly : assemblies)
      if (fallback != kAsBefore) assembly->setFallback(fallback);
    taken = pieces;
    takeSubsteps(scene, pieces);
    account = takeStock(scene, energyBefore, pieces);
    ++residual_.refined;
  };
  for (const int pieces : kPieces) {
    const bool helps = !topHeavy_ && !account.exact && (!touched_ || pieces <= kMostPiecesInTouch);
    if (helps && canBeRefined(pieces)) again(pieces, 0);
  }
  // What is calmed at velocity level comes less apart in smaller steps, as a rule.
  const bool calms = topHeavy_ && !hasAxes();
  const double apart = residual_.linear;
  for (const int pieces : kCalmingPieces)
    if (calms && residual_.linear > kCalm && canBeRefined(pieces)) again(pieces, pieces * kFallbackStay);
  if (calms && residual_.linear > apart && canBeRefined(1)) again(1, kAsBefore);
  // With free axes what did not become better is left as it was.
  const bool better = account.keeps ? account.good : touched_ ? account.isSound() : account.exact;
  if (hasAxes() && residual_.refined > 0 && !better && canBeRefined(1)) again(1, 0);
  if (!account.good && !hasAxes() && !touched_ && canBeRefined(1)) again(1, kFallbackStay);
  const bool stands = account.good && account.keeps && residual_.refined > 0 && !topHeavy_;
  // Where something touches only gains can be told, and easy frames gain and lose a little in turn.
  const bool gained = residual_.refined > 0 ? account.gain > 0 : !account.isSound();
  const bool gainedInTouch = touched_ && !hasAxes() && gained;
  if ((stands || gainedInTouch) && giveBack(scene, account.gain)) account = takeStock(scene, energyBefore, taken);
  for (Assembly* assembly : assemblies)
    if (!topHeavy_ && !hasAxes()) assembly->setFallback(0);
}

// What a hard frame gained or lost in spite of all goes: by a factor on how its parts move against one another, which
// breaks no joint and leaves the momenta of what hangs on nothing. Of what ran away some is left.
bool Island::giveBack(const Scene& scene, double gain) {
  if (moved_) return false;
  const auto hangs = [](const Assembly* a) { return a->isAnchored(); };
  Vec3 velocity = Vec3::Zero(), spin = Vec3::Zero(), centre = Vec3::Zero();
  if (std::none_of(assemblies.begin(), assemblies.end(), hangs)) {
    double mass = 0;
    for (const BodyId id : bodies) {
      const Body& b = scene.bodies[id];
      mass += b.mass, velocity += b.mass * b.velocity, centre += b.mass * b.position;
    }
    velocity /= mass, centre /= mass;
    Mat3 inertia = Mat3::Zero();
    Vec3 momentum = Vec3::Zero();
    for (const BodyId id : bodies) {
      const Body& b = scene.bodies[id];
      const Vec3 arm = b.position - centre;
      const Mat3 own = b.worldInertia();
      inertia += own + b.mass * (arm.squaredNorm() * Mat3::Identity() - arm * arm.transpose());
      momentum += own * b.spin + b.mass * arm.cross(b.velocity);
    }
    spin = inertia.ldlt().solve(momentum);
  }
  const auto together = [&](const Body& b) { return Vec3(velocity + spin.cross(b.position - centre)); };
  double moving = 0;
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (!b.dynamic()) continue;
    moving += b.kineticEnergyAt(b.velocity - together(b), b.spin - spin);
  }
  constexpr double kMost = 0.1, kMostInTouch = 0.99;  // of it
  const double share = std::min(gain / moving, kMostInTouch);
  if (!std::isfinite(share) || share < -kMost || (!touched_ && share > kMost)) return false;
  const double factor = std::sqrt(1 - share);
  for (const BodyId id : bodies) {
    Body& b = scene.bodies[id];
    if (!b.dynamic()) continue;
    const Vec3 common = together(b);
    b.velocity = common + factor * (b.velocity - common);
    b.spin = spin + factor * (b.spin - spin);
  }
  return true;
}

}  // namespace calm
