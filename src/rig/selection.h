// SPDX-License-Identifier: GPL-3.0-or-later
// Choosing things by how they hang together, by kind and by tag.
#pragma once

#include <set>
#include <string>

#include "rig/model.h"

namespace calm::rig {

// One step further along the rail: the joints of the chosen parts, and the parts of the chosen joints.
std::set<Id> grown(const Rig& rig, const std::set<Id>& ids);
// All that hangs together with what is chosen, up to what is held.
std::set<Id> assemblyOf(const Rig& rig, const std::set<Id>& ids);
// All joints of the chosen joints' types, and all parts of the chosen parts' shapes and roles.
std::set<Id> alike(const Rig& rig, const std::set<Id>& ids);

std::set<std::string> tagsOf(const Rig& rig);
std::set<Id> tagged(const Rig& rig, const std::string& tag);
// Replaces the tags of parts and joints.
void setTags(Rig& rig, const std::set<Id>& ids, const std::set<std::string>& tags);
// "left, wet" as tags; blanks around them and doubles go.
std::set<std::string> tagsIn(const std::string& text);
std::string tagText(const std::set<std::string>& tags);

}  // namespace calm::rig
