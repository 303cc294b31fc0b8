// SPDX-License-Identifier: GPL-3.0-or-later
// What happens in a run at a time, or when something has come to be so.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "run/frame.h"
#include "run/transition.h"

namespace calm::run {

namespace {

using Act = rig::Cue::Act;
using State = RunningCue::State;

constexpr double kSame = 1e-7;       // s; instants so near each other are one
constexpr double kAirDensity = 1.2;  // kg/m^3
constexpr double kAreaSteps = 30;    // in a factor of e
// A hand is at most so stiff and so strongly damped, against what it holds, that a force that stays for a frame cannot
// set it swinging: with the mass m at the point, stiffness below 900/s^2 m, and critical damping.
constexpr double kStiffest = 30;       // rad/s
constexpr double kFullStretch = 0.5;   // m, at which a hand that is stiff enough pulls with all its strength
constexpr double kProbeHeight = 1.75;  // m

bool goesOnFor(const RunningCue& c) {
  return c.cue.lasts > 0 && (c.cue.act == Act::axis || c.cue.act == Act::gravity || c.cue.act == Act::field);
}

double endOf(const RunningCue& c) {
  const bool hand = c.cue.act == Act::pull || c.cue.act == Act::probe;
  if (c.live) return HUGE_VAL;
  return c.begunAt + (hand ? c.cue.track.back().time : c.cue.lasts);
}

bool isMet(const rig::Trigger& t, const CompiledRig& run) {
  using Kind = rig::Trigger::Kind;
  switch (t.kind) {
    case Kind::time:
      return true;
    case Kind::parted:
      return run.world.reading(run.jointOf.at(t.of)).parted;
    case Kind::above:
      return valueNow(run, t.reading) > t.value;
    case Kind::below:
      return valueNow(run, t.reading) < t.value;
    case Kind::touch:
      break;
  }
  const BodyId body = run.bodyOf.at(t.of), other = run.bodyOf.at(t.other);
  const auto touches = run.world.touches();
  return std::any_of(touches.begin(), touches.end(), [&](const TouchReading& touch) {
    if (touch.force.isZero(0) || (touch.a != body && touch.b != body)) return false;
    return t.other == rig::kNone || touch.a == other || touch.b == other;
  });
}

// At the start of the frame that is nearest to its time.
bool isDue(RunningCue& c, const CompiledRig& run) {
  const double now = run.world.time(), soon = now + 0.5 * run.world.settings().frame;
  const rig::Trigger& when = c.cue.when;
  if (c.state == State::waiting && isMet(when, run)) {
    c.state = State::met;
    c.metAt = when.kind == rig::Trigger::Kind::time ? when.at : now;
  }
  return c.state == State::met && c.metAt + when.delay <= soon;
}

// Where the hand is at this time since the start of the cue: on straight lines between the points of its track, and
// exactly on one of them at its time.
Vec3 handAt(const std::vector<rig::Cue::Hand>& track, double time) {
  const auto next = std::find_if(track.begin(), track.end(), [&](const auto& h) { return h.time > time - kSame; });
  if (next == track.end()) return track.back().at;
  if (next == track.begin() || next->time < time + kSame) return next->at;
  const auto before = next - 1;
  return before->at + (time - before->time) / (next->time - before->time) * (next->at - before->at);
}

// A force that pulls a point of a body towards the hand like a damped spring, by no more than the hand can.
Vec3 pullOf(const RunningCue& c, const Vec3& hand, const Vec3& at, const Vec3& velocity, double mass) {
  const double stiffness = std::min(c.cue.cap / kFullStretch, mass * kStiffest * kStiffest);
  const double damping = 2 * std::sqrt(stiffness * mass);
  const Vec3 pull = stiffness * (hand - at) - damping * velocity;
  return pull.norm() > c.cue.cap ? Vec3(pull.normalized() * c.cue.cap) : pull;
}

// A body that a cue brings along.
BodyDef bodyFor(const rig::Cue& cue) {
  BodyDef def;
  const Shape ball = Sphere{cue.radius};
  const Shape shape = cue.act == Act::ball ? ball : probeShape(cue.radius);
  def.shapes = {{shape, {}}};
  def.mass = massPropertiesOf(shape, cue.mass);
  return def;
}

class Performance {
 public:
  Performance(CompiledRig& run, RunningCue& cue) : world_(run.world), run_(run), c_(cue) {}

