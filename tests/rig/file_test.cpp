// SPDX-License-Identifier: GPL-3.0-or-later
// The rig format: round trips, the schema, and every kind of bad file.
#include "rig/file.h"

#include <gtest/gtest.h>
#include <sys/stat.h>

#include <fstream>
#include <nlohmann/json.hpp>
#include <valijson/adapters/nlohmann_json_adapter.hpp>
#include <valijson/schema.hpp>
#include <valijson/schema_parser.hpp>
#include <valijson/validator.hpp>

#include "engine/shape/mesh.h"
#include "rig/demos.h"
#include "rig/edits.h"

namespace calm::rig {
namespace {

std::string smallRig(const std::string& from = {}, const std::string& to = {}) {
  std::string text = R"({"format": "calm-tether-rig", "version": 1, "name": "post",
 "stage": {"gravity_m_s2": [0, -9.81, 0], "ground": {"height_m": 0}},
 "parts": [
  {"id": 1, "name": "post", "role": "static", "shape": {"type": "box", "size_m": [0.2, 2, 0.2]}, "position_m": [0, 1, 0]},
  {"id": 2, "name": "gate", "shape": {"type": "box", "size_m": [1, 1, 0.05]}, "position_m": [0.6, 1, 0], "mass_kg": 20}],
 "joints": [{"id": 3, "name": "pin", "type": "hinge", "a": "post", "b": 2, "pivot_m": [0.1, 1, 0], "axis": [0, 1, 0],
             "break_force_N": 5000}]
})";
  if (!from.empty()) {
    const auto at = text.find(from);
    EXPECT_NE(at, std::string::npos) << from;
    text.replace(at, from.size(), to);
  }
  return text;
}

std::string faultOfText(const std::string& text) {
  try {
    parseRig(text, "gate.rig.json");
  } catch (const FileError& e) {
    return e.what();
  }
  return "accepted";
}

bool fits(const std::string& text) {
  static const nlohmann::json schemaJson = [] {
    std::ifstream file(SCHEMA_FILE);
    return nlohmann::json::parse(file);
  }();
  valijson::Schema schema;
  valijson::SchemaParser parser;
  const valijson::adapters::NlohmannJsonAdapter schemaAdapter(schemaJson);
  parser.populateSchema(schemaAdapter, schema);
  const nlohmann::json json = nlohmann::json::parse(text);
  const valijson::adapters::NlohmannJsonAdapter adapter(json);
  valijson::Validator validator;
  return validator.validate(schema, adapter, nullptr);
}

std::string contentOf(const std::filesystem::path& path) {
  std::ifstream file(path);
  return {std::istreambuf_iterator<char>(file), {}};
}

TEST(RigFile, ShortFormGivesBothSidesTheirPivots) {
  const Rig rig = parseRig(smallRig(), "gate.rig.json");
  ASSERT_EQ(rig.joints.size(), 1u);
  EXPECT_LE((rig.joints[0].a.at - Vec3(0.1, 0, 0)).norm(), 1e-15);
  EXPECT_LE((rig.joints[0].b.at - Vec3(-0.5, 0, 0)).norm(), 1e-15);
  EXPECT_LE((rig.joints[0].b.axis - Vec3::UnitY()).norm(), 1e-15);
  EXPECT_EQ(rig.nextId, 4);
}

TEST(RigFile, WhatIsWrittenReadsBackTheSame) {
  const Rig rig = jibHoistSlice();
  const std::string once = formatRig(rig);
  EXPECT_TRUE(formatRig(parseRig(once, "x")) == once);
}

TEST(RigFile, DemoInTheFolderIsTheOneInTheProgram) {
  std::ifstream file(DEMO_FOLDER "/jib-hoist-slice.rig.json");
  const std::string text((std::istreambuf_iterator<char>(file)), {});
  EXPECT_TRUE(text == formatRig(jibHoistSlice()))
      << "write it anew with: calm-tether-cli demo demos/jib-hoist-slice.rig.json";
}

TEST(RigFile, WhatIsWrittenAndTheShortFormFitTheSchema) {
  EXPECT_TRUE(fits(formatRig(jibHoistSlice())));
  EXPECT_TRUE(fits(smallRig()));
  EXPECT_FALSE(fits(smallRig("\"size_m\": [0.2, 2, 0.2]", "\"size_m\": [0.2, 2]")));
  EXPECT_FALSE(fits(smallRig("\"mass_kg\": 20", "\"mass_kg\": \"20\"")));
  EXPECT_FALSE(fits(smallRig("\"mass_kg\"", "\"mass\"")));
}

