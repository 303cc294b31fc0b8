// SPDX-License-Identifier: GPL-3.0-or-later
// The commands of calm-tether-cli, one file each: what they ask for and what they do.
#pragma once

#include <CLI/CLI.hpp>

namespace calm::cli {

// Each adds its subcommand; what it did is the exit code: 0 all is well, 2 something expected was not met. Errors are
// exceptions.
void addRun(CLI::App& app);
void addDemo(CLI::App& app);
void addImport(CLI::App& app);
void addCheck(CLI::App& app, int& exitCode);
void addCompare(CLI::App& app);
void addStrength(CLI::App& app);
void addSweep(CLI::App& app);
void addMerge(CLI::App& app);

}  // namespace calm::cli
