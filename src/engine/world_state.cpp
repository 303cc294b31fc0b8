// SPDX-License-Identifier: GPL-3.0-or-later
// What of each thing in a world changes while it runs.
#include "engine/state.h"
#include "engine/world.h"

namespace calm {

void Winding::visitState(StateArchive& state) {
  state(before, now);
}

void AxisDef::visitState(StateArchive& state) {
  state(low, high, stopStiffness, stopDamping, restitution, speed, cap, acceleration, friction, stiffness, damping,
        target, springCap, frequency, dampingRatio);
}

void JointReading::visitState(StateArchive& state) {
  state(force, torque, forceNow, torqueNow, forceSize, torqueSize, separation, separationPeak, misalignment,
        misalignmentPeak, position, rate, effort, work, activity, parted, partedAt);
}

void JointState::visitState(StateArchive& state) {
  state(def.axes, def.armed, reading, windings, window, open, fade);
}

void Body::visitState(StateArchive& state) {
  state(role, inverseMass, jointed, asleep, collides, restTime, restPose.position, restPose.rotation, position,
        orientation, axes, velocity, spin, kickedSpin, momentum, momentumSpin, force, torque, linearResponse, response,
        stiffness, stiffened, untouchedAxis, assembly, velocityBefore, spinBefore, spanBefore);
}

void ManifoldPoint::visitState(StateArchive& state) {
  state(position, gap, id);
}

void ContactImpulse::visitState(StateArchive& state) {
  state(id, onA, force);
}

void ContactPair::visitState(StateArchive& state) {
  state(bodyA, bodyB, shapeA, shapeB, triangle, friction, restitution, fromTheStart, interlaced, manifold.normal,
        manifold.points, manifold.normalOn, manifold.twistShare, manifold.together, last, kept, roll, rubbing, apartFor,
        frameImpulse, frameMoment);
}

void Collider::visitState(StateArchive& state) {
  state(way, seen.position, seen.rotation);
}

void ContactPair::Kept::visitState(StateArchive& state) {
  state(known, place, normal, turn, reach, slide, extent, points);
}

void ContactPair::Roll::visitState(StateArchive& state) {
  state(place, rate, before, at, points);
}

void ContactPair::Rubbing::visitState(StateArchive& state) {
  state(slip, at, known);
}

void ContactPair::Kept::Point::visitState(StateArchive& state) {
  state(onA, onB, id);
}

// Topology and sizes follow from the joints.
void Assembly::visitState(StateArchive& state) {
  state(curvatureStep_, rows_, fresh_, compliance_, gamma_, mobility_, target_, impulse_, delta_, curvature_, force_,
        offset_, state_, sign_, rateBefore_, rateEarlier_, rateNow_, rateAtRest_, closingSpan_, work_, lookAhead_,
        fallback_, budget_, surplus_, liveliest_, creeps_, revised_);
  for (Axis& a : axis_) state(a.def, a.winding);
}

void World::visitState(StateArchive& state) {
  state(frames_, fresh_, jointsChanged_, settings_.substeps, settings_.gravity, easyFrames_, wanted_, bodies_, joints_,
        colliders_);
  // A motion belongs to the definition of a body and is not touched.
  std::vector<PairTable::Key> keys;
  for (std::size_t i = 0; i < pairs_.size(); ++i)
    keys.push_back({pairs_[i].shapeA, pairs_[i].shapeB, pairs_[i].triangle});
  state(keys);
  if (state.loading()) {
    pairs_.clear();
    pairs_.keepOnly(keys, [](const PairTable::Key&) { return ContactPair(); });
    if (!jointsChanged_) buildAssemblies();
  }
  for (std::size_t i = 0; i < pairs_.size(); ++i) pairs_[i].visitState(state);
  if (!jointsChanged_)
    for (Assembly& a : assemblies_) a.visitState(state);
}

namespace {

// FNV-1a: tells bytes that were damaged.
std::uint64_t checksum(const std::vector<std::uint8_t>& bytes, std::size_t count) {
  std::uint64_t hash = 14695981039346656037ull;
  for (std::size_t i = 0; i < count; ++i) hash = (hash ^ bytes[i]) * 1099511628211ull;
  return hash;
}

}  // namespace

std::vector<std::uint8_t> World::saveState() const {
  StateArchive archive;
  std::uint64_t version = kStateVersion, bodies = bodies_.size(), joints = joints_.size(), shapes = shapes_.size();
  archive(version, bodies, joints, shapes);
  World copy = *this;
  copy.visitState(archive);
  std::vector<std::uint8_t> bytes = archive.take();
  const std::uint64_t sum = checksum(bytes, bytes.size());
  for (int i = 0; i < 8; ++i) bytes.push_back(static_cast<std::uint8_t>(sum >> (8 * i)));
  return bytes;
}

void World::restoreState(const std::vector<std::uint8_t>& bytes) {
  if (bytes.size() < 8) throw WorldError("the saved state ends in the middle");
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i < 8; ++i) sum |= std::uint64_t{bytes[bytes.size() - 8 + i]} << (8 * i);
  if (sum != checksum(bytes, bytes.size() - 8)) throw WorldError("the saved state is damaged");
  World next = *this;
  try {
    StateArchive archive({bytes.begin(), bytes.end() - 8});
    std::uint64_t version = 0, bodies = 0, joints = 0, shapes = 0;
    archive(version, bodies, joints, shapes);
    if (version != kStateVersion) throw std::out_of_range("the saved state is of another version");
    if (bodies != bodies_.size() || joints != joints_.size() || shapes != shapes_.size())
      throw std::out_of_range("the saved state belongs to a world of other parts or joints");
    next.visitState(archive);
    if (!archive.atEnd()) throw std::out_of_range("the saved state has more than this world");
  } catch (const std::out_of_range& e) {
    throw WorldError(e.what());
  }
  for (std::size_t s = 0; s < next.shapes_.size(); ++s)
    buildCollider(next.shapes_[s].shape, next.bodies_[next.shapes_[s].body].pose() * next.shapes_[s].pose,
                  next.colliders_[s]);
  *this = std::move(next);
}

}  // namespace calm
