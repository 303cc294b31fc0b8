// SPDX-License-Identifier: GPL-3.0-or-later
// calm-tether-cli: runs rigs without a screen.
#include <fmt/format.h>

#include <iostream>

#include "commands.h"

int main(int argc, char** argv) {
  using namespace calm::cli;
  CLI::App app("Calm Tether: runs rigs of jointed parts without a screen", "calm-tether-cli");
  app.require_subcommand(1);
  app.set_version_flag("--version", CALM_VERSION);
  app.failure_message(
      [](const CLI::App*, const CLI::Error& e) { return fmt::format("calm-tether-cli: {} (see --help)\n", e.what()); });
  int exitCode = 0;
  addRun(app);
  addCheck(app, exitCode);
  addCompare(app);
  addStrength(app);
  addSweep(app);
  addMerge(app);
  addImport(app);
  addDemo(app);
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    return app.exit(e);
  } catch (const std::exception& e) {
    std::cerr << "calm-tether-cli: " << e.what() << '\n';
    return 1;
  }
  return exitCode;
}
