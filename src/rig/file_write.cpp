// SPDX-License-Identifier: GPL-3.0-or-later
// Writing the rig format, and whole files.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <nlohmann/json.hpp>

#include "rig/file.h"

namespace calm::rig {

namespace {

using Json = nlohmann::ordered_json;

Json list(const Vec3& v) {
  return {v.x(), v.y(), v.z()};
}
Json list(const Quat& q) {
  return {q.w(), q.x(), q.y(), q.z()};
}

Json writeShape(const Shape& shape) {
  if (const auto* s = std::get_if<Sphere>(&shape)) return {{"type", "sphere"}, {"radius_m", s->radius}};
  if (const auto* c = std::get_if<Capsule>(&shape))
    return {{"type", "capsule"}, {"radius_m", c->radius}, {"length_m", c->length}};
  if (const auto* c = std::get_if<Cylinder>(&shape))
    return {{"type", "cylinder"}, {"radius_m", c->radius}, {"length_m", c->length}};
  return {{"type", "box"}, {"size_m", list(std::get<Box>(shape).size)}};
}

Json writePart(const Part& p) {
  const Part standard;
  Json j{{"id", p.id},
         {"name", p.name},
         {"role", word(p.role)},
         {"shape", writeShape(p.shape)},
         {"position_m", list(p.pose.position)},
         {"orientation_wxyz", list(p.pose.rotation)}};
  if (const auto* m = std::get_if<Mass>(&p.heft))
    j["mass_kg"] = m->mass;
  else
    j["density_kg_m3"] = std::get<Density>(p.heft).density;
  if (!p.velocity.isZero(0)) j["velocity_m_s"] = list(p.velocity);
  if (!p.angularVelocity.isZero(0)) j["angular_velocity_rad_s"] = list(p.angularVelocity);
  j["friction"] = p.friction;
  if (p.restitution != standard.restitution) j["restitution"] = p.restitution;
  if (p.linearDamping != standard.linearDamping) j["linear_damping_1_s"] = p.linearDamping;
  if (p.angularDamping != standard.angularDamping) j["angular_damping_1_s"] = p.angularDamping;
  if (p.gravityScale != standard.gravityScale) j["gravity_scale"] = p.gravityScale;
  if (!p.collides) j["collides"] = false;
  if (!p.force.isZero(0)) j["force_N"] = list(p.force);
  if (!p.torque.isZero(0)) j["torque_Nm"] = list(p.torque);
  if (p.inertia) j["inertia_kg_m2"] = list(*p.inertia);
  if (!p.center.isZero(0)) j["centre_of_mass_m"] = list(p.center);
  if (p.line != kNone) j["line"] = p.line;
  return j;
}

Json writeSide(const Side& s) {
  return {{"part", s.part == kNone ? Json(nullptr) : Json(s.part)},
          {"at_m", list(s.at)},
          {"axis", list(s.axis)},
          {"across", list(s.across)}};
}

Json writeAxis(const AxisDef& a) {
  Json json = Json::object();
  if (a.low > -kNoLimit) json["low"] = a.low;
  if (a.high < kNoLimit) json["high"] = a.high;
  for (const auto& [key, value] :
       {std::pair("motor_speed", a.speed), std::pair("motor_cap", a.cap), std::pair("friction", a.friction),
        std::pair("stiffness", a.stiffness), std::pair("damping", a.damping), std::pair("target", a.target)})
    if (value != 0) json[key] = value;
  return json;
}

Json writeJoint(const Joint& j) {
  Json json{{"id", j.id}, {"name", j.name}, {"type", word(j.type)}, {"a", writeSide(j.a)}, {"b", writeSide(j.b)}};
  Json axes = Json::array();
  bool any = false;
  for (int k = 0; k < axesOf(j.type).all(); ++k) {
    axes.push_back(writeAxis(j.axes[k]));
    any |= !axes.back().empty();
  }
  if (any) json["axes"] = axes;
  if (j.breakForce) json["break_force_N"] = *j.breakForce;
  if (j.breakTorque) json["break_torque_Nm"] = *j.breakTorque;
  if (j.compliance > 0) json["compliance_m_N"] = j.compliance;
  if (j.neighboursCollide) json["neighbours_collide"] = true;
  if (j.line != kNone) json["line"] = j.line;
  return json;
}

Json writeStage(const Stage& s) {
  Json json{{"gravity_m_s2", list(s.gravity)},
            {"frame_rate_Hz", s.frameRate},
            {"substeps", s.substeps},
            {"duration_s", s.duration}};
  json["ground"] = s.groundHeight ? Json{{"height_m", *s.groundHeight}, {"friction", s.groundFriction}} : Json(nullptr);
  return json;
}

}  // namespace

std::string formatRig(const Rig& rig) {
  Json json{{"format", "calm-tether-rig"}, {"version", kFormatVersion}, {"name", rig.name}};
  json["stage"] = writeStage(rig.stage);
  json["parts"] = Json::array();
  json["joints"] = Json::array();
  json["lines"] = Json::array();
  for (const Part& p : rig.parts) json["parts"].push_back(writePart(p));
  for (const Joint& j : rig.joints) json["joints"].push_back(writeJoint(j));
  for (const Line& l : rig.lines)
    json["lines"].push_back({{"id", l.id},
                             {"name", l.name},
                             {"length_m", l.length},
                             {"links", l.links},
                             {"thickness_m", l.thickness},
                             {"mass_per_metre_kg_m", l.massPerMetre}});
  return json.dump(1) + "\n";
}

void saveRig(const Rig& rig, const std::filesystem::path& path) {
  writeWholeFile(path, formatRig(rig));
}

void writeWholeFile(const std::filesystem::path& path, const std::string& text) {
  const std::filesystem::path part = path.string() + ".part";
  const auto fail = [&](const char* what) {
    const std::string why = std::strerror(errno);
    ::unlink(part.c_str());
    throw FileError(fmt::format("{}: cannot be {}: {}; what was there before is untouched", path.string(), what, why));
  };
  const int file = ::open(part.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (file < 0) fail("written");
  std::size_t done = 0;
  while (done < text.size()) {
    const ssize_t n = ::write(file, text.data() + done, text.size() - done);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) {
      const int error = errno;
      ::close(file);
      errno = error;
      fail("written");
    }
    done += static_cast<std::size_t>(n);
  }
  if (::fsync(file) != 0 || ::close(file) != 0) fail("written");
  if (::rename(part.c_str(), path.c_str()) != 0) fail("replaced");
}

}  // namespace calm::rig