struct BadFile {
  const char *from, *to, *place, *word;
};

class BadRig : public testing::TestWithParam<BadFile> {};

TEST_P(BadRig, NamesThePlaceAndTheThing) {
  const BadFile& bad = GetParam();
  const std::string fault = faultOfText(smallRig(bad.from, bad.to));
  EXPECT_NE(fault.find("gate.rig.json"), std::string::npos) << fault;
  EXPECT_NE(fault.find(bad.place), std::string::npos) << fault;
  EXPECT_NE(fault.find(bad.word), std::string::npos) << fault;
}

INSTANTIATE_TEST_SUITE_P(
    Kinds, BadRig,
    testing::Values(
        BadFile{"calm-tether-rig", "other", ".format", "no rig file"},
        BadFile{"\"version\": 1", "\"version\": 99", ".version", "newer"},
        BadFile{"\"version\": 1", "\"version\": \"1\"", ".version", "whole number"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": 0", "gate", "mass"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": -5", "gate", "mass"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": 1e999", "gate.rig.json", "1e999"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": NaN", "line 5", "JSON"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": null, \"density_kg_m3\": 1e30", "gate", "density"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": 20, \"density_kg_m3\": 7", "parts[1]", "contradict"},
        BadFile{"\"mass_kg\": 20", "\"mass_kgs\": 20", "parts[1].mass_kgs", "unknown key"},
        BadFile{"[1, 1, 0.05]", "[1, 0, 0.05]", "parts[1].shape", "above 0"},
        BadFile{"[1, 1, 0.05]", "[1, 1]", "parts[1].shape.size_m", "three numbers"},
        BadFile{"[1, 1, 0.05]", "\"big\"", "parts[1].shape.size_m", "list"},
        BadFile{"\"type\": \"box\", \"size_m\": [1, 1, 0.05]", "\"type\": \"egg\"", "parts[1].shape.type", "egg"},
        BadFile{"\"position_m\": [0.6, 1, 0]", "\"position_m\": [1e300, 1, 0]", "gate", "position"},
        BadFile{"\"role\": \"static\"", "\"role\": \"ghost\"", "parts[0].role", "ghost"},
        BadFile{"\"type\": \"hinge\"", "\"type\": \"glue\"", "joints[0].type", "glue"},
        BadFile{"\"b\": 2", "\"b\": 7", "joints[0].b", "no part with id 7"},
        BadFile{"\"a\": \"post\"", "\"a\": \"mast\"", "joints[0].a", "mast"},
        BadFile{"\"a\": \"post\"", "\"a\": \"gate\"", "pin", "itself"},
        BadFile{"\"b\": 2", "\"b\": null", "pin", "cannot move"}, BadFile{"\"id\": 3", "\"id\": 2", "pin", "twice"},
        BadFile{"\"axis\": [0, 1, 0]", "\"axis\": [0, 0, 0]", "joints[0].axis", "zero"},
        BadFile{"\"break_force_N\": 5000", "\"break_force_N\": -1", "pin", "break force"},
        BadFile{"\"break_force_N\": 5000", "\"axes\": [{\"low\": 1, \"high\": 0}]", "pin", "low stop"},
        BadFile{"\"break_force_N\": 5000", "\"axes\": [{}, {}]", "joints[0].axes", "free axes"},
        BadFile{"\"break_force_N\": 5000", "\"axes\": [{\"stiffness\": -2}]", "pin", "stiffness"},
        BadFile{"\"mass_kg\": 20", "\"mass_kg\": 20, \"inertia_kg_m2\": [1, 1, 5]", "gate", "no real body"},
        BadFile{"\"gravity_m_s2\": [0, -9.81, 0]", "\"gravity_m_s2\": [0, true, 0]", "stage.gravity_m_s2[1]", "number"},
        BadFile{"\"ground\": {\"height_m\": 0}", "\"substeps\": 0", "stage", "substeps"},
        BadFile{"\"parts\": [", "\"parts\": 3, \"pieces\": [", "pieces", "unknown key"}));