  void begin() {
    c_.state = State::going;
    c_.begunAt = world_.time();
    const rig::Cue& cue = c_.cue;
    switch (cue.act) {
      case Act::impulse:
        return world_.applyImpulse(c_.body, cue.vector, world_.state(c_.body).pose.apply(cue.point));
      case Act::arm:
      case Act::disarm:
        return world_.setArmed(c_.joint, cue.act == Act::arm);
      case Act::cut:
        return world_.cut(c_.joint);
      case Act::make:
        return world_.make(c_.joint, cue.lasts > 0 ? cue.lasts / 3 : kOffsetFade);
      case Act::role:
        return changeRole();
      case Act::axis:
        c_.axisFrom = axisNow();
        world_.setAxis(c_.joint, cue.axisNumber, cue.axis.over(c_.axisFrom));
        c_.axisTo = axisNow();
        c_.workBefore = workOfAxis();
        return;
      case Act::gravity:
        c_.gravityFrom = world_.settings().gravity;
        if (cue.lasts == 0) setGravityAt(1);
        return;
      case Act::field:
        c_.fields = {cue.field};
        c_.fieldsFrom = {world_.field(cue.field)};
        if (cue.lasts == 0) setFieldAt(1);
        return;
      case Act::gust:
        return raiseWind();
      case Act::probe:
        return bring(cue.track.front().at, Vec3::Zero());
      case Act::ball:
        return bring(cue.point, cue.vector);
      case Act::push:
        return world_.addPush({.body = c_.body,
                               .at = cue.point,
                               .force = cue.vector,
                               .from = c_.begunAt,
                               .until = c_.begunAt + cue.lasts});
      case Act::pull:
        return;
    }
  }

  // For the coming frame.
  void goOn() {
    const rig::Cue& cue = c_.cue;
    const double since = world_.time() - c_.begunAt, frame = world_.settings().frame;
    const Progress progress = progressOf(since, frame, cue.lasts);
    switch (cue.act) {
      case Act::push:
        return noteForce(world_.state(c_.body).pose.apply(cue.point), cue.vector);
      case Act::pull:
      case Act::probe: {
        const Vec3 at = world_.state(c_.body).pose.apply(cue.point);
        if (!world_.isDynamic(c_.body)) return pushAt(at, Vec3::Zero());  // it is held by something stronger
        const Vec3 hand = handAt(cue.track, since);
        return pushAt(at, pullOf(c_, hand, at, world_.velocityAt(c_.body, at), world_.massAt(c_.body, at)));
      }
      case Act::gust:
        // A discrete gust, 1 - cos, as certification rules for aircraft have it (CS-25.341).
        setWind(0.5 * (1 - std::cos(2 * std::numbers::pi * (since + frame / 2) / cue.lasts)) * cue.vector);
        c_.powerBefore = windPower();
        return;
      case Act::axis: {
        if (since > cue.lasts + frame - kSame) return;
        const double at = world_.reading(c_.joint).position[static_cast<std::size_t>(cue.axisNumber)];
        return world_.setAxis(c_.joint, cue.axisNumber, onItsWay(axisNow(), c_.axisFrom, c_.axisTo, progress, at));
      }
      case Act::gravity:
        if (cue.lasts > 0) setGravityAt(progress.mean);
        return;
      case Act::field:
        if (cue.lasts > 0) setFieldAt(progress.mean);
        return;
      default:
        return;
    }
  }

