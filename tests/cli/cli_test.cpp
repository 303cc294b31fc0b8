// SPDX-License-Identifier: GPL-3.0-or-later
// The command line as its user meets it: the real program, its files, its exit codes.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

namespace {

struct Outcome {
  int code;
  std::string text;  // both streams
};

Outcome cli(const std::string& arguments, const std::string& environment = {}) {
  FILE* pipe = popen((environment + " " + CLI_PROGRAM + " " + arguments + " 2>&1").c_str(), "r");
  std::string text;
  std::array<char, 4096> buffer;
  while (const std::size_t n = fread(buffer.data(), 1, buffer.size(), pipe)) text.append(buffer.data(), n);
  return {WEXITSTATUS(pclose(pipe)), text};
}

class Cli : public testing::Test {
 protected:
  std::filesystem::path folder = std::filesystem::temp_directory_path() / ("calm-cli-" + std::to_string(getpid()));
  void SetUp() override { std::filesystem::create_directories(folder); }
  void TearDown() override { std::filesystem::remove_all(folder); }
  std::string at(const char* name) const { return (folder / name).string(); }
  std::string demo() const {
    cli("demo " + at("demo.rig.json"));
    return at("demo.rig.json");
  }
  void expectOneClearLine(const Outcome& o, const std::string& word) const {
    EXPECT_NE(o.code, 0);
    EXPECT_EQ(std::count(o.text.begin(), o.text.end(), '\n'), 1) << o.text;
    EXPECT_THAT(o.text, testing::HasSubstr(word));
  }
};

TEST_F(Cli, RunsTheDemoAndWritesReportAndTable) {
  const Outcome o =
      cli("run " + demo() + " --seconds 2 --substeps 4 --report " + at("r.json") + " --csv " + at("r.csv"));
  EXPECT_EQ(o.code, 0) << o.text;
  std::ifstream file(at("r.json"));
  const nlohmann::json report = nlohmann::json::parse(file);
  EXPECT_EQ(report.at("joints").size(), 41u);
  EXPECT_NEAR(report.at("run").at("simulated_s").get<double>(), 2, 1e-9);
  std::ifstream table(at("r.csv"));
  std::string line;
  int rows = 0;
  while (std::getline(table, line)) ++rows;
  EXPECT_EQ(rows, 1 + 121);
}

// Contacts are swept in registers of up to 512 bits where the processor has them.
TEST_F(Cli, GivesTheSameBitsOnNarrowProcessors) {
  nlohmann::json rig = {{"format", "calm-tether-rig"}, {"version", 1}, {"parts", nlohmann::json::array()}};
  for (int i = 0; i < 12; ++i)
    rig["parts"].push_back({{"id", i + 1},
                            {"name", "crate " + std::to_string(i)},
                            {"shape", {{"type", "box"}, {"size_m", {0.5, 0.5, 0.5}}}},
                            {"mass_kg", 10},
                            {"position_m", {0.1 * (i % 3), 0.3 + 0.6 * i, 0.05 * (i % 2)}},
                            {"velocity_m_s", {0.3 * (i % 2), 0, 0}}});
  std::ofstream(at("crates.rig.json")) << rig;
  const auto readings = [&](const char* environment, const char* name) {
    const std::string arguments = "run " + at("crates.rig.json") + " --seconds 3 --csv " + at(name);
    const Outcome o = cli(arguments, environment);
    EXPECT_EQ(o.code, 0) << o.text;
    std::ifstream table(at(name));
    return std::string(std::istreambuf_iterator<char>(table), {});
  };
  const std::string widest = readings("", "widest.csv");
  EXPECT_GT(widest.size(), 10000u);
  for (const char* bits : {"256", "128"})
    EXPECT_TRUE(widest == readings((std::string("CALM_TETHER_REGISTER_BITS=") + bits).c_str(), "narrow.csv"))
        << "the tables differ at " << bits << " bits";
}

TEST_F(Cli, TheStoriesOfTheHarbourEndAsExpected) {
  for (const char* story : {"jib-hoist", "mooring", "lock-gates"}) {
    const Outcome o = cli(std::string("check ") + DEMO_FOLDER + "/" + story + ".rig.json");
    EXPECT_EQ(o.code, 0) << o.text;
    EXPECT_THAT(o.text, testing::Not(testing::HasSubstr("FAILED")));
  }
}

// Which strength of a sling lifts 350 kg, and gives way under 800? There is one, and it is told with its margin.
TEST_F(Cli, TheHoistsSlingsHaveAnIntervalOfStrength) {
  std::ifstream file(std::string(DEMO_FOLDER) + "/jib-hoist.rig.json");
  nlohmann::json rig = nlohmann::json::parse(file);
  for (const int mass : {350, 800}) {
    for (auto& part : rig.at("parts"))
      if (part.at("name") == "stone block") part["mass_kg"] = mass;
    std::ofstream(at(mass == 350 ? "holds.rig.json" : "parts.rig.json")) << rig;
  }
  const Outcome o = cli("strength " + at("holds.rig.json") + " " + at("parts.rig.json") + " --joint \"inner sling\"");
  EXPECT_EQ(o.code, 0) << o.text;
  EXPECT_THAT(o.text, testing::HasSubstr("is safe by a factor of"));
}

TEST_F(Cli, KeepsTheWholeRunAsHdf5) {
  const Outcome o = cli("run " + demo() + " --seconds 1 --recording " + at("run.h5") + " --name swing");
  EXPECT_EQ(o.code, 0) << o.text;
  std::ifstream file(at("run.h5"), std::ios::binary);
  std::string signature(8, '\0');
  file.read(signature.data(), 8);
  EXPECT_EQ(signature, "\x89HDF\r\n\x1a\n") << "the HDF5 file format's own";
  EXPECT_GT(std::filesystem::file_size(at("run.h5")), 50000u);
  for (const char* option : {"--recording ", "--csv "})
    expectOneClearLine(cli("run " + demo() + " --seconds 0.1 " + option + at("no/such/folder/x")), "cannot be written");
  // A run that cannot go on leaves nothing half written.
  std::ofstream(at("bad.rig.json")) << R"({"format": "calm-tether-rig", "version": 1, "parts": [
    {"id": 1, "name": "net", "role": "static", "density_kg_m3": 100,
     "shape": {"type": "mesh", "vertices_m": [[0,0,0],[1,0,0],[0,0,1]], "triangles": [[0,2,1]]}}],
    "cues": [{"at_s": 0.5, "do": "role", "part": "net", "role": "dynamic"}]})";
  expectOneClearLine(cli("run " + at("bad.rig.json") + " --csv " + at("bad.csv") + " --recording " + at("bad.h5")),
                     "cue 1 (role) at 0.500 s");
  for (const char* left : {"bad.csv", "bad.csv.part", "bad.h5", "bad.h5.part"})
    EXPECT_FALSE(std::filesystem::exists(at(left))) << left;
}