TEST(RigFile, AxesAndPartSettingsReadBackTheSame) {
  const std::string text = smallRig("\"break_force_N\": 5000",
                                    "\"axes\": [{\"low\": -0.5, \"high\": 1.2, \"motor_speed\": 0.3, \"motor_cap\": 40,"
                                    " \"friction\": 2, \"stiffness\": 100, \"damping\": 5, \"target\": 0.1}]");
  Rig rig = parseRig(text, "x");
  EXPECT_EQ(rig.joints[0].axes[0].high, 1.2);
  EXPECT_EQ(rig.joints[0].axes[0].stiffness, 100);
  rig.parts[1].inertia = Mat3(Vec3(1, 2, 2.5).asDiagonal());
  rig.parts[1].center = Vec3(0.1, 0, 0);
  rig.parts[1].force = Vec3(0, 3, 0);
  rig.parts[1].torque = Vec3(1, 0, 0);
  rig.parts[1].gravityScale = 0.5;
  rig.parts[1].collides = false;
  const std::string once = formatRig(rig);
  EXPECT_TRUE(formatRig(parseRig(once, "x")) == once);
}

TEST(RigFile, OfANewerVersionIsReadForWhatIsKnownAndNeverWritten) {
  const std::string text = R"({"format": "calm-tether-rig", "version": 2, "name": "later", "tides": [1, 2],
    "parts": [{"id": 1, "name": "post", "shape": {"type": "sphere", "radius_m": 0.2}, "colour": "red"}]})";
  EXPECT_THROW(parseRig(text, "later.json"), FileError);
  const Rig rig = parseRig(text, "later.json", Newer::toLookAt);
  EXPECT_EQ(rig.newerVersion, 2);
  ASSERT_EQ(rig.parts.size(), 1u);
  EXPECT_EQ(rig.parts[0].name, "post");
  const std::filesystem::path path = std::filesystem::temp_directory_path() / "newer.rig.json";
  std::filesystem::remove(path);
  EXPECT_THROW(saveRig(rig, path), FileError);
  EXPECT_FALSE(std::filesystem::exists(path));
  std::string known = text;
  known.replace(known.find("2,"), 2, "1,");
  EXPECT_THROW(parseRig(known, "now.json", Newer::toLookAt), FileError) << "unknown keys of this version are faults";
}