  // After the frame.
  void account() {
    const rig::Cue& cue = c_.cue;
    const double rest = endOf(c_) - world_.time(), frame = world_.settings().frame;
    if (cue.act == Act::push || cue.act == Act::pull || cue.act == Act::probe) {
      const Vec3 now = world_.state(c_.body).pose.apply(cue.point);
      // Of its last frame a push may act for a part only, in which its point went with the mean of its speeds.
      const double part = cue.act == Act::push ? std::min(1.0, 1 + rest / frame) : 1;
      const Vec3 mean = (c_.forceVelocity + world_.velocityAt(c_.body, now)) / 2;
      c_.energy += c_.force.dot(part < 1 - kSame ? Vec3(part * frame * mean) : Vec3(now - c_.forceAt));
    }
    if (cue.act == Act::axis) c_.energy = workOfAxis() - c_.workBefore;
    if (cue.act == Act::gust) c_.energy += (c_.powerBefore + windPower()) / 2 * world_.settings().frame;
    const bool inPart = cue.act == Act::push || goesOnFor(c_);  // its last frame counts in part
    const bool ends = rest < (inPart ? kSame : 0.5 * frame);
    if (ends && cue.act != Act::axis) end();
  }

  // What comes about at once, so that its energy is the difference that it makes to the frame.
  static bool isSudden(const RunningCue& c) {
    const bool acts = c.cue.act == Act::impulse || c.cue.act == Act::cut || c.cue.act == Act::make ||
                      c.cue.act == Act::role || c.cue.act == Act::ball || c.cue.act == Act::gravity ||
                      c.cue.act == Act::field;
    return acts && !goesOnFor(c);
  }

 private:
  void end() {
    c_.state = State::done;
    if (c_.cue.act == Act::gust) setWind(Vec3::Zero());
    if (c_.cue.act == Act::gravity && goesOnFor(c_)) setGravityAt(1);
    if (c_.cue.act == Act::field && goesOnFor(c_)) setFieldAt(1);
    if (c_.cue.act != Act::probe) return;
    world_.setCollides(c_.body, false);
    world_.setRole(c_.body, Role::fixed);
  }

  // Its stiffness and damping say all that a frequency came to.
  AxisDef axisNow() const {
    AxisDef axis = world_.joint(c_.joint).axes[static_cast<std::size_t>(c_.cue.axisNumber)];
    axis.frequency = axis.dampingRatio = 0;
    return axis;
  }

  void setGravityAt(double share) { world_.setGravity((1 - share) * c_.gravityFrom + share * c_.cue.vector); }

  void setFieldAt(double share) {
    const Field& from = c_.fieldsFrom[0];
    world_.setField(c_.cue.field, onItsWay(from, atShare({c_.wholeField, from.bodies}, c_.cue.share), share));
  }

  double workOfAxis() const { return world_.reading(c_.joint).work[static_cast<std::size_t>(c_.cue.axisNumber)]; }

  void noteForce(const Vec3& at, const Vec3& force) {
    c_.force = force;
    c_.forceAt = at;
    c_.forceVelocity = world_.velocityAt(c_.body, at);
  }

  void pushAt(const Vec3& at, const Vec3& force) {
    noteForce(at, force);
    world_.addForce(c_.body, force, at);
  }

  void changeRole() {
    if (c_.cue.role == Role::kinematic && c_.motion && c_.cue.lasts > 0) {
      const BodyState now = world_.state(c_.body);
      Motion motion = *c_.motion;
      const Vec3 arm = now.pose.position - now.pose.apply(c_.center);
      motion.approach = {world_.time(), c_.cue.lasts, now.pose, now.velocity + now.angularVelocity.cross(arm),
                         now.angularVelocity};
      world_.setMotion(c_.body, motion);
    }
    world_.setRole(c_.body, c_.cue.role);
  }

  void bring(const Vec3& at, const Vec3& velocity) {
    BodyDef def = bodyFor(c_.cue);
    def.pose.position = at;
    if (c_.cue.act == Act::probe) def.gravityScale = 0;
    def.velocity = velocity;
    c_.body = world_.addBody(def);
    if (c_.cue.act == Act::probe) world_.lockAxes(c_.body, {}, {true, true, true});
  }