TEST_F(Cli, ReadingsComeAtTheIntervalAndRateAskedFor) {
  const std::string rig = at("gate.rig.json");
  std::ofstream(rig) << R"({"format": "calm-tether-rig", "version": 1, "stage": {"ground": null}, "parts": [
    {"id": 1, "name": "leaf", "shape": {"type": "box", "size_m": [1, 1, 0.05]}, "position_m": [0.5, 0, 0], "mass_kg": 12}],
    "joints": [{"id": 2, "name": "pin", "type": "hinge", "a": null, "b": "leaf", "pivot_m": [0, 0, 0], "axis": [0, 1, 0],
                "axes": [{"motor_speed": 2, "motor_cap": 1}]}],
    "cues": [{"at_s": 0.5, "do": "axis", "joint": "pin", "axis": 1, "settings": {"motor_cap": 0}}]})";
  const Outcome o =
      cli("run " + rig + " --seconds 1 --hz 240 --every 0.25 --report " + at("r.json") + " --csv " + at("r.csv"));
  ASSERT_EQ(o.code, 0) << o.text;
  std::ifstream file(at("r.json"));
  const nlohmann::json report = nlohmann::json::parse(file);
  EXPECT_EQ(report.at("run").at("steps"), 240);
  const nlohmann::json& readings = report.at("readings");
  ASSERT_EQ(readings.size(), 5u);
  EXPECT_NEAR(readings[1].at("time_s").get<double>(), 0.25, 1e-12);
  // 1 N m on m w^2 / 3 + m t^2 / 12 for a quarter and a half second; then the cue lets go of it.
  const double alpha = 1 / (12.0 / 3 + 12 * 0.05 * 0.05 / 12);
  const auto rate = [&](int i) { return readings[i].at("joints")[0].at("axes")[0].at("rate").get<double>(); };
  EXPECT_NEAR(rate(1), 0.25 * alpha, 1e-6);
  EXPECT_NEAR(rate(2), 0.5 * alpha, 1e-6);
  EXPECT_NEAR(rate(4), 0.5 * alpha, 1e-6);
  EXPECT_EQ(readings[1].at("joints")[0].at("axes")[0].at("active")[0], "motor at cap");
  EXPECT_NEAR(report.at("joints")[0].at("end").at("axes")[0].at("work_J").get<double>(),
              report.at("run").at("energy_end").at("kinetic_J").get<double>(), 1e-4);
  std::ifstream table(at("r.csv"));
  std::string line;
  int rows = 0;
  while (std::getline(table, line)) ++rows;
  EXPECT_EQ(rows, 1 + 5);
}

