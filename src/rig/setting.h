// SPDX-License-Identifier: GPL-3.0-or-later
// The numbers of a rig that can be varied, by name: for sweeps and remedies.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "rig/model.h"

namespace calm::rig {

struct Setting {
  std::string name;  // "mass of stone block", "suspension stiffness of rear left strut", "links of hoist chain"
  Dimension dimension = Dimension::number;
  std::function<std::optional<double>(const Rig&)> get;  // SI; nothing where it is not set
  std::function<void(Rig&, double)> set;                 // throws std::invalid_argument for what cannot be
};

// Of a part, a joint, a kit's group or, of kNone, the stage. Whole numbers are rounded.
std::vector<Setting> settingsOf(const Rig& rig, Id id);
// The setting of this name, if the rig has one. "break force of *" sets it for every joint, and so on for what all
// joints or all parts have.
std::optional<Setting> settingNamed(const std::string& name, const Rig& rig);

}  // namespace calm::rig
