// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/report.h"

#include <fmt/format.h>

#include <chrono>
#include <cmath>
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
    if (raise(p.peak.force, r.force.norm())) p.forceAt = run.world.time();
    raise(p.peak.torque, r.torque.norm());
    raise(p.peak.separation, r.separationPeak);
    raise(p.peak.misalignment, r.misalignmentPeak);
    p.forceNow = r.forceNow;
    p.torqueNow = r.torqueNow;
    p.separationNow = r.separation;
    if (r.parted) p.partedAt = r.partedAt;
  }
}

// A column's name: text in quotes where it needs them (RFC 4180).
std::string csvText(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string quoted = "\"";
  for (char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

}  // namespace

RunResult runToEnd(const rig::Rig& rig, const RunOptions& options) {
  CompiledRig run = compile(rig);
  RunResult result;
  result.joints.resize(run.joints.size());
  result.energyStart = run.world.energy().total();
  result.substeps = rig.stage.substeps;
  if (options.onFrame) options.onFrame(run);
  const auto start = std::chrono::steady_clock::now();
  const long frames = std::lround(options.seconds * rig.stage.frameRate);
  for (; result.steps < frames; ++result.steps) {
    result.residual.include(run.world.step());
    notePeaks(run, result.joints);
    if (!std::isfinite(run.world.energy().total()))
      throw std::runtime_error(
          fmt::format("the motion ran away at {:.3f} s; more substeps may hold it", run.world.time()));
    if (options.onFrame) options.onFrame(run);
  }
  result.wall = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  result.simulated = run.world.time();
  result.energyEnd = run.world.energy().total();
  for (BodyId b : run.bodies) result.parts.push_back(run.world.state(b));
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
                 {"energy_start_J", result.energyStart},
                 {"energy_end_J", result.energyEnd},
                 {"residual_peak", result.residual.linear},
                 {"fallback_substeps", result.residual.fallbacks}};
  json["joints"] = Json::array();
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    const JointPeaks& p = result.joints[j];
    json["joints"].push_back({{"name", rig.joints[j].name},
                              {"type", rig::word(rig.joints[j].type)},
                              {"separation_peak_m", p.peak.separation},
                              {"separation_end_m", p.separationNow},
                              {"force_peak_N", p.peak.force},
                              {"force_end_N", p.forceNow.norm()},
                              {"torque_peak_Nm", p.peak.torque},
                              {"torque_end_Nm", p.torqueNow.norm()},
                              {"parted_at_s", p.partedAt ? Json(*p.partedAt) : Json(nullptr)}});
  }
  json["parts"] = Json::array();
  for (std::size_t i = 0; i < rig.parts.size(); ++i) {
    const BodyState& s = result.parts[i];
    const Quat& q = s.pose.rotation;
    json["parts"].push_back({{"name", rig.parts[i].name},
                             {"position_m", list(s.pose.position)},
                             {"orientation_wxyz", {q.w(), q.x(), q.y(), q.z()}},
                             {"velocity_m_s", list(s.velocity)},
                             {"angular_velocity_rad_s", list(s.angularVelocity)}});
  }
  return json.dump(1) + "\n";
}

void writeCsvHeader(std::ostream& out, const rig::Rig& rig) {
  out << "time_s";
  for (const rig::Part& p : rig.parts)
    for (const char* what : {"x_m", "y_m", "z_m", "qw", "qx", "qy", "qz"}) out << ',' << csvText(p.name + " " + what);
  for (const rig::Joint& j : rig.joints)
    for (const char* what : {"force_N", "torque_Nm", "separation_m"}) out << ',' << csvText(j.name + " " + what);
  out << '\n';
}

void writeCsvRow(std::ostream& out, const CompiledRig& run) {
  std::string row = fmt::format("{:.9g}", run.world.time());
  const auto add = [&](double value) { fmt::format_to(std::back_inserter(row), ",{:.12g}", value); };
  for (BodyId b : run.bodies) {
    const Pose pose = run.world.state(b).pose;
    for (int i = 0; i < 3; ++i) add(pose.position[i]);
    add(pose.rotation.w()), add(pose.rotation.x()), add(pose.rotation.y()), add(pose.rotation.z());
  }
  for (JointId j : run.joints) {
    const JointReading& r = run.world.reading(j);
    add(r.force.norm()), add(r.torque.norm()), add(r.separationPeak);
  }
  out << row << '\n';
}

}  // namespace calm::run