TEST_F(Cli, HelpExplainsEveryOptionWithItsUnit) {
  const Outcome o = cli("run --help");
  EXPECT_EQ(o.code, 0);
  for (const char* word : {"--seconds", "in s", "--substeps", "--report", "--csv", "RIG"})
    EXPECT_THAT(o.text, testing::HasSubstr(word));
}

TEST_F(Cli, BadInputsGiveOneClearLine) {
  const std::string rig = demo();
  expectOneClearLine(cli("run " + at("none.json")), "none.json");
  expectOneClearLine(cli("run " + rig + " --seconds minus"), "--seconds");
  expectOneClearLine(cli("run " + rig + " --seconds -1"), "--seconds");
  expectOneClearLine(cli("run " + rig + " --seconds nan"), "--seconds");
  expectOneClearLine(cli("run " + rig + " --substeps 0"), "--substeps");
  expectOneClearLine(cli("run " + rig + " --wings"), "--wings");
  expectOneClearLine(cli("run"), "RIG");
  expectOneClearLine(cli("fly"), "calm-tether-cli");
  expectOneClearLine(cli("run " + rig + " --seconds 0.1 --report " + at("no/such/r.json")), "r.json");
  std::ofstream(at("bad.json")) << "{\"format\": \"calm-tether-rig\", \"version\": 1, \"parts\": [{\"id\": 1}]}";
  expectOneClearLine(cli("run " + at("bad.json")), "parts[0]");
}

// A block on a rod that swings; what is expected of it is met or not.
std::string swing(const std::string& expectations) {
  return R"({"format": "calm-tether-rig", "version": 1, "stage": {"ground": null, "duration_s": 1}, "parts": [
    {"id": 1, "name": "bob", "shape": {"type": "box", "size_m": [0.2, 0.2, 0.2]}, "position_m": [1, 0, 0], "mass_kg": 3}],
    "joints": [{"id": 2, "name": "pin", "type": "hinge", "a": null, "b": "bob", "pivot_m": [0, 0, 0], "axis": [0, 0, 1]}],
    "expectations": [)" +
         expectations + "]}";
}

TEST_F(Cli, ChecksWhatIsExpectedAndSaysSoByItsExitCode) {
  std::ofstream(at("good.rig.json")) << swing(
      R"({"what": "holds"}, {"what": "stays", "reading": "force of pin", "high": 100})");
  std::ofstream(at("bad.rig.json")) << swing(R"({"what": "stays", "reading": "force of pin", "high": 50})");
  std::ofstream(at("none.rig.json")) << swing("");
  const Outcome good = cli("check " + at("good.rig.json"));
  EXPECT_EQ(good.code, 0) << good.text;
  EXPECT_THAT(good.text, testing::HasSubstr("2 of 2 met"));
  const Outcome bad = cli("check " + at("good.rig.json") + " " + at("bad.rig.json"));
  EXPECT_EQ(bad.code, 2);
  EXPECT_THAT(bad.text, testing::HasSubstr("FAILED  force of pin stays below 50 N"));
  expectOneClearLine(cli("check " + at("none.rig.json")), "nothing is expected");
  const Outcome gates = cli("check " DEMO_FOLDER "/lock-gates.rig.json");
  EXPECT_EQ(gates.code, 0) << gates.text;
}

