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
// What lost much of its energy may take so many times the pieces that its rows would let it.
constexpr int kEaseWhereWild = 8;
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
  loose_.takeOver({});
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
void Island::refine(const Scene& scene, double energyBefore, int least, Account& account) {
  // Trouble that lasts is not looked into frame by frame.
  if ((hasAxes() || moved_) && saved_.assemblies.front().fallback > 0) return;
  constexpr int kAsBefore = -1;
  int taken = least;  // pieces, in the last attempt
  const auto again = [&](int pieces, int fallback) {
    returnToStart(scene);
    for (Assembly* assembly : assemblies)
      if (fallback != kAsBefore) assembly->setFallback(fallback);
    taken = std::max(pieces, least);
    takeSubsteps(scene, taken);
    account = takeStock(scene, energyBefore, taken);
    ++residual_.refined;
  };
  int nearest = least;  // pieces, of the attempt that kept the energy best where the first lost much of it
  const bool wild = account.conserves && !account.good;
  double off = wild ? std::abs(account.gain) : 0;
  const int ease = wild ? kEaseWhereWild : 1;
  for (const int pieces : kPieces) {
    const bool helps = !topHeavy_ && !account.exact && (!touched_ || pieces <= kMostPiecesInTouch);
    if (!helps || !canBeRefined(pieces / ease)) continue;
    again(pieces, 0);
    if (std::abs(account.gain) < off) nearest = pieces, off = std::abs(account.gain);
  }
  // What is calmed at velocity level comes less apart in smaller steps, as a rule.
  const bool calms = topHeavy_ && !hasAxes();
  const double apart = residual_.linear;
  for (const int pieces : kCalmingPieces)
    if (calms && residual_.linear > kCalm && canBeRefined(pieces)) again(pieces, pieces * kFallbackStay);
  if (calms && residual_.linear > apart && canBeRefined(1)) again(1, kAsBefore);
  // With free axes what did not become good is left as it was, or as near as it came.
  const bool better = account.keeps ? account.good : touched_ ? account.isSound() : account.exact;
  if (hasAxes() && residual_.refined > 0 && !better && taken != nearest && canBeRefined(1)) again(nearest, 0);
  if (!account.good && !hasAxes() && !touched_ && canBeRefined(1)) again(1, kFallbackStay);
  const bool stands = account.good && account.keeps && residual_.refined > 0 && !topHeavy_;
  // Where something touches only gains can be told, and easy frames gain and lose a little in turn.
  const bool gained = residual_.refined > 0 ? account.gain > 0 : !account.isSound();
  const bool gainedInTouch = touched_ && !hasAxes() && gained;
  // The energy of easy frames swings, as a symplectic step's does, and those in between hold it where it happens to be:
  // they give back, too, what easy ones before them gained, or the two together would drift.
  const double most = 0.5 * account.allowed;
  const double earlier =
      stands && (account.plain || account.conserves) ? std::clamp(assemblies.front()->surplus(), -most, most) : 0;
  if ((stands || gainedInTouch) && giveBack(scene, account.gain + earlier))
    account = takeStock(scene, energyBefore, taken);
  for (Assembly* assembly : assemblies)
    if (!topHeavy_ && !hasAxes()) assembly->setFallback(0);
}

// The rigid motion that has the momenta of all.
Island::RigidMotion Island::motionOfAll(const Scene& scene) const {
  double mass = 0;
  RigidMotion mean;
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (!b.dynamic() || !b.atJoints) continue;
    mass += b.mass, mean.velocity += b.mass * b.velocity, mean.about += b.mass * b.position;
  }
  mean.velocity /= mass, mean.about /= mass;
  Mat3 inertia = Mat3::Zero();
  Vec3 momentum = Vec3::Zero();
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (!b.dynamic() || !b.atJoints) continue;
    const Vec3 arm = b.position - mean.about;
    const Mat3 own = b.worldInertia();
    inertia += own + b.mass * (arm.squaredNorm() * Mat3::Identity() - arm * arm.transpose());
    momentum += own * b.spin + b.mass * arm.cross(b.velocity);
  }
  mean.spin = inertia.ldlt().solve(momentum);
  return mean;
}

// How all moves that the joints hang on, if it does so as one; of what hangs on nothing, its own motion as a whole.
std::optional<Island::RigidMotion> Island::commonMotion(const Scene& scene) const {
  std::optional<RigidMotion> common;
  bool asOne = true;
  const auto include = [&](BodyId id) {
    constexpr double kAlike = 1e-9;  // m/s, rad/s
    const Body& b = scene.bodies[id];
    if (b.dynamic()) return;
    if (!common) common = RigidMotion{b.velocity, b.spin, b.position};
    asOne &= (b.velocity - common->at(b.position)).norm() + (b.spin - common->spin).norm() < kAlike;
  };
  for (const Assembly* assembly : assemblies)
    for (int n = 0; n < assembly->nodes(); ++n) {
      const JointDef& joint = scene.joints[assembly->jointOf(n)].def;
      include(joint.a), include(joint.b);
      for (const RoutePoint& p : joint.form.route) {
        if (p.on == RouteOn::world) include(kWorld);
        if (p.on == RouteOn::part) include(p.part);
      }
    }
  if (!asOne) return {};
  return common ? common : motionOfAll(scene);
}

// What a hard frame gained or lost in spite of all goes: by a factor on how its parts move against what they hang on,
// which breaks no joint, or against one another, which leaves the momenta of what hangs on nothing. Of what ran away
// some is left.
bool Island::giveBack(const Scene& scene, double gain) {
  if (moved_ && (touched_ || hasAxes())) return false;
  const std::optional<RigidMotion> common = commonMotion(scene);
  if (!common) return false;
  // With f times the motion u against the common one, c, the energy is that of c + f (c, u) + f^2 (u, u) / 2.
  double moving = 0, across = 0;
  for (const BodyId id : bodies) {
    const Body& b = scene.bodies[id];
    if (!b.dynamic() || !b.atJoints) continue;
    const Vec3 velocity = common->at(b.position), u = b.velocity - velocity, w = b.spin - common->spin;
    const double own = b.kineticEnergyAt(u, w);
    moving += own;
    across += b.kineticEnergy() - b.kineticEnergyAt(velocity, common->spin) - own;
  }
  constexpr double kMost = 0.1, kMostInTouch = 0.99;  // of it
  const double rise = 1 + 0.5 * across / moving, share = std::min(gain / moving, kMostInTouch);
  const double factor = 1 - rise + std::sqrt(rise * rise - share);
  const double less = 1 - factor * factor;
  if (!(rise > 0) || !std::isfinite(less) || less < -kMost || (!touched_ && less > kMost)) return false;
  for (const BodyId id : bodies) {
    Body& b = scene.bodies[id];
    if (!b.dynamic() || !b.atJoints) continue;
    const Vec3 velocity = common->at(b.position);
    b.velocity = velocity + factor * (b.velocity - velocity);
    b.spin = common->spin + factor * (b.spin - common->spin);
  }
  return true;
}

}  // namespace calm
