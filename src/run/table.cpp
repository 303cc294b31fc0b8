// SPDX-License-Identifier: GPL-3.0-or-later
// The table of a run, as comma-separated values.
#include <fmt/format.h>

#include "run/report.h"

namespace calm::run {

namespace {

// A column's name: text in quotes where it needs them (RFC 4180).
std::string csvText(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string quoted = "\"";
  for (char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

}  // namespace

void writeCsvHeader(std::ostream& out, const rig::Rig& rig) {
  out << "time_s,kinetic_J,potential_J,springs_J";
  for (const rig::Part& p : rig.parts)
    for (const char* what : {"x_m", "y_m", "z_m", "qw", "qx", "qy", "qz", "vx_m_s", "vy_m_s", "vz_m_s", "wx_rad_s",
                             "wy_rad_s", "wz_rad_s"})
      out << ',' << csvText(p.name + " " + what);
  for (const rig::Joint& j : rig.joints) {
    for (const char* what : {"force_N", "torque_Nm", "separation_m"}) out << ',' << csvText(j.name + " " + what);
    const AxisCount count = axesOf(j.type);
    for (int k = 0; k < count.all(); ++k) {
      const bool turns = k >= count.along;
      for (const char* what :
           {turns ? "position_rad" : "position_m", turns ? "rate_rad_s" : "rate_m_s", turns ? "effort_Nm" : "effort_N"})
        out << ',' << csvText(fmt::format("{} axis {} {}", j.name, k + 1, what));
    }
  }
  out << '\n';
}

void writeCsvRow(std::ostream& out, const CompiledRig& run) {
  std::string row = fmt::format("{:.12g}", run.world.time());
  const auto add = [&](double value) { fmt::format_to(std::back_inserter(row), ",{:.12g}", value); };
  const auto addAll = [&](const Vec3& v) { add(v.x()), add(v.y()), add(v.z()); };
  const Energy energy = run.world.energy();
  add(energy.kinetic), add(energy.potential), add(energy.springs);
  for (BodyId b : run.bodies) {
    const BodyState s = run.world.state(b);
    addAll(s.pose.position);
    add(s.pose.rotation.w());
    addAll(s.pose.rotation.vec());
    addAll(s.velocity);
    addAll(s.angularVelocity);
  }
  for (JointId j : run.joints) {
    const JointReading& r = run.world.reading(j);
    add(r.forceSize), add(r.torqueSize), add(r.separationPeak);
    for (std::size_t k = 0; k < static_cast<std::size_t>(axesOf(run.world.joint(j).type).all()); ++k)
      add(r.position[k]), add(r.rate[k]), add(r.effort[k]);
  }
  out << row << '\n';
}

}  // namespace calm::run
