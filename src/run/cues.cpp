// SPDX-License-Identifier: GPL-3.0-or-later
// What happens in a run at a time, or when something has come to be so.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "run/frame.h"

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

AxisDef between(const AxisDef& from, const AxisDef& to, double share, double at) {
  AxisDef axis = to;
  const auto mix = [share](double a, double b) {
    return std::isfinite(a) && std::isfinite(b) ? a + share * (b - a) : b;
  };
  for (double AxisDef::*value : {&AxisDef::speed, &AxisDef::cap, &AxisDef::friction, &AxisDef::stiffness,
                                 &AxisDef::damping, &AxisDef::target, &AxisDef::springCap})
    axis.*value = mix(from.*value, to.*value);
  // Stops that were not there come from where the axis is.
  axis.low = mix(std::isfinite(from.low) ? from.low : std::min(at, to.low), to.low);
  axis.high = mix(std::isfinite(from.high) ? from.high : std::max(at, to.high), to.high);
  return axis;
}

Field atShare(const Field& field, double share) {
  Field out = field;
  if (auto* wind = std::get_if<Wind>(&out.law)) wind->linear *= share, wind->quadratic *= share;
  if (auto* pull = std::get_if<Attraction>(&out.law)) pull->strength *= share;
  return out;
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
        c_.axisFrom = world_.joint(c_.joint).axes[static_cast<std::size_t>(cue.axisNumber)];
        world_.setAxis(c_.joint, cue.axisNumber, cue.axis);
        c_.axisTo = world_.joint(c_.joint).axes[static_cast<std::size_t>(cue.axisNumber)];
        c_.axisTo.frequency = 0;
        c_.workBefore = workOfAxis();
        return;
      case Act::gravity:
        c_.gravityFrom = world_.settings().gravity;
        if (cue.lasts == 0) world_.setGravity(cue.vector);
        return;
      case Act::field:
        c_.fields = {cue.field};
        c_.fieldsFrom = {world_.field(cue.field)};
        if (cue.lasts == 0) world_.setField(cue.field, atShare(c_.fieldsFrom[0], cue.share));
        return;
      case Act::gust:
        return raiseWind();
      case Act::probe:
        return bring(cue.track.front().at, Vec3::Zero());
      case Act::ball:
        return bring(cue.point, cue.vector);
      case Act::push:
      case Act::pull:
        return;
    }
  }

  // For the coming frame.
  void goOn() {
    const rig::Cue& cue = c_.cue;
    const double since = world_.time() - c_.begunAt, frame = world_.settings().frame;
    const double share = cue.lasts > 0 ? std::min(1.0, (since + frame) / cue.lasts) : 1;
    switch (cue.act) {
      case Act::push: {
        // Of the last frame maybe a part only.
        const double rest = endOf(c_) - world_.time(), part = rest > frame - kSame ? 1 : rest / frame;
        return pushAt(world_.state(c_.body).pose.apply(cue.point), part * cue.vector);
      }
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
        if (since > cue.lasts) return;
        const double at = world_.reading(c_.joint).position[static_cast<std::size_t>(cue.axisNumber)];
        return world_.setAxis(c_.joint, cue.axisNumber, between(c_.axisFrom, c_.axisTo, share, at));
      }
      case Act::gravity:
        if (cue.lasts > 0) world_.setGravity(c_.gravityFrom + share * (cue.vector - c_.gravityFrom));
        return;
      case Act::field:
        if (cue.lasts > 0) world_.setField(cue.field, atShare(c_.fieldsFrom[0], 1 + share * (cue.share - 1)));
        return;
      default:
        return;
    }
  }

  // After the frame.
  void account() {
    const rig::Cue& cue = c_.cue;
    if (cue.act == Act::push || cue.act == Act::pull || cue.act == Act::probe) {
      const Vec3 now = world_.state(c_.body).pose.apply(cue.point);
      c_.energy += c_.force.dot(now - c_.forceAt);
    }
    if (cue.act == Act::axis) c_.energy = workOfAxis() - c_.workBefore;
    if (cue.act == Act::gust) c_.energy += (c_.powerBefore + windPower()) / 2 * world_.settings().frame;
    const double rest = endOf(c_) - world_.time(), frame = world_.settings().frame;
    const bool ends = cue.act == Act::push ? rest < kSame : rest < 0.5 * frame;
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
    if (c_.cue.act != Act::probe) return;
    world_.setCollides(c_.body, false);
    world_.setRole(c_.body, Role::fixed);
  }

  double workOfAxis() const { return world_.reading(c_.joint).work[static_cast<std::size_t>(c_.cue.axisNumber)]; }

  void pushAt(const Vec3& at, const Vec3& force) {
    c_.force = force;
    c_.forceAt = at;
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
  for (RunningCue& c : cues)
    if (going(c)) Performance(*this, c).goOn();
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
    try {
      Performance performance(*this, c);
      performance.begin();
      performance.goOn();
    } catch (const WorldError& e) {
      throw CompileError(fmt::format("cue {} ({}) at {:.3f} s: {}", &c - cues.data() + 1, rig::word(c.cue.act),
                                     world.time(), e.what()));
    }
  }
  const Residual residual = world.step();
  if (without) sudden.back()->energy = livelyEnergy(world) - *without;
  for (RunningCue& c : cues)
    if (going(c)) Performance(*this, c).account();
  return residual;
}

}  // namespace calm::run