TEST_F(Cli, SweepsInShardsGoesOnAndMerges) {
  std::ofstream(at("s.rig.json")) << swing("");
  const std::string plan =
      "sweep " + at("s.rig.json") + " --vary \"mass of bob = 1 kg..4 kg : 4\" --read \"peak force of pin\"";
  ASSERT_EQ(cli(plan + " --out " + at("all.csv") + " --jobs 1").code, 0);
  for (const char* shard : {"1", "2"}) {
    const Outcome o = cli(plan + " --shard " + shard + "/2 --out " + at(shard));
    EXPECT_EQ(o.code, 0) << o.text;
  }
  ASSERT_EQ(cli("merge " + at("merged.csv") + " " + at("1") + " " + at("2")).code, 0);
  const auto read = [&](const char* name) {
    std::ifstream file(at(name));
    return std::string(std::istreambuf_iterator<char>(file), {});
  };
  EXPECT_EQ(read("merged.csv"), read("all.csv"));
  const std::string whole = read("all.csv");
  std::ofstream(at("cut.csv")) << whole.substr(0, whole.size() - 5);
  const Outcome on = cli(plan + " --out " + at("cut.csv"));
  EXPECT_THAT(on.text, testing::HasSubstr("4 of 4 points, 1 of them now"));
  EXPECT_EQ(read("cut.csv"), whole);
  expectOneClearLine(cli("sweep " + at("s.rig.json") + " --vary \"colour of bob = 1, 2\" --out " + at("x.csv")),
                     "colour of bob");
  expectOneClearLine(cli(plan + " --shard 3/2 --out " + at("x.csv")), "3/2");
  EXPECT_FALSE(std::filesystem::exists(at("x.csv"))) << "nothing is left half-written";
}

TEST_F(Cli, ComparesRunsAndFindsTheStrengthBetweenThem) {
  std::string light = swing(""), heavy = light;
  heavy.replace(heavy.find("\"mass_kg\": 3"), 12, "\"mass_kg\": 9");
  std::ofstream(at("light.rig.json")) << light;
  std::ofstream(at("heavy.rig.json")) << heavy;
  const Outcome changes = cli("compare " + at("light.rig.json") + " " + at("heavy.rig.json"));
  EXPECT_EQ(changes.code, 0) << changes.text;
  EXPECT_THAT(changes.text, testing::HasSubstr("peak force of pin"));
  const Outcome found = cli("strength " + at("light.rig.json") + " " + at("heavy.rig.json") + " --joint pin");
  EXPECT_EQ(found.code, 0) << found.text;
  EXPECT_THAT(found.text, testing::HasSubstr("factor of 1.73")) << "three times the mass: the root of three each way";
  expectOneClearLine(cli("strength " + at("heavy.rig.json") + " " + at("light.rig.json") + " --joint pin"),
                     "no strength will do");
  expectOneClearLine(cli("strength " + at("light.rig.json") + " " + at("heavy.rig.json") + " --joint nail"), "nail");
}

TEST_F(Cli, ImportsAMesh) {
  std::ofstream(at("tri.obj")) << "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n";
  const Outcome o = cli("import " + at("tri.obj") + " " + at("tri.rig.json") + " --unit \"1 cm\"");
  EXPECT_EQ(o.code, 0) << o.text;
  EXPECT_THAT(o.text, testing::HasSubstr("covers 100.0 %"));
  EXPECT_EQ(cli("run " + at("tri.rig.json") + " --seconds 0.1").code, 0);
  expectOneClearLine(cli("import " + at("none.obj") + " " + at("x.rig.json")), "none.obj");
}

}  // namespace
