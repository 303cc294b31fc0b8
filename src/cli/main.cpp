// SPDX-License-Identifier: GPL-3.0-or-later
// calm-tether-cli: runs rigs without a screen.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <fstream>
#include <iostream>
#include <sstream>

#include "exchange/mesh/stand_in.h"
#include "rig/demos.h"
#include "rig/edits.h"
#include "rig/file.h"
#include "rig/units.h"
#include "run/report.h"

namespace {

using namespace calm;

struct RunCommand {
  std::string rig, report, csv;
  std::optional<double> seconds, hz, every;
  std::optional<int> substeps;

  void declare(CLI::App& app) {
    app.add_option("RIG", rig, "The rig file to run (see docs/rig-format.md)")->required();
    app.add_option("--seconds", seconds, "How long to simulate, in s (default: the stage's duration)")
        ->check([](const std::string& text) {
          const auto value = rig::parseQuantity(text, rig::Dimension::number);
          const bool good = value && *value >= 1e-6 && *value <= 1e6;
          return good ? std::string() : "\"" + text + "\" is no number of seconds from 1e-6 to 1e6";
        });
    app.add_option("--hz", hz, "Frames a second, in Hz (default: the stage's)")->check(CLI::Range(1.0, 1e5));
    app.add_option("--every", every, "Interval of the readings in report and table, in s (default: every frame)")
        ->check(CLI::Range(1e-5, 1e6));
    app.add_option("--substeps", substeps, "Substeps a frame, a count (default: the stage's)")
        ->check(CLI::Range(1, 10000));
    app.add_option("--report", report, "Write the report here, as JSON: peaks and end values in SI units");
    app.add_option("--csv", csv, "Write poses (m, unit quaternions) and joint readings (N, N m, m) over time here");
  }

  void execute() const {
    rig::Rig rigNow = rig::loadRig(rig);
    if (substeps) rigNow.stage.substeps = *substeps;
    if (hz) rigNow.stage.frameRate = *hz;
    std::ostringstream table;
    run::RunOptions options;
    options.seconds = seconds.value_or(rigNow.stage.duration);
    options.every = every;
    if (!csv.empty()) {
      run::writeCsvHeader(table, rigNow);
      const long stride = every ? std::max(1L, std::lround(*every * rigNow.stage.frameRate)) : 1;
      options.onFrame = [&, stride, frame = 0L](const run::CompiledRig& run) mutable {
        if (frame++ % stride == 0) run::writeCsvRow(table, run);
      };
    }
    const run::RunResult result = run::runToEnd(rigNow, options);
    if (!report.empty()) rig::writeWholeFile(report, run::formatReport(rigNow, result));
    if (!csv.empty()) rig::writeWholeFile(csv, table.str());
    print(rigNow, result);
  }

  static void print(const rig::Rig& rigNow, const run::RunResult& r) {
    std::cout << fmt::format("{}: {:.3f} s in {:.3f} s ({:.1f} x real time), {} parts, {} joints\n", rigNow.name,
                             r.simulated, r.wall, r.wall > 0 ? r.simulated / r.wall : 0, rigNow.parts.size(),
                             rigNow.joints.size());
    std::cout << fmt::format("energy {:.6g} J -> {:.6g} J, largest separation {:.3g} mm\n", r.energyStart.total(),
                             r.end.energy.total(), r.residual.linear * 1e3);
    if (r.residual.overBudget) std::cout << "the separation asked for could not be reached in every frame\n";
    std::size_t worst = 0;
    for (std::size_t j = 0; j < r.joints.size(); ++j) {
      if (r.joints[j].peak.force > r.joints[worst].peak.force) worst = j;
      if (r.joints[j].partedAt)
        std::cout << fmt::format("parted: {} at {:.3f} s\n", rigNow.joints[j].name, *r.joints[j].partedAt);
    }
    if (!r.joints.empty())
      std::cout << fmt::format("largest force {:.4g} N in {}, at {:.3f} s\n", r.joints[worst].peak.force,
                               rigNow.joints[worst].name, r.joints[worst].forceAt);
  }
};

struct ImportCommand {
  std::string mesh, rig, kind = "convex hull", unit = "1 m";
  bool zUp = false;
  double density = 1000;
  exchange::StandInOptions options;

  void declare(CLI::App& app) {
    std::vector<std::string> kinds;
    for (const auto& [k, word] : exchange::kStandInWords) kinds.emplace_back(word);
    app.add_option("MESH", mesh, "The mesh: .obj, .stl, .ply, .gltf or .glb")->required();
    app.add_option("RIG", rig, "The rig to write, with one part for each mesh of the file")->required();
    app.add_option("--as", kind, "What stands in for the mesh")->check(CLI::IsMember(kinds))->capture_default_str();
    app.add_option("--unit", unit, "How long one of the file's units is, as in \"1 mm\"")->capture_default_str();
    app.add_flag("--z-up", zUp, "The file's z axis points up");
    app.add_option("--pieces", options.pieces, "Convex pieces at most")
        ->check(CLI::Range(1, 1000))
        ->capture_default_str();
    app.add_option("--density", density, "kg/m3")->check(CLI::PositiveNumber)->capture_default_str();
  }

  void execute() {
    const auto metres = rig::parseQuantity(unit, rig::Dimension::length);
    if (!metres || *metres <= 0) throw std::runtime_error("--unit: \"" + unit + "\" is no length above 0");
    for (const auto& [k, word] : exchange::kStandInWords)
      if (kind == word) options.kind = k;
    rig::Rig made;
    made.name = std::filesystem::path(mesh).stem().string();
    for (const exchange::ImportedMesh& m : exchange::readMeshes(mesh, {*metres, zUp})) {
      rig::Part part = exchange::standIn(m, options);
      part.heft = rig::Density{density};
      const FitCheck check = exchange::checkStandIn(m, part);
      rig::addPart(made, part);
      std::cout << fmt::format("{}: {}, covers {:.1f} %, {:.1f} % of it empty, at most {:.3g} mm outside\n",
                               made.parts.back().name, rig::word(part.shape), 100 * check.covered, 100 * check.excess,
                               1e3 * check.pokesOut);
    }
    rig::saveRig(made, rig);
  }
};

}  // namespace

int main(int argc, char** argv) {
  CLI::App app("Calm Tether: runs rigs of jointed parts without a screen", "calm-tether-cli");
  app.require_subcommand(1);
  app.set_version_flag("--version", CALM_VERSION);
  app.failure_message(
      [](const CLI::App*, const CLI::Error& e) { return fmt::format("calm-tether-cli: {} (see --help)\n", e.what()); });
  RunCommand run;
  CLI::App* runApp = app.add_subcommand("run", "Run a rig and report what its joints went through");
  run.declare(*runApp);
  std::string demoFile;
  CLI::App* demoApp = app.add_subcommand("demo", "Write the demo rig, Saltmarsh Quay: jib hoist (slice), to a file");
  demoApp->add_option("FILE", demoFile, "Where to write it")->required();
  ImportCommand import;
  CLI::App* importApp = app.add_subcommand("import", "Make a rig of parts that stand in for the meshes of a file");
  import.declare(*importApp);
  CLI11_PARSE(app, argc, argv);
  try {
    if (*runApp) run.execute();
    if (*importApp) import.execute();
    if (*demoApp) rig::saveRig(rig::jibHoistSlice(), demoFile);
  } catch (const std::exception& e) {
    std::cerr << "calm-tether-cli: " << e.what() << '\n';
    return 1;
  }
  return 0;
}