// One rig that says everything that can be said.
const char* const kEverything = R"({"format": "calm-tether-rig", "version": 1, "name": "all",
 "stage": {"substeps": 12, "sleep_after_s": 2, "separation_budget_m": 1e-5, "layers_apart": [["water", "birds"]],
  "material_pairs": [{"a": "oak", "b": "mud", "friction": 0.9, "restitution": 0.1}],
  "ground": {"height_m": -1, "friction": 0.4, "restitution": 0.2, "material": "mud", "layer": "water"}},
 "parts": [
  {"id": 1, "name": "hull", "mass_kg": 3, "layer": "birds", "material": "oak", "locked_travel": ["z"], "locked_turn": ["x", "y"],
   "shape": {"type": "hull", "points_m": [[0,0,0],[1,0,0],[0,1,0],[0,0,1]]},
   "inertia_kg_m2": [[0.3, 0.01, 0], [0.01, 0.3, 0], [0, 0, 0.3]], "centre_of_mass_m": [0.25, 0.25, 0.25],
   "group": 21, "tags": ["wet", "left"],
   "pushes": [{"at_m": [0, 1, 0], "force_N": [1, 2, 3], "follows": true, "from_s": 1, "until_s": 2}, {"torque_Nm": [0, 0, 1]}]},
  {"id": 2, "name": "bell", "mass_kg": 2, "position_m": [3, 0, 0], "group": 22, "slot": "leaf", "shape": {"type": "compound", "shapes": [
    {"type": "sphere", "radius_m": 0.1, "position_m": [-0.5, 0, 0]}, {"type": "box", "size_m": [1, 0.1, 0.1], "orientation_wxyz": [1, 0, 0, 0]}]}},
  {"id": 3, "name": "slope", "role": "static", "position_m": [0, -0.5, 0], "shape": {"type": "mesh",
    "vertices_m": [[0,0,0],[0,0,5],[5,0,0]], "triangles": [[0,1,2]]}},
  {"id": 4, "name": "bed", "role": "static", "position_m": [0, -9, 0], "shape": {"type": "height_field", "columns": 2, "rows": 2,
    "spacing_m": [1, 2], "heights_m": [0, 0.1, 0, 0.2]}},
  {"id": 5, "name": "crank", "role": "kinematic", "position_m": [6, 0, 0], "shape": {"type": "sphere", "radius_m": 0.1}, "motion": {
    "keys": [{"at_s": 0}, {"at_s": 1, "position_m": [6, 1, 0], "orientation_wxyz": [0, 1, 0, 0]}], "smooth": false, "repeats": true,
    "waves": [{"along": [0, 1, 0], "amplitude": 0.1, "frequency_Hz": 2, "phase_rad": 0.5}, {"about": [1, 0, 0], "amplitude": 0.2, "frequency_Hz": 3}]}}],
 "joints": [
  {"id": 11, "name": "rope", "type": "pulley", "a": "hull", "b": "bell", "pivot_a_m": [0, 0, 0], "pivot_b_m": [3, 0, 0], "ratio": 2,
   "route": [{"at_m": [0, 4, 0]}, {"on": "b", "at_m": [0, 0.1, 0]}], "axes": [{"high": 40, "stop_stiffness": 1e4, "stop_damping": 20}]},
  {"id": 12, "name": "arm", "type": "limb", "a": "crank", "b": "bell", "pivot_m": [4, 0, 0], "axis": [1, 0, 0], "across": [0, 0, 1],
   "cone_rad": [0.5, 0.8], "armed": false, "break_torque_Nm": 40, "pin_radius_m": 0.05,
   "axes": [{"low": -1, "high": 1, "restitution": 0.5}, null, {"frequency_Hz": 3, "damping_ratio": 0.2, "spring_cap": 50}]},
  {"id": 13, "name": "teeth", "type": "gear", "a": "crank", "b": "bell", "pivot_m": [5, 0, 0], "axis": [0, 0, 1], "ratio": -0.25, "made": false},
  {"id": 14, "name": "coil", "type": "spring", "a": null, "b": "bell", "pivot_a_m": [3, 3, 0], "pivot_b_m": [3, 0, 0], "axes": [{"stiffness": 90}]}],
 "fields": [{"type": "wind", "velocity_m_s": [4, 0, 0], "linear_N_s_m": 1, "quadratic_N_s2_m2": 0.5, "parts": ["bell"]},
  {"type": "attraction", "centre_m": [0, 9, 0], "strength_m_s2": 3, "falloff": 1, "core_m": 0.5}],
 "cues": [{"at_s": 0.5, "do": "impulse", "part": "bell", "impulse_N_s": [1, 0, 0], "at_m": [0, 0, 0.1]},
  {"when_parted": "arm", "do": "role", "part": "crank", "role": "static"}, {"at_s": 1, "do": "arm", "joint": "arm"},
  {"at_s": 2, "do": "cut", "joint": 11}, {"at_s": 2, "do": "axis", "joint": "arm", "axis": 3, "settings": {"target": 0.3, "frequency_Hz": 3, "high": null}},
  {"at_s": 3, "do": "gravity", "gravity_m_s2": [0, -1.62, 0], "lasts_s": 1},
  {"when": {"reading": "force of arm", "above": 50}, "delay_s": 0.1, "do": "push", "part": "bell", "force_N": [0, 9, 0], "lasts_s": 2},
  {"when": {"reading": "distance to crank of bell", "below": 3}, "do": "gust", "parts": ["bell"], "wind_m_s": [12, 0, 0], "lasts_s": 4, "drag_N_s2_m2": 2},
  {"when": {"touch": "bell"}, "do": "pull", "part": "bell", "cap_N": 90, "track": [{"s": 0, "at_m": [3, 0, 0]}, {"s": 1, "at_m": [3, 1, 0]}]},
  {"when": {"touch": "bell", "by": "crank"}, "do": "probe", "track": [{"s": 0, "at_m": [9, 1, 0]}], "radius_m": 0.2, "mass_kg": 70},
  {"at_s": 4, "do": "ball", "at_m": [9, 9, 9], "velocity_m_s": [0, -5, 0], "radius_m": 0.1, "mass_kg": 8},
  {"at_s": 5, "do": "make", "joint": "teeth", "lasts_s": 0.3}, {"at_s": 5, "do": "disarm", "joint": "arm"},
  {"at_s": 6, "do": "field", "field": 2, "share": 0, "lasts_s": 1}],
 "groups": [{"id": 21, "name": "pair"}, {"id": 22, "name": "gate", "kind": "door", "hinges": 3, "posts": false, "latch_N": 0}],
 "expectations": [{"what": "holds"}, {"what": "parts", "joint": "rope", "until_s": 3},
  {"what": "settles", "part": "bell", "speed_m_s": 0.1, "from_s": 4}, {"what": "energy", "share": 0.5},
  {"what": "stays", "reading": "force of arm", "low": -1, "high": 900}, {"what": "reaches", "reading": "y of bell", "value": 0.5}]})";