  void raiseWind() {
    std::vector<BodyId> on = c_.bodies;
    if (on.empty()) on = run_.bodies;
    const std::vector<Aabb> boxes = world_.bounds();
    const Vec3 way = c_.cue.vector.stableNormalized().cwiseAbs();
    // Those of nearly the same area share a field, so that a long chain costs no more than one link.
    struct Alike {
      double area = 0;
      std::vector<BodyId> bodies;
    };
    std::map<long, Alike> kinds;
    for (const BodyId body : on) {
      const Aabb& box = boxes[static_cast<std::size_t>(body)];
      const Vec3 size = (box.high - box.low).cwiseMax(0);
      // Of its bounding box, seen along the wind.
      const double area = way.x() * size.y() * size.z() + way.y() * size.x() * size.z() + way.z() * size.x() * size.y();
      if (!std::isfinite(area) || (area <= 0 && c_.cue.drag == 0)) continue;
      Alike& alike = kinds[c_.cue.drag > 0 ? 0 : std::lround(kAreaSteps * std::log(area))];
      alike.area += area;
      alike.bodies.push_back(body);
    }
    for (const auto& [step, alike] : kinds) {
      const double mean = alike.area / static_cast<double>(alike.bodies.size());
      const double drag = c_.cue.drag > 0 ? c_.cue.drag : 0.5 * kAirDensity * mean;
      c_.fieldsFrom.push_back({Wind{Vec3::Zero(), 0, drag}, alike.bodies});
      c_.fields.push_back(world_.addField(c_.fieldsFrom.back()));
    }
  }

  void setWind(const Vec3& velocity) {
    for (std::size_t i = 0; i < c_.fields.size(); ++i) {
      std::get<Wind>(c_.fieldsFrom[i].law).velocity = velocity;
      Field now = c_.fieldsFrom[i];
      if (c_.state == State::done) std::get<Wind>(now.law).quadratic = 0;
      world_.setField(c_.fields[i], now);
    }
  }

  // W, of its present force on what moves.
  double windPower() const {
    double power = 0;
    for (const Field& field : c_.fieldsFrom) {
      const Wind& wind = std::get<Wind>(field.law);
      for (const BodyId body : field.bodies) {
        if (!world_.isDynamic(body)) continue;
        const Vec3 velocity = world_.state(body).velocity, past = wind.velocity - velocity;
        power += wind.quadratic * past.norm() * past.dot(velocity);
      }
    }
    return power;
  }

  World& world_;
  CompiledRig& run_;
  RunningCue& c_;
};

// Of motion and springs: what is told of a sudden cue.
double livelyEnergy(const World& world) {
  const Energy energy = world.energy();
  return energy.kinetic + energy.springs;
}

}  // namespace

Shape probeShape(double radius) {
  return Capsule{radius, std::max(2 * radius, kProbeHeight)};
}

Residual CompiledRig::step() {
  if (cues.empty()) return world.step();
  world.clearForces();
  const auto going = [](const RunningCue& c) { return c.state == State::going; };
  const auto perform = [&](RunningCue& c, auto what) {
    try {
      what(Performance(*this, c));
    } catch (const WorldError& e) {
      throw CompileError(fmt::format("cue {} ({}) at {:.3f} s: {}", &c - cues.data() + 1, rig::word(c.cue.act),
                                     world.time(), e.what()));
    }
  };
  for (RunningCue& c : cues)
    if (going(c)) perform(c, [](Performance&& p) { p.goOn(); });
  std::optional<double> without;
  std::vector<RunningCue*> sudden;
  for (RunningCue& c : cues) {
    if (!isDue(c, *this)) continue;
    // The frame as it would be without this cue, and with those before it.
    if (Performance::isSudden(c)) {
      World tried = world;
      tried.step();
      const double energy = livelyEnergy(tried);
      if (without) sudden.back()->energy = energy - *without;
      without = energy;
      sudden.push_back(&c);
    }
    perform(c, [](Performance&& p) { p.begin(), p.goOn(); });
  }
  const Residual residual = world.step();
  if (without) sudden.back()->energy = livelyEnergy(world) - *without;
  for (RunningCue& c : cues)
    if (going(c)) Performance(*this, c).account();
  return residual;
}

}  // namespace calm::run
