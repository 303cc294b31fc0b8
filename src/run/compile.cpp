// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/compile.h"

#include <map>

namespace calm::run {

namespace {

BodyDef bodyOf(const rig::Part& p) {
  BodyDef def;
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
  CompiledRig out{World({.gravity = stage.gravity, .frame = 1 / stage.frameRate, .substeps = stage.substeps}), {}, {}};
  if (stage.groundHeight) {
    BodyDef ground;
    ground.role = Role::fixed;
    ground.pose.position = Vec3(0, *stage.groundHeight, 0);
    ground.shapes = {{HalfSpace{}, {}}};
    ground.friction = stage.groundFriction;
    out.world.addBody(ground);
  }
  std::map<rig::Id, BodyId> bodyOfPart{{rig::kNone, kWorld}};
  for (const rig::Part& p : rig.parts) {
    try {
      out.bodies.push_back(out.world.addBody(bodyOf(p)));
    } catch (const WorldError& e) {
      throw CompileError("part \"" + p.name + "\": " + e.what());
    }
    bodyOfPart[p.id] = out.bodies.back();
    if (p.role == Role::dynamic) {
      out.world.addForce(out.bodies.back(), p.force, p.pose.apply(p.center));
      out.world.addTorque(out.bodies.back(), p.torque);
    }
  }
  for (const rig::Joint& j : rig.joints) {
    JointDef def;
    def.type = j.type;
    def.a = bodyOfPart.at(j.a.part);
    def.b = bodyOfPart.at(j.b.part);
    def.frameA = frameOf(j.a);
    def.frameB = frameOf(j.b);
    def.axes = j.axes;
    def.compliance = j.compliance;
    def.breakForce = j.breakForce.value_or(kUnbreakable);
    def.breakTorque = j.breakTorque.value_or(kUnbreakable);
    def.neighboursCollide = j.neighboursCollide;
    try {
      out.joints.push_back(out.world.addJoint(def));
    } catch (const WorldError& e) {
      throw CompileError("joint \"" + j.name + "\": " + e.what());
    }
  }
  return out;
}

}  // namespace calm::run