TEST(RigFile, EverythingThatCanBeSaidReadsBackTheSame) {
  ASSERT_TRUE(fits(kEverything));
  const Rig rig = parseRig(kEverything, "all");
  const std::string once = formatRig(rig);
  EXPECT_TRUE(fits(once));
  EXPECT_TRUE(formatRig(parseRig(once, "x")) == once);
  EXPECT_FALSE(std::get<TriangleMesh>(parseRig(once, "x").parts[3].shape).data->sheet) << "a height field is solid";
  EXPECT_EQ(rig.parts[4].motion->waves.size(), 2u);
  EXPECT_EQ(rig.joints[3].axes[0].target, 3) << "a spring rests at the length that it has";
  EXPECT_EQ(rig.joints[1].axes[2].frequency, 3);
  EXPECT_FALSE(rig.cues[4].axis.value(&AxisDef::dampingRatio)) << "what a cue does not name stays";
  EXPECT_EQ(rig.cues[4].axis.value(&AxisDef::target), 0.3);
  EXPECT_EQ(rig.cues[4].axis.value(&AxisDef::frequency), 3) << "named, though the joint has it so";
  EXPECT_EQ(rig.cues[4].axis.value(&AxisDef::high), kNoLimit) << "taken away";
}

TEST(RigFile, EveryDemoFitsTheSchemaAndReadsBackTheSame) {
  std::set<std::string> types;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(DEMO_FOLDER)) {
    if (entry.path().extension() != ".json") continue;
    const std::string text = contentOf(entry.path());
    EXPECT_TRUE(fits(text)) << entry.path();
    const Rig rig = loadRig(entry.path());
    const std::string once = formatRig(rig);
    EXPECT_TRUE(fits(once)) << entry.path();
    EXPECT_TRUE(formatRig(parseRig(once, "x")) == once) << entry.path();
    for (const Joint& j : rig.joints) types.insert(word(j.type));
  }
  for (const auto& [type, name] : kJointWords) EXPECT_TRUE(types.count(name)) << "no demo has a " << name << " joint";
}

struct BadWord {
  const char *from, *to, *place, *word;
};
class BadEverything : public testing::TestWithParam<BadWord> {};

TEST_P(BadEverything, NamesThePlaceAndTheThing) {
  std::string text = kEverything;
  const auto at = text.find(GetParam().from);
  ASSERT_NE(at, std::string::npos);
  text.replace(at, std::string(GetParam().from).size(), GetParam().to);
  const std::string fault = faultOfText(text);
  EXPECT_NE(fault.find(GetParam().place), std::string::npos) << fault;
  EXPECT_NE(fault.find(GetParam().word), std::string::npos) << fault;
}

INSTANTIATE_TEST_SUITE_P(
    Kinds, BadEverything,
    testing::Values(BadWord{"[1,0,0],[0,1,0],[0,0,1]]", "[1,0,0],[0,1,0],[1,1,0]]", "parts[0].shape", "one plane"},
                    BadWord{"[[0.3, 0.01, 0]", "[[0.3, 0.02, 0]", "parts[0].inertia_kg_m2", "symmetric"},
                    BadWord{"\"triangles\": [[0,1,2]]", "\"triangles\": [[0,1,7]]", "parts[2].shape", "corner 7"},
                    BadWord{"\"heights_m\": [0, 0.1, 0, 0.2]", "\"heights_m\": [0]", "parts[3].shape", "4 heights"},
                    BadWord{"\"role\": \"static\", \"position_m\": [0, -0.5, 0]", "\"position_m\": [0, -0.5, 0]",
                            "slope", "volume"},
                    BadWord{"{\"at_s\": 0}", "{\"at_s\": 5}", "parts[4].motion", "after the one before"},
                    BadWord{"\"about\": [1, 0, 0]", "\"along\": [1, 0, 0], \"about\": [1, 0, 0]", "waves[1]", "either"},
                    BadWord{"\"locked_turn\": [\"x\", \"y\"]", "\"locked_turn\": [\"w\"]", "locked_turn[0]", "\"w\""},
                    BadWord{"\"frequency_Hz\": 3, \"damping_ratio\"", "\"stiffness\": 3, \"damping_ratio\"",
                            "joints[1].axes[2]", "frequency_Hz"},
                    BadWord{"\"spring_cap\": 50", "\"spring_cap\": 0", "arm", "cap"},
                    BadWord{"\"restitution\": 0.5", "\"restitution\": 1.5", "arm", "restitution"},
                    BadWord{"\"cone_rad\": [0.5, 0.8]", "\"cone_rad\": [0.5]", "joints[1].cone_rad", "two angles"},
                    BadWord{"\"ratio\": -0.25", "\"ratio\": 0", "teeth", "ratio"},
                    BadWord{"\"on\": \"b\"", "\"on\": \"moon\"", "joints[0].route[1].on", "moon"},
                    BadWord{"\"type\": \"wind\"", "\"type\": \"rain\"", "fields[0].type", "rain"},
                    BadWord{"\"do\": \"cut\"", "\"do\": \"sing\"", "cues[3].do", "sing"},
                    BadWord{"\"when_parted\": \"arm\"", "\"when_parted\": \"leg\"", "cues[1].when_parted", "leg"},
                    BadWord{"\"axis\": 3", "\"axis\": 9", "cues[4].axis", "1 to 4"}));

