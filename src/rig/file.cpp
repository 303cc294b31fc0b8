// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/file.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <fstream>

#include "rig/format/format.h"

namespace calm::rig {

namespace {

constexpr std::uintmax_t kLargestFile = 512u << 20;  // bytes

Rig readRig(const Node& n, Newer newer) {
  n.object({"format", "version", "name", "stage", "parts", "joints", "groups", "fields", "cues", "expectations"});
  if (n.at("format").text() != "calm-tether-rig")
    n.at("format").fail("is not \"calm-tether-rig\"; this is no rig file");
  const int version = n.at("version").integer();
  if (version < 1) n.at("version").fail(fmt::format("there is no version {}", version));
  if (version > kFormatVersion && newer == Newer::refused)
    n.at("version").fail(
        fmt::format("the file is of version {}, newer than {}, the newest known here", version, kFormatVersion));
  Rig rig;
  if (version > kFormatVersion) rig.newerVersion = version;
  n.maybe("name", rig.name, &Node::text);
  if (n.has("stage")) rig.stage = readStage(n.at("stage"));
  if (n.has("parts"))
    for (const Node& part : n.at("parts").list()) rig.parts.push_back(readPart(part));
  if (n.has("groups"))
    for (const Node& group : n.at("groups").list()) rig.groups.push_back(readGroup(group));
  const PartIndex index(rig);
  if (n.has("joints"))
    for (const Node& joint : n.at("joints").list()) rig.joints.push_back(readJoint(joint, rig, index));
  if (n.has("fields"))
    for (const Node& field : n.at("fields").list()) rig.fields.push_back(readField(field, index));
  if (n.has("cues"))
    for (const Node& cue : n.at("cues").list()) rig.cues.push_back(readCue(cue, rig, index));
  if (n.has("expectations"))
    for (const Node& e : n.at("expectations").list()) rig.expectations.push_back(readExpectation(e, rig, index));
  const auto reserve = [&](Id id) { rig.nextId = std::max(rig.nextId, id + 1); };
  for (const Part& p : rig.parts) reserve(p.id);
  for (const Joint& j : rig.joints) reserve(j.id);
  for (const Group& g : rig.groups) reserve(g.id);
  for (const Cue& c : rig.cues) reserve(c.id);
  for (Cue& c : rig.cues)
    if (c.id == kNone) c.id = rig.nextId++;
  const auto checkGroup = [&](Id id, const std::string& name) {
    if (id != kNone && !rig.group(id)) n.fail(fmt::format("\"{}\" names group {}, which does not exist", name, id));
  };
  for (const Part& p : rig.parts) checkGroup(p.group, p.name);
  for (const Joint& j : rig.joints) checkGroup(j.group, j.name);
  if (const std::vector<Fault> faults = faultsOf(rig); !faults.empty()) n.fail(faults.front().text());
  return rig;
}

}  // namespace

PartIndex::PartIndex(const Rig& rig) {
  for (const Part& p : rig.parts) {
    ids_.insert(p.id);
    const auto [it, fresh] = names_.try_emplace(p.name, p.id);
    if (!fresh) it->second = kNone;
  }
}

Id PartIndex::read(const Node& n) const {
  if (n.json().is_null()) return kNone;
  if (n.json().is_string()) {
    const std::string name = n.text();
    if (name == "world" && !names_.count(name)) return kNone;
    const auto it = names_.find(name);
    if (it == names_.end()) n.fail(fmt::format("there is no part named \"{}\"", name));
    if (it->second == kNone) n.fail(fmt::format("several parts are named \"{}\"; use the id", name));
    return it->second;
  }
  const Id id = n.integer();
  if (id != kNone && !ids_.count(id)) n.fail(fmt::format("there is no part with id {}", id));
  return id;
}

std::string newerVersionWords(int version) {
  return fmt::format(
      "the rig is of version {}, newer than {}, the newest known here; what is new in it would be lost, so it can only "
      "be looked at and run",
      version, kFormatVersion);
}

Rig parseRig(const std::string& text, const std::string& source, Newer newer) {
  Json json;
  try {
    json = Json::parse(text);
  } catch (const Json::parse_error& e) {
    const std::size_t at = std::min<std::size_t>(e.byte, text.size());
    const auto line = 1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n');
    const std::string why = at >= text.size() ? "the file ends in the middle" : "this is not valid JSON here";
    throw FileError(fmt::format("{}: line {}: {}", source, line, why));
  } catch (const Json::exception& e) {
    throw FileError(fmt::format("{}: {}", source, e.what()));
  }
  try {
    const bool mayHoldMore = newer == Newer::toLookAt && json.is_object() && json.contains("version") &&
                             json["version"].is_number_integer() &&
                             json["version"].get<std::int64_t>() > kFormatVersion;
    return readRig(Node(json, source, mayHoldMore), newer);
  } catch (const Json::exception& e) {
    throw FileError(fmt::format("{}: {}", source, e.what()));
  }
}

Rig loadRig(const std::filesystem::path& path, Newer newer) {
  const std::string name = path.filename().string();
  std::error_code error;
  if (std::filesystem::is_directory(path, error)) throw FileError(name + ": is a folder, not a rig file");
  const std::uintmax_t size = std::filesystem::file_size(path, error);
  if (error) throw FileError(fmt::format("{}: {}", path.string(), error.message()));
  if (size > kLargestFile) throw FileError(fmt::format("{}: {} MB is more than a rig file may have", name, size >> 20));
  std::ifstream file(path, std::ios::binary);
  std::string text(size, '\0');
  file.read(text.data(), static_cast<std::streamsize>(size));
  if (!file) throw FileError(fmt::format("{}: cannot be read: {}", path.string(), std::strerror(errno)));
  return parseRig(text, name, newer);
}

std::string formatRig(const Rig& rig) {
  Json json{{"format", "calm-tether-rig"}, {"version", kFormatVersion}, {"name", rig.name}};
  json["stage"] = writeStage(rig.stage);
  json["parts"] = Json::array();
  json["joints"] = Json::array();
  json["groups"] = Json::array();
  for (const Part& p : rig.parts) json["parts"].push_back(writePart(p));
  for (const Joint& j : rig.joints) json["joints"].push_back(writeJoint(j));
  for (const Group& g : rig.groups) json["groups"].push_back(writeGroup(g));
  for (const Field& f : rig.fields) json["fields"].push_back(writeField(f));
  for (const Cue& c : rig.cues) json["cues"].push_back(writeCue(c, rig));
  for (const Expectation& e : rig.expectations) json["expectations"].push_back(writeExpectation(e, rig));
  return json.dump(1) + "\n";
}

void saveRig(const Rig& rig, const std::filesystem::path& path) {
  if (rig.newerVersion)
    throw FileError(fmt::format("{}: cannot be saved: {}", path.string(), newerVersionWords(rig.newerVersion)));
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
