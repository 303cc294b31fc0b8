// SPDX-License-Identifier: GPL-3.0-or-later
#include <fmt/format.h>

#include <iostream>

#include "commands.h"
#include "exchange/mesh/stand_in.h"
#include "rig/demos.h"
#include "rig/edits.h"
#include "rig/file.h"

namespace calm::cli {

namespace {

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

void addImport(CLI::App& app) {
  CLI::App* command = app.add_subcommand("import", "Make a rig of parts that stand in for the meshes of a file");
  auto options = std::make_shared<ImportCommand>();
  options->declare(*command);
  command->callback([options] { options->execute(); });
}

void addDemo(CLI::App& app) {
  CLI::App* command = app.add_subcommand("demo", "Write the demo rig, Saltmarsh Quay: jib hoist (slice), to a file");
  auto file = std::make_shared<std::string>();
  command->add_option("FILE", *file, "Where to write it")->required();
  command->callback([file] { rig::saveRig(rig::jibHoistSlice(), *file); });
}

}  // namespace calm::cli