TEST(RigFile, TruncatedAnywhereGivesAFaultAndNothingElse) {
  const std::string text = smallRig();
  for (std::size_t length = 0; length + 2 < text.size(); length += 7)
    EXPECT_NE(faultOfText(text.substr(0, length)), "accepted") << length;
}

TEST(RigFile, DeepNestingAndNoiseAreRefused) {
  EXPECT_NE(faultOfText(std::string(100000, '[')), "accepted");
  EXPECT_NE(faultOfText(std::string("\0\xff\xfe binary", 10)), "accepted");
  EXPECT_NE(faultOfText(""), "accepted");
  EXPECT_NE(faultOfText("[]"), "accepted");
}

class InFolder : public testing::Test {
 protected:
  std::filesystem::path folder = std::filesystem::temp_directory_path() / ("calm-tether-" + std::to_string(::getpid()));
  void SetUp() override { std::filesystem::create_directories(folder); }
  void TearDown() override { std::filesystem::remove_all(folder); }
};
using RigOnDisk = InFolder;

TEST_F(RigOnDisk, SavesAndLoads) {
  const auto path = folder / "hoist.rig.json";
  saveRig(jibHoistSlice(), path);
  EXPECT_TRUE(formatRig(loadRig(path)) == formatRig(jibHoistSlice()));
  EXPECT_FALSE(std::filesystem::exists(path.string() + ".part"));
}

// Root may write anywhere, so the folder that cannot be written is one that is not there, or a file.
TEST_F(RigOnDisk, AFolderThatCannotBeWrittenIsNamedAndNothingIsLost) {
  EXPECT_THROW(saveRig(jibHoistSlice(), folder / "missing" / "x.rig.json"), FileError);
  const auto path = folder / "kept.rig.json";
  saveRig(jibHoistSlice(), path);
  const std::string before = formatRig(loadRig(path));
  std::filesystem::create_directory(path.string() + ".part");  // the new file cannot be begun
  try {
    saveRig(Rig{}, path);
    FAIL() << "saved";
  } catch (const FileError& e) {
    EXPECT_NE(std::string(e.what()).find("kept.rig.json"), std::string::npos);
    EXPECT_NE(std::string(e.what()).find("untouched"), std::string::npos);
  }
  EXPECT_TRUE(formatRig(loadRig(path)) == before);
}

TEST_F(RigOnDisk, AFullDiskLeavesTheOldFile) {
  if (!std::filesystem::exists("/dev/full")) return;
  const auto path = folder / "full.rig.json";
  saveRig(jibHoistSlice(), path);
  const std::string before = formatRig(loadRig(path));
  std::filesystem::create_symlink("/dev/full", path.string() + ".part");
  EXPECT_THROW(saveRig(Rig{}, path), FileError);
  EXPECT_TRUE(formatRig(loadRig(path)) == before);
}

TEST_F(RigOnDisk, MissingFilesAndFoldersAreNamed) {
  EXPECT_THROW(loadRig(folder / "none.rig.json"), FileError);
  EXPECT_THROW(loadRig(folder), FileError);
}

}  // namespace
}  // namespace calm::rig
