// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/compile.h"

#include <map>

namespace calm::run {

namespace {

// Numbers for the names of layers or materials; the empty name is 0.
class Numbers {
 public:
  int of(const std::string& name) {
    if (name.empty()) return 0;
    return numbers_.try_emplace(name, static_cast<int>(numbers_.size()) + 1).first->second;
  }

 private:
  std::map<std::string, int> numbers_;
};

BodyDef bodyOf(const rig::Part& p, Numbers& layers, Numbers& materials) {
  BodyDef def;
  def.layer = layers.of(p.layer);
  def.material = materials.of(p.material);
  if (def.layer > 31) throw CompileError("part \"" + p.name + "\": more than 31 layers are in use");
  def.motion = p.motion;
  def.role = p.role;
  def.pose = p.pose;
  def.velocity = p.velocity;
  def.angularVelocity = p.angularVelocity;
  def.mass = p.massProperties();
  if (p.collides) def.shapes = {{p.shape, {}}};
  def.gravityScale = p.gravityScale;
  def.friction = p.friction;
  def.restitution = p.restitution;
  def.linearDamping = p.linearDamping;
  def.angularDamping = p.angularDamping;
  return def;
}

// Its steady forces.
void pushPart(const rig::Part& p, BodyId body, World& world) {
  if (!p.force.isZero(0) || !p.torque.isZero(0))
    world.addPush({.body = body, .at = p.massProperties().center, .force = p.force, .torque = p.torque});
  for (const rig::Push& push : p.pushes)
    world.addPush({.body = body,
                   .at = push.at,
                   .force = push.force,
                   .torque = push.torque,
                   .follows = push.follows,
                   .from = push.from,
                   .until = push.until});
}

Pose frameOf(const rig::Side& side) {
  Mat3 axes;
  axes << side.axis, side.across, side.axis.cross(side.across);
  return {side.at, Quat(axes).normalized()};
}

}  // namespace

CompiledRig compile(const rig::Rig& rig) {
  if (const std::vector<rig::Fault> faults = rig::faultsOf(rig); !faults.empty())
    throw CompileError(faults.front().text());
  const rig::Stage& stage = rig.stage;
  CompiledRig out{World({.gravity = stage.gravity,
                         .frame = 1 / stage.frameRate,
                         .substeps = stage.substeps,
                         .sleepAfter = stage.sleepAfter,
                         .separationBudget = stage.separationBudget}),
                  {},
                  {},
                  {},
                  {},
                  {}};
  Numbers layers, materials;
  if (stage.groundHeight) {
    BodyDef ground;
    ground.role = Role::fixed;
    ground.pose.position = Vec3(0, *stage.groundHeight, 0);
    ground.shapes = {{HalfSpace{}, {}}};
    ground.friction = stage.groundFriction;
    ground.restitution = stage.groundRestitution;
    ground.layer = layers.of(stage.groundLayer);
    ground.material = materials.of(stage.groundMaterial);
    out.world.addBody(ground);
  }
  std::map<rig::Id, BodyId>& bodyOfPart = out.bodyOf;
  bodyOfPart[rig::kNone] = kWorld;
  for (const rig::Part& p : rig.parts) {
    try {
      out.bodies.push_back(out.world.addBody(bodyOf(p, layers, materials)));
      bodyOfPart[p.id] = out.bodies.back();
      pushPart(p, out.bodies.back(), out.world);
    } catch (const WorldError& e) {
      throw CompileError("part \"" + p.name + "\": " + e.what());
    }
  }
  for (const auto& [a, b] : stage.layersApart) out.world.setLayersTouch(layers.of(a), layers.of(b), false);
  for (const rig::MaterialPair& m : stage.materialPairs)
    out.world.setMaterialPair(materials.of(m.a), materials.of(m.b), m.friction, m.restitution);
  for (const rig::Field& f : rig.fields) {
    Field field{f.law, {}};
    for (const rig::Id id : f.parts) field.bodies.push_back(bodyOfPart.at(id));
    out.world.addField(field);
  }
  for (const rig::Joint& j : rig.joints) {
    JointDef def;
    def.type = j.type;
    def.a = bodyOfPart.at(j.a.part);
    def.b = bodyOfPart.at(j.b.part);
    def.frameA = frameOf(j.a);
    def.frameB = frameOf(j.b);
    def.axes = j.axes;
    def.form = j.form;
    for (RoutePoint& p : def.form.route) p.part = bodyOfPart.at(p.part);
    def.armed = j.armed;
    def.pinRadius = j.pinRadius;
    def.compliance = j.compliance;
    def.breakForce = j.breakForce.value_or(kUnbreakable);
    def.breakTorque = j.breakTorque.value_or(kUnbreakable);
    def.neighboursCollide = j.neighboursCollide;
    def.made = j.made;
    try {
      out.joints.push_back(out.world.addJoint(def));
      out.jointOf[j.id] = out.joints.back();
    } catch (const WorldError& e) {
      throw CompileError("joint \"" + j.name + "\": " + e.what());
    }
  }
  // Locks come last, so that joints are numbered as in the rig.
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    const rig::Part& p = rig.parts[i];
    const auto any = [](const std::array<bool, 3>& set) { return set[0] || set[1] || set[2]; };
    if (p.role == Role::dynamic && (any(p.lockedTravel) || any(p.lockedTurn)))
      out.world.lockAxes(out.bodies[i], p.lockedTravel, p.lockedTurn);
  }
  for (const rig::Cue& c : rig.cues) out.cues.push_back(out.prepared(c, rig));
  return out;
}

RunningCue CompiledRig::prepared(const rig::Cue& cue, const rig::Rig& rig) const {
  RunningCue c;
  c.cue = cue;
  c.body = bodyOf.at(cue.part);
  if (cue.joint != rig::kNone) c.joint = jointOf.at(cue.joint);
  if (const rig::Part* part = rig.part(cue.part)) {
    c.center = part->massProperties().center;
    c.motion = part->motion;
  }
  if (cue.act == rig::Cue::Act::field) c.wholeField = rig.fields.at(static_cast<std::size_t>(cue.field)).law;
  for (const rig::Id id : cue.parts) c.bodies.push_back(bodyOf.at(id));
  return c;
}

}  // namespace calm::run
