// SPDX-License-Identifier: GPL-3.0-or-later
// Adding to a world: every value is checked before anything changes.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "engine/world.h"

namespace calm {

namespace {

bool isPose(const Pose& pose) {
  return pose.position.allFinite() && pose.rotation.coeffs().allFinite() && std::abs(pose.rotation.norm() - 1) < 1e-6;
}

// No length is below zero: a stop there would only stop what goes through the pivot.
void dropIdleStop(JointType type, AxisDef& axis) {
  const bool length =
      type == JointType::distance || type == JointType::spring || type == JointType::pulley || type == JointType::winch;
  if (length && axis.low <= 0 && axis.high > 0) axis.low = -kNoLimit;
}

}  // namespace

World::World(const StepSettings& settings) : settings_(settings) {
  require(settings.gravity.allFinite(), "gravity must be finite");
  require(std::isfinite(settings.frame) && settings.frame > 0, "the frame time must be above 0 s");
  require(settings.substeps >= 1 && settings.substeps <= 10000, "the number of substeps must lie in 1 to 10000");
  require(settings.sleepAfter >= 0 && settings.separationBudget >= 0, "sleep and budget must be 0 or more");
  wanted_ = settings.substeps;
  bodies_.emplace_back();  // kWorld
}

BodyId World::addBody(const BodyDef& def) {
  require(isPose(def.pose), "position and orientation must be finite, the orientation of unit length");
  require(def.velocity.allFinite() && def.angularVelocity.allFinite(), "velocities must be finite");
  require(def.friction >= 0 && std::isfinite(def.friction), "friction must be 0 or more");
  require(def.restitution >= 0 && def.restitution <= 1, "restitution must lie in 0 to 1");
  require(def.linearDamping >= 0 && def.angularDamping >= 0 && std::isfinite(def.linearDamping + def.angularDamping),
          "damping must be 0 or more");
  require(std::isfinite(def.gravityScale), "the gravity scale must be finite");
  require(def.layer >= 0 && def.layer < 32, "the layer must lie in 0 to 31");
  for (const PlacedShape& s : def.shapes) {
    const std::string fault = faultOf(s.shape);
    require(fault.empty(), fault);
    require(isPose(s.pose), "a shape's position and orientation must be finite");
    forEachSimple(s.shape, s.pose, [&](const Shape& shape, const Pose&) {
      const bool solid = !std::holds_alternative<HalfSpace>(shape) && !std::holds_alternative<TriangleMesh>(shape);
      require(solid || def.role != Role::dynamic, "half spaces and meshes have no mass and cannot be dynamic");
    });
  }
  Body body;
  body.role = def.role;
  const std::string massFault = faultOf(def.mass);
  require(massFault.empty() || def.role != Role::dynamic, massFault);
  body.weighed = massFault.empty();
  if (body.weighed) {
    const PrincipalAxes principal = principalAxes(def.mass.inertia);
    body.mass = def.mass.mass;
    if (def.role == Role::dynamic) body.inverseMass = 1 / def.mass.mass;
    body.inertia = PrincipalInertia(principal.moments);
    body.inPart = {def.mass.center, principal.rotation};
    body.linearDamping = def.linearDamping;
    body.angularDamping = def.angularDamping;
    body.gravityScale = def.gravityScale;
  }
  if (def.motion) {
    const std::string fault = faultOf(*def.motion);
    require(fault.empty(), fault);
    body.motion = std::make_shared<Motion>(*def.motion);
  }
  body.placePart(body.role == Role::kinematic && body.motion ? body.motion->poseAt(time()) : def.pose);
  if (body.moves()) {
    body.velocity = def.velocity;
    body.spin = def.angularVelocity;
  }
  if (body.role == Role::kinematic) body.steerAt(time());
  const BodyId id = bodyCount();
  bodies_.push_back(body);
  for (const PlacedShape& placed : def.shapes)
    forEachSimple(placed.shape, placed.pose, [&](const Shape& shape, const Pose& pose) {
      shapes_.push_back(
          {id, shape, body.inPart.inverse() * pose, def.friction, def.restitution, def.material, def.layer});
      colliders_.emplace_back();
      buildCollider(shape, body.partPose() * pose, colliders_.back());
    });
  return id;
}

const Body& World::checked(BodyId body) const {
  require(body >= 0 && body < bodyCount(), "there is no part number " + std::to_string(body));
  return bodies_[body];
}

JointId World::addJoint(const JointDef& def) {
  const Body &a = checked(def.a), &b = checked(def.b);
  require(def.a != def.b, "a part cannot be joined to itself");
  // What follows keys now may be set free later.
  const auto mayMove = [](const Body& body) { return body.moves() && body.weighed; };
  require(mayMove(a) || mayMove(b), "at least one of the two parts must be dynamic");
  require(isPose(def.frameA) && isPose(def.frameB), "pivots and axes must be finite");
  require(def.compliance >= 0 && std::isfinite(def.compliance), "compliance must be 0 or more");
  require(def.pinRadius > 0 && std::isfinite(def.pinRadius), "the pin radius must be above 0 m");
  require(def.breakForce > 0, "the break force must be above 0 N");
  require(def.breakTorque > 0, "the break torque must be above 0 N m");
  JointState state;
  state.def = def;
  completeForm(state.def);
  const Pose frameA = a.inPart.inverse() * def.frameA, frameB = b.inPart.inverse() * def.frameB;
  state.geometry = {frameA.position, frameB.position, frameA.rotation.toRotationMatrix(),
                    frameB.rotation.toRotationMatrix(), state.def.form};
  std::vector<BodyId>& riders = state.geometry.riders;
  for (RoutePoint& p : state.geometry.form.route) {
    if (p.on == RouteOn::world) continue;
    const BodyId on = p.on == RouteOn::a ? def.a : p.on == RouteOn::b ? def.b : p.part;
    p.at = checked(on).inPart.applyInverse(p.at);
    if (p.on != RouteOn::part) continue;
    require(on != def.a && on != def.b, "a route names its joint's own sides as a and b");
    auto place = std::find(riders.begin(), riders.end(), on);
    if (place == riders.end()) place = riders.insert(riders.end(), on);
    p.part = static_cast<int>(place - riders.begin());
  }
  settleAxes(state);
  for (int k = 0; k < axesOf(def.type).all(); ++k) {
    const std::string fault = faultOf(def.type, state.def.axes[k]);
    require(fault.empty(), "axis " + std::to_string(k + 1) + ": " + fault);
  }
  joints_.push_back(state);
  readAxes(joints_.back());
  joints_.back().open = !def.made;
  if (def.neighboursCollide) meeting_.insert(std::minmax(def.a, def.b));
  if (!def.neighboursCollide && def.made) quiet_.insert(std::minmax(def.a, def.b));
  jointsChanged_ = true;
  for (const BodyId id : state.bodies()) wake(id);
  return jointCount() - 1;
}

// What a type needs that was not given, and what a cone makes of a limb's last axis.
void World::completeForm(JointDef& def) const {
  const JointForm& form = def.form;
  require(std::isfinite(form.ratio) && form.ratio != 0, "the ratio must be finite and not 0");
  require(form.radius > 0 && std::isfinite(form.radius), "the radius must be above 0 m");
  require(std::isfinite(form.lead), "the lead must be finite");
  for (const double cone : {form.coneY, form.coneZ})
    require(cone >= 0 && cone <= std::numbers::pi, "the cone's radii must lie in 0 to pi rad");
  for (const RoutePoint& p : form.route) require(p.at.allFinite(), "the points of a route must be finite");
  for (int k = 0; k < axesOf(def.type).all(); ++k)
    if (isLockedByNature(def.type, k) && !def.axes[k].isUsed()) def.axes[k].low = def.axes[k].high = 0;
  dropIdleStop(def.type, def.axes[0]);
  if (def.type == JointType::limb) {
    AxisDef& cone = def.axes[3];
    cone.low = -kNoLimit;
    cone.high = form.coneY > 0 && form.coneZ > 0 ? 0 : kNoLimit;
  }
}

// Where the axes are at rest decides on which turn they count, from where meshes count, the length of a rope whose
// length was not given, and what a frequency means in stiffness.
void World::settleAxes(JointState& j) const {
  const Body &a = bodies_[j.def.a], &b = bodies_[j.def.b];
  for (int k = 0; k < axesOf(j.def.type).all(); ++k) {
    AxisDef& axis = j.def.axes[k];
    Winding& winding = j.windings[k];
    std::array<double, RowBlock::storage(1, 1)> memory{};
    const auto coordinate = [&] {
      RowBlock rows(memory.data(), 1);
      rows.riders.bodies = &bodies_;
      evaluateCoordinate(j.def.type, k, j.geometry, a, b, winding, rows);
      winding.before = winding.now;
      return rows.error()[0];
    };
    double at = coordinate();
    const bool counts =
        j.def.type == JointType::gear || j.def.type == JointType::rack || (j.def.type == JointType::screw && k == 1);
    if (counts) {
      j.geometry.zero = at;
      at = 0;
    } else if (k >= axesOf(j.def.type).along && winding.now[0] == at) {
      // An angle: on the turn on which it lies within the stops, if there is one.
      const auto misses = [&](double x) { return std::max({axis.low - x, x - axis.high, 0.0}); };
      for (const double turn : {2 * std::numbers::pi, -2 * std::numbers::pi})
        if (misses(at + turn) < misses(at) - 1e-9) {
          winding.before[0] = at + turn;
          at = coordinate();
          break;
        }
    }
    const bool rope = j.def.type == JointType::pulley || j.def.type == JointType::winch;
    if (rope && axis.high == kNoLimit) axis.high = std::max(at, axis.low);
    stiffenByFrequency(j, k);
  }
}

void World::stiffenByFrequency(JointState& j, int k) const {
  AxisDef& axis = j.def.axes[k];
  const bool byFrequency = axis.frequency > 0, byRatio = axis.dampingRatio > 0;
  if (!(byFrequency || byRatio) || !(bodies_[j.def.a].dynamic() || bodies_[j.def.b].dynamic())) return;
  const double mass = massSeenBy(j, k);
  const double omega = byFrequency ? 2 * std::numbers::pi * axis.frequency : std::sqrt(axis.stiffness / mass);
  if (byFrequency) axis.stiffness = mass * omega * omega;
  axis.damping = 2 * axis.dampingRatio * mass * omega;
}

World::FreeAxis World::freeAxis(const JointState& j, int axis) const {
  const Body &a = bodies_[j.def.a], &b = bodies_[j.def.b];
  FreeAxis free;
  free.inverse.setZero();
  int at = 0;
  for (const Body* body : {&a, &b}) {
    if (body->dynamic()) {
      free.inverse.block<3, 3>(at, at) = body->inverseMass * Mat3::Identity();
      free.inverse.block<3, 3>(at + 3, at + 3) =
          body->axes * body->inertia.inverse().asDiagonal() * body->axes.transpose();
    }
    at += 6;
  }
  Winding winding = j.windings[axis];
  std::array<double, RowBlock::storage(1, 1)> memory{};
  RowBlock own(memory.data(), 1);
  std::vector<double> onRiders(6 * j.geometry.riders.size());
  own.riders = {&bodies_, onRiders.data()};
  evaluateCoordinate(j.def.type, axis, j.geometry, a, b, winding, own);
  free.row = own.fullRow(0);
  free.mobility = free.row.dot(free.inverse * free.row);
  for (std::size_t r = 0; r < j.geometry.riders.size(); ++r) {
    const Body& rider = bodies_[j.geometry.riders[r]];
    const Eigen::Map<const Vec3> along(&onRiders[6 * r]), about(&onRiders[6 * r + 3]);
    if (!rider.dynamic()) continue;
    free.mobility += rider.inverseMass * along.squaredNorm() +
                     (rider.axes.transpose() * about).cwiseAbs2().dot(rider.inertia.inverse());
  }
  return free;
}

// The inertia along or about an axis of the two parts held together by this joint's locks alone (kg or kg m^2).
double World::massSeenBy(const JointState& j, int axis) const {
  const Body &a = bodies_[j.def.a], &b = bodies_[j.def.b];
  auto [row, inverse, mobility] = freeAxis(j, axis);
  if (const RowCount count = rowCount(j.def.type); count.rows > 0) {
    std::vector<double> locks(RowBlock::storage(count.rows, count.angular, {count.pivot}));
    RowBlock block(locks.data(), count.rows, {count.pivot});
    evaluateRows(j.def.type, j.geometry, a, b, block);
    Eigen::MatrixXd held(count.rows, kRowWidth);
    for (int r = 0; r < count.rows; ++r) held.row(r) = block.fullRow(r).transpose();
    const Eigen::VectorXd mixed = held * (inverse * row);
    const Eigen::MatrixXd system = held * inverse * held.transpose();
    mobility -= mixed.dot(system.completeOrthogonalDecomposition().solve(mixed));
  }
  require(mobility > 0, "a frequency needs something that can move along the axis");
  return 1 / mobility;
}

void World::setMaterialPair(int material, int other, double friction, double restitution) {
  require(friction >= 0 && std::isfinite(friction), "friction must be 0 or more");
  require(restitution >= 0 && restitution <= 1, "restitution must lie in 0 to 1");
  materials_[std::minmax(material, other)] = {friction, restitution};
  pairs_.clear();
}

void World::setLayersTouch(int layer, int other, bool touch) {
  require(layer >= 0 && layer < 32 && other >= 0 && other < 32, "layers lie in 0 to 31");
  for (const auto& [a, b] : {std::pair(layer, other), std::pair(other, layer)})
    untouched_[a] = touch ? untouched_[a] & ~(1u << b) : untouched_[a] | 1u << b;
}

void World::lockAxes(BodyId body, const std::array<bool, 3>& travel, const std::array<bool, 3>& turn) {
  const Body& b = checked(body);
  const int turns = turn[0] + turn[1] + turn[2];
  // The joint's x axis is the one about which alone the part may turn, or alone may not.
  int special = 0;
  for (int i = 0; i < 3; ++i)
    if (turns == 1 ? turn[i] : !turn[i]) special = i;
  JointDef def;
  def.type = JointType::sixAxis;
  def.b = body;
  def.neighboursCollide = true;
  Mat3 axes;
  for (int i = 0; i < 3; ++i) axes.col(i) = Vec3::Unit((special + i) % 3);
  def.frameA = {b.position, Quat(axes)};
  def.frameB = b.partPose().inverse() * def.frameA;
  for (int i = 0; i < 3; ++i)
    if (travel[(special + i) % 3]) def.axes[i].low = def.axes[i].high = 0;
  if (turns == 1 || turns == 3) def.axes[3].low = def.axes[3].high = 0;
  if (turns >= 2) def.axes[4].low = def.axes[4].high = def.axes[5].low = def.axes[5].high = 0;
  addJoint(def);
}

int World::addField(const Field& field) {
  const int number = static_cast<int>(fields_.size());
  fields_.push_back({Wind{}, {}});
  try {
    setField(number, field);
  } catch (const WorldError&) {
    fields_.pop_back();
    throw;
  }
  return number;
}

void World::setField(int number, const Field& field) {
  require(number >= 0 && number < static_cast<int>(fields_.size()), "there is no field " + std::to_string(number));
  const std::string fault = faultOf(field);
  require(fault.empty(), fault);
  for (const int body : field.bodies) checked(body);
  fields_[number] = field;
  std::sort(fields_[number].bodies.begin(), fields_[number].bodies.end());
  for (int id = 0; id < bodyCount(); ++id) wake(id);
}

void World::addPush(const PushDef& def) {
  const Body& b = checked(def.body);
  require(def.at.allFinite() && def.force.allFinite() && def.torque.allFinite(), "a push must be finite");
  require(!std::isnan(def.from) && !std::isnan(def.until), "the times of a push must be numbers");
  const Quat turn = def.follows ? b.inPart.rotation.conjugate() : Quat::Identity();
  pushes_.push_back(
      {def.body, b.inPart.applyInverse(def.at), turn * def.force, turn * def.torque, def.follows, def.from, def.until});
  wake(def.body);
}

void World::setGravity(const Vec3& gravity) {
  require(gravity.allFinite(), "gravity must be finite");
  settings_.gravity = gravity;
  for (int id = 0; id < bodyCount(); ++id) wake(id);
}

void World::setAxis(JointId joint, int axis, const AxisDef& def) {
  require(joint >= 0 && joint < jointCount(), "there is no joint number " + std::to_string(joint));
  JointState& j = joints_[joint];
  require(axis >= 0 && axis < axesOf(j.def.type).all(), "the joint has no axis " + std::to_string(axis + 1));
  const std::string fault = faultOf(j.def.type, def);
  require(fault.empty(), fault);
  // A rope stays as long as it is unless a length is given.
  const double length = j.def.axes[axis].high;
  const bool rope = j.def.type == JointType::pulley || j.def.type == JointType::winch;
  j.def.axes[axis] = def;
  dropIdleStop(j.def.type, j.def.axes[axis]);
  if (rope && def.high == kNoLimit) j.def.axes[axis].high = length;
  stiffenByFrequency(j, axis);
  jointsChanged_ = true;
  for (const BodyId id : j.bodies()) wake(id);
}

void World::setArmed(JointId joint, bool armed) {
  require(joint >= 0 && joint < jointCount(), "there is no joint number " + std::to_string(joint));
  joints_[joint].def.armed = armed;
}

void World::cut(JointId joint) {
  require(joint >= 0 && joint < jointCount(), "there is no joint number " + std::to_string(joint));
  JointState& j = joints_[joint];
  if (j.reading.parted) return;
  j.reading.parted = true;
  j.reading.partedAt = time();
  jointsChanged_ = true;
  for (const BodyId id : j.bodies()) wake(id);
}

void World::make(JointId joint, double fade) {
  require(joint >= 0 && joint < jointCount(), "there is no joint number " + std::to_string(joint));
  require(fade > 0 && std::isfinite(fade), "the time in which a joint closes must be above 0 s");
  JointState& j = joints_[joint];
  if (j.holds()) return;
  j.open = j.reading.parted = false;
  j.reading = {};
  j.window.clear();
  j.fade = fade;
  settleAxes(j);
  if (!j.def.neighboursCollide) quiet_.insert(std::minmax(j.def.a, j.def.b));
  jointsChanged_ = fresh_ = true;
  for (const BodyId id : j.bodies()) wake(id);
}

void World::setCollides(BodyId body, bool collides) {
  checked(body);
  bodies_[body].collides = collides;
  wake(body);
}

void World::setMotion(BodyId body, const Motion& motion) {
  checked(body);
  const std::string fault = faultOf(motion);
  require(fault.empty(), fault);
  bodies_[body].motion = std::make_shared<Motion>(motion);
}

void World::setRole(BodyId body, Role role) {
  Body& b = bodies_[(checked(body), body)];
  if (role == b.role) return;
  require(body != kWorld, "the world cannot move");
  require(role != Role::dynamic || b.weighed, "a part without mass properties cannot be dynamic");
  b.role = role;
  b.inverseMass = role == Role::dynamic ? 1 / b.mass : 0;
  b.linearResponse = b.inverseMass;
  b.spanBefore = 0;
  if (role != Role::dynamic) b.response.setZero(), b.stiffness.setZero();
  if (role == Role::fixed) b.velocity = b.spin = Vec3::Zero();
  for (std::size_t s = 0; s < shapes_.size(); ++s)
    if (shapes_[s].body == body) buildCollider(shapes_[s].shape, b.pose() * shapes_[s].pose, colliders_[s]);
  jointsChanged_ = fresh_ = true;
  wake(body);
  // Frequencies are those of what moves now.
  for (JointState& j : joints_)
    for (int k = 0; role == Role::dynamic && (j.def.a == body || j.def.b == body) && k < axesOf(j.def.type).all(); ++k)
      if (j.def.axes[k].frequency > 0) stiffenByFrequency(j, k);
}

}  // namespace calm
