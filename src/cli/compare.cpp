// SPDX-License-Identifier: GPL-3.0-or-later
// compare: two rigs' runs side by side; strength: between which strengths a joint holds the one and parts in the other.
#include "run/compare.h"

#include <fmt/format.h>

#include <cmath>
#include <iostream>

#include "commands.h"
#include "rig/file.h"

namespace calm::cli {

namespace {

std::shared_ptr<const run::Recording> recordFile(const std::string& file, const std::string& unbreakable = {}) {
  rig::Rig rig = rig::loadRig(file);
  for (rig::Joint& j : rig.joints)
    if (j.name == unbreakable) j.breakForce.reset(), j.breakTorque.reset();
  return run::record(std::make_shared<const rig::Rig>(std::move(rig)));
}

std::string words(const run::Change& c, double value) {
  return std::isnan(value) ? "-" : rig::formatQuantity(value, c.dimension, 4);
}

rig::Id jointNamed(const run::Recording& recording, const std::string& name) {
  for (const rig::Joint& j : recording.rig().joints)
    if (j.name == name) return j.id;
  throw std::runtime_error(recording.rig().name + ": there is no joint \"" + name + "\"");
}

}  // namespace

void addCompare(CLI::App& app) {
  CLI::App* command = app.add_subcommand("compare", "Run two rigs and tell what changed from the first to the second");
  auto files = std::make_shared<std::vector<std::string>>();
  command->add_option("RIG", *files, "The two rigs")->required()->expected(2);
  command->callback([files] {
    const auto before = recordFile(files->at(0)), after = recordFile(files->at(1));
    for (const run::Change& c : run::compare(*before, *after))
      std::cout << fmt::format("{:40} {:>12} {:>12}\n", c.what, words(c, c.before), words(c, c.after));
  });
}

void addStrength(CLI::App& app) {
  CLI::App* command = app.add_subcommand(
      "strength", "Between which break strengths a joint holds one rig's run and parts in another's");
  auto files = std::make_shared<std::vector<std::string>>();
  auto joint = std::make_shared<std::string>();
  command->add_option("RIG", *files, "The rig in which it must hold, and the one in which it must part")
      ->required()
      ->expected(2);
  command->add_option("--joint", *joint, "The joint's name")->required();
  command->callback([files, joint] {
    const auto holds = recordFile(files->at(0), *joint), parts = recordFile(files->at(1), *joint);
    jointNamed(*parts, *joint);
    // Each rig knows the joint by its own identity.
    const run::StrengthInterval interval{run::strengthBetween(*holds, *holds, jointNamed(*holds, *joint)).low,
                                         run::strengthBetween(*parts, *parts, jointNamed(*parts, *joint)).high};
    const auto newtons = [](double v) { return rig::formatQuantity(v, rig::Dimension::force, 4); };
    if (!interval.isValid())
      throw std::runtime_error(
          fmt::format("no strength will do: it carries {} where it must hold, and only {} where it "
                      "must part",
                      newtons(interval.low), newtons(interval.high)));
    std::cout << fmt::format("{}: above {}, below {}; {} is safe by a factor of {:.3g} each way\n", *joint,
                             newtons(interval.low), newtons(interval.high), newtons(interval.middle()),
                             interval.margin());
  });
}

}  // namespace calm::cli
