// SPDX-License-Identifier: GPL-3.0-or-later
// check: runs a rig and judges what is expected of it.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>

#include "commands.h"
#include "rig/file.h"
#include "run/expect.h"

namespace calm::cli {

namespace {
constexpr int kNotMet = 2;
}

void addCheck(CLI::App& app, int& exitCode) {
  CLI::App* command = app.add_subcommand(
      "check", "Run rigs and judge what is expected of them; exit code 0 if all is met, 2 if not, 1 for errors");
  auto files = std::make_shared<std::vector<std::string>>();
  command->add_option("RIG", *files, "The rig files to check")->required();
  command->callback([files, &exitCode] {
    for (const std::string& file : *files) {
      const rig::Rig rig = rig::loadRig(file);
      if (rig.expectations.empty()) throw std::runtime_error(file + ": nothing is expected of this rig");
      const auto recording = run::record(std::make_shared<const rig::Rig>(rig));
      const std::vector<run::Verdict> verdicts = run::judgeAll(*recording);
      for (std::size_t i = 0; i < verdicts.size(); ++i)
        std::cout << fmt::format("{}  {} ({})\n", verdicts[i].met ? "met   " : "FAILED",
                                 rig::textOf(rig.expectations[i], rig), verdicts[i].evidence);
      const auto met = std::count_if(verdicts.begin(), verdicts.end(), [](const run::Verdict& v) { return v.met; });
      std::cout << fmt::format("{}: {} of {} met\n", rig.name, met, verdicts.size());
      if (static_cast<std::size_t>(met) < verdicts.size()) exitCode = kNotMet;
    }
  });
}

}  // namespace calm::cli
