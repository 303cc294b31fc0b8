// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/report.h"

#include <fmt/format.h>

#include <chrono>
#include <cmath>
#include <map>
#include <nlohmann/json.hpp>

namespace calm::run {

namespace {

using Json = nlohmann::ordered_json;

Json list(const Vec3& v) {
  return {v.x(), v.y(), v.z()};
}

void notePeaks(const CompiledRig& run, std::vector<JointPeaks>& peaks) {
  for (std::size_t j = 0; j < peaks.size(); ++j) {
    const JointReading& r = run.world.reading(run.joints[j]);
    JointPeaks& p = peaks[j];
    const auto raise = [&](float& peak, double value) {
      if (static_cast<float>(value) <= peak) return false;
      peak = static_cast<float>(value);
      return true;
    };
    if (raise(p.peak.force, r.forceSize)) p.forceAt = run.world.time();
    raise(p.peak.torque, r.torqueSize);
    raise(p.peak.separation, r.separationPeak);
    raise(p.peak.misalignment, r.misalignmentPeak);
    p.forceNow = r.forceNow;
    p.torqueNow = r.torqueNow;
    p.separationNow = r.separation;
    if (r.parted) p.partedAt = r.partedAt;
  }
}

Moment momentOf(const rig::Rig& rig, const CompiledRig& run) {
  const World& world = run.world;
  Moment m;
  m.time = world.time();
  m.energy = world.energy();
  m.momentum = world.momentum();
  m.angularMomentum = world.angularMomentum(Vec3::Zero());
  std::map<BodyId, std::string> names{{kWorld, "world"}};
  for (std::size_t i = 0; i < run.bodies.size(); ++i) {
    const BodyId id = run.bodies[i];
    names[id] = rig.parts[i].name;
    m.parts.push_back({world.state(id), world.kineticEnergy(id), world.potentialEnergy(id)});
  }
  for (const JointId id : run.joints) m.joints.push_back(world.reading(id));
  const auto nameOf = [&](BodyId id) { return names.count(id) ? names[id] : std::string("ground"); };
  for (const TouchReading& t : world.touches()) m.touches.push_back({nameOf(t.a), nameOf(t.b), t.force});
  return m;
}

Json writeJointReading(const rig::Joint& joint, const JointReading& r) {
  Json json{{"force_N", list(r.force)},           {"torque_Nm", list(r.torque)},  {"force_now_N", list(r.forceNow)},
            {"torque_now_Nm", list(r.torqueNow)}, {"separation_m", r.separation}, {"misalignment_rad", r.misalignment}};
  Json axes = Json::array();
  for (int k = 0; k < axesOf(joint.type).all(); ++k) {
    const auto i = static_cast<std::size_t>(k);
    Json active = Json::array();
    for (const auto& [bit, name] : {std::pair(kAtLowStop, "low stop"), std::pair(kAtHighStop, "high stop"),
                                    std::pair(kMotorAtCap, "motor at cap"), std::pair(kSpringAtCap, "spring at cap")})
      if (r.activity[i] & bit) active.push_back(name);
    axes.push_back({{"position", r.position[i]},
                    {"rate", r.rate[i]},
                    {"effort", r.effort[i]},
                    {"work_J", r.work[i]},
                    {"active", active}});
  }
  if (!axes.empty()) json["axes"] = axes;
  if (r.parted) json["parted"] = true;
  return json;
}

Json writePartReading(const Moment::PartReading& p) {
  const Quat& q = p.state.pose.rotation;
  return {{"position_m", list(p.state.pose.position)},
          {"orientation_wxyz", {q.w(), q.x(), q.y(), q.z()}},
          {"velocity_m_s", list(p.state.velocity)},
          {"angular_velocity_rad_s", list(p.state.angularVelocity)},
          {"kinetic_J", p.kinetic},
          {"potential_J", p.potential}};
}

Json writeEnergy(const Energy& e) {
  return {{"kinetic_J", e.kinetic}, {"potential_J", e.potential}, {"springs_J", e.springs}, {"total_J", e.total()}};
}

Json writeTouches(const Moment& m) {
  Json json = Json::array();
  for (const Moment::Touch& t : m.touches) json.push_back({{"a", t.a}, {"b", t.b}, {"force_N", list(t.force)}});
  return json;
}

Json writeMoment(const rig::Rig& rig, const Moment& m) {
  Json json{{"time_s", m.time},
            {"energy", writeEnergy(m.energy)},
            {"momentum_kg_m_s", list(m.momentum)},
            {"angular_momentum_kg_m2_s", list(m.angularMomentum)}};
  json["parts"] = json["joints"] = Json::array();
  for (std::size_t i = 0; i < m.parts.size(); ++i) {
    Json part{{"name", rig.parts[i].name}};
    part.update(writePartReading(m.parts[i]));
    json["parts"].push_back(part);
  }
  for (std::size_t j = 0; j < m.joints.size(); ++j) {
    Json joint{{"name", rig.joints[j].name}};
    joint.update(writeJointReading(rig.joints[j], m.joints[j]));
    json["joints"].push_back(joint);
  }
  json["contacts"] = writeTouches(m);
  return json;
}

}  // namespace

RunResult runToEnd(const rig::Rig& rig, const RunOptions& options) {
  CompiledRig run = compile(rig);
  RunResult result;
  result.joints.resize(run.joints.size());
  result.energyStart = run.world.energy();
  const long stride = options.every ? std::max(1L, std::lround(*options.every * rig.stage.frameRate)) : 0;
  const auto keep = [&] {
    if (stride > 0 && result.steps % stride == 0) result.readings.push_back(momentOf(rig, run));
  };
  keep();
  if (options.onFrame) options.onFrame(run, {});
  const auto start = std::chrono::steady_clock::now();
  const long frames = std::lround(options.seconds * rig.stage.frameRate);
  while (result.steps < frames) {
    const Residual residual = run.step();
    result.residual.include(residual);
    ++result.steps;
    notePeaks(run, result.joints);
    if (!std::isfinite(run.world.energy().total()))
      throw std::runtime_error(
          fmt::format("the motion ran away at {:.3f} s; more substeps may hold it", run.world.time()));
    keep();
    if (options.onFrame) options.onFrame(run, residual);
  }
  result.wall = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  result.simulated = run.world.time();
  result.substeps = std::max(rig.stage.substeps, result.residual.substeps);
  result.end = momentOf(rig, run);
  return result;
}

std::string formatReport(const rig::Rig& rig, const RunResult& result) {
  Json json;
  json["format"] = "calm-tether-report";
  json["version"] = 1;
  json["rig"] = rig.name;
  json["run"] = {{"simulated_s", result.simulated},
                 {"wall_s", result.wall},
                 {"steps", result.steps},
                 {"substeps", result.substeps},
                 {"real_time_factor", result.wall > 0 ? result.simulated / result.wall : 0},
                 {"energy_start_J", result.energyStart.total()},
                 {"energy_end_J", result.end.energy.total()},
                 {"energy_start", writeEnergy(result.energyStart)},
                 {"energy_end", writeEnergy(result.end.energy)},
                 {"momentum_end_kg_m_s", list(result.end.momentum)},
                 {"angular_momentum_end_kg_m2_s", list(result.end.angularMomentum)},
                 {"residual_peak", result.residual.linear},
                 {"within_budget", !result.residual.overBudget},
                 {"fallback_substeps", result.residual.fallbacks}};
  json["joints"] = Json::array();
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    const JointPeaks& p = result.joints[j];
    Json joint{{"name", rig.joints[j].name},
               {"type", rig::word(rig.joints[j].type)},
               {"separation_peak_m", p.peak.separation},
               {"separation_end_m", p.separationNow},
               {"misalignment_peak_rad", p.peak.misalignment},
               {"force_peak_N", p.peak.force},
               {"force_end_N", p.forceNow.norm()},
               {"torque_peak_Nm", p.peak.torque},
               {"torque_end_Nm", p.torqueNow.norm()},
               {"parted_at_s", p.partedAt ? Json(*p.partedAt) : Json(nullptr)}};
    joint["end"] = writeJointReading(rig.joints[j], result.end.joints[j]);
    json["joints"].push_back(joint);
  }
  json["parts"] = Json::array();
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    Json part{{"name", rig.parts[i].name}};
    part.update(writePartReading(result.end.parts[i]));
    json["parts"].push_back(part);
  }
  json["contacts"] = writeTouches(result.end);
  for (const Moment& m : result.readings) json["readings"].push_back(writeMoment(rig, m));
  return json.dump(1) + "\n";
}

}  // namespace calm::run
