// SPDX-License-Identifier: GPL-3.0-or-later
#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iostream>

#include "commands.h"
#include "exchange/recording/hdf5.h"
#include "rig/file.h"
#include "rig/units.h"
#include "run/report.h"

namespace calm::cli {

namespace {

// A table that is written as the run goes on, and put in its place once it is whole.
class Table {
 public:
  explicit Table(const std::string& path) : path_(path), file_(path + ".part", std::ios::binary) { check(); }
  ~Table() {
    std::error_code ignored;
    if (!whole_) std::filesystem::remove(path_ + ".part", ignored);
  }
  Table(const Table&) = delete;
  Table& operator=(const Table&) = delete;
  std::ostream& rows() { return file_; }
  void finish() {
    file_.close();
    check();
    std::filesystem::rename(path_ + ".part", path_);
    whole_ = true;
  }

 private:
  void check() const {
    if (!file_) throw std::runtime_error(path_ + ": cannot be written");
  }
  std::string path_;
  std::ofstream file_;
  bool whole_ = false;
};

struct RunCommand {
  std::string rig, report, csv, recording, name;
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
    app.add_option("--recording", recording, "Keep the whole run here as HDF5 (see docs/recording-format.md)");
    app.add_option("--name", name, "What the recording is called");
  }

  void execute() const {
    rig::Rig rigNow = rig::loadRig(rig);
    if (substeps) rigNow.stage.substeps = *substeps;
    if (hz) rigNow.stage.frameRate = *hz;
    run::RunOptions options;
    options.seconds = seconds.value_or(rigNow.stage.duration);
    options.every = every;
    std::optional<Table> table;
    std::optional<exchange::RecordingWriter> writer;
    std::vector<double> partedAt;
    if (!csv.empty()) run::writeCsvHeader(table.emplace(csv).rows(), rigNow);
    if (!recording.empty()) writer.emplace(recording, rigNow, name);
    const long stride = every ? std::max(1L, std::lround(*every * rigNow.stage.frameRate)) : 1;
    options.onFrame = [&, frame = 0L](const run::CompiledRig& run, const Residual& residual) mutable {
      if (table && frame++ % stride == 0) run::writeCsvRow(table->rows(), run);
      if (!writer) return;
      const run::FrameData sample = run::sampleOf(run, residual);
      partedAt = sample.partedAt;
      writer->append(sample);
    };
    const run::RunResult result = run::runToEnd(rigNow, options);
    if (!report.empty()) rig::writeWholeFile(report, run::formatReport(rigNow, result));
    if (table) table->finish();
    if (writer) writer->finish(partedAt);
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

}  // namespace

void addRun(CLI::App& app) {
  CLI::App* command = app.add_subcommand("run", "Run a rig and report what its joints went through");
  auto options = std::make_shared<RunCommand>();
  options->declare(*command);
  command->callback([options] { options->execute(); });
}

}  // namespace calm::cli
