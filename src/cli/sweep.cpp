// SPDX-License-Identifier: GPL-3.0-or-later
// sweep: one or two settings over ranges; merge: tables of shards as one.
#include "run/sweep.h"

#include <fmt/format.h>

#include <csignal>
#include <fstream>
#include <iostream>
#include <sstream>
#include <thread>

#include "commands.h"
#include "rig/file.h"

namespace calm::cli {

namespace {

std::atomic<bool> stopAsked{false};

std::string readText(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  if (!in) throw std::runtime_error(file + ": cannot be read");
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

struct SweepCommand {
  std::string rig, out, shard = "1/1";
  std::vector<std::string> vary, read;
  int jobs = static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));

  void declare(CLI::App& app) {
    app.add_option("RIG", rig, "The rig whose settings are varied")->required();
    app.add_option("--vary", vary,
                   "A setting and its values: \"mass of crate = 1 kg..5 kg : 9\", \"... : 9 log\" or \"= 1 kg, 3 kg\"; "
                   "once or twice")
        ->required()
        ->expected(1, 2)
        ->take_all();
    app.add_option("--read", read,
                   "What to keep of each run: \"peak force of NAME\", \"end energy\", \"parting of NAME\"")
        ->take_all();
    app.add_option("--out", out, "The CSV table; if it was begun, it is gone on with")->required();
    app.add_option("--shard", shard, "Only every n-th point, from the i-th on, as i/n")->capture_default_str();
    app.add_option("--jobs", jobs, "Runs at a time")->check(CLI::Range(1, 1024))->capture_default_str();
  }

  void execute() const {
    run::SweepPlan plan;
    plan.rig = rig::loadRig(rig);
    for (const std::string& v : vary) plan.axes.push_back(run::sweepAxis(v, plan.rig));
    for (const std::string& r : read) plan.outcomes.push_back(run::outcomeFrom(r, plan.rig));
    run::SweepOptions options;
    int i = 0, n = 0, used = 0;
    if (std::sscanf(shard.c_str(), "%d/%d%n", &i, &n, &used) != 2 || used != static_cast<int>(shard.size()) || i < 1 ||
        i > n)
      throw std::runtime_error("--shard: expected i/n with i from 1 to n, not \"" + shard + "\"");
    options.shard = i - 1, options.shards = n;
    options.threads = jobs;
    options.stop = &stopAsked;
    // What is there already is kept, whole points only.
    std::string table = run::sweepHeader(plan);
    options.done.assign(plan.points(), 0);
    std::size_t known = 0;
    if (std::filesystem::exists(out))
      for (const run::SweepPoint& p : run::readSweep(readText(out), plan)) {
        table += run::sweepRow(p);
        known += !std::exchange(options.done[p.index], 1);
      }
    rig::writeWholeFile(out, table);
    std::ofstream rows(out, std::ios::app | std::ios::binary);
    if (!rows) throw std::runtime_error(out + ": cannot be written");
    std::size_t made = 0;
    options.onPoint = [&](const run::SweepPoint& point) {
      rows << run::sweepRow(point) << std::flush;
      if (!rows) throw std::runtime_error(out + ": cannot be written");
      ++made;
    };
    std::signal(SIGINT, [](int) { stopAsked = true; });
    std::signal(SIGTERM, [](int) { stopAsked = true; });
    run::sweep(plan, options);
    std::cout << fmt::format("{}: {} of {} points, {} of them now{}\n", out, known + made, plan.points(), made,
                             stopAsked ? "; stopped, the same command goes on" : "");
  }
};

}  // namespace

void addSweep(CLI::App& app) {
  CLI::App* command = app.add_subcommand("sweep", "Vary one or two settings and keep what came of each run");
  auto options = std::make_shared<SweepCommand>();
  options->declare(*command);
  command->callback([options] { options->execute(); });
}

void addMerge(CLI::App& app) {
  CLI::App* command = app.add_subcommand("merge", "Put the tables of a sweep's shards together");
  auto out = std::make_shared<std::string>();
  auto files = std::make_shared<std::vector<std::string>>();
  command->add_option("OUT", *out, "The table to write")->required();
  command->add_option("TABLE", *files, "The shards' tables")->required();
  command->callback([out, files] {
    std::vector<std::string> tables;
    for (const std::string& file : *files) tables.push_back(readText(file));
    rig::writeWholeFile(*out, run::mergeSweeps(tables));
  });
}

}  // namespace calm::cli
