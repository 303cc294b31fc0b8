// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/selection.h"

#include <map>
#include <sstream>
#include <vector>

namespace calm::rig {

namespace {
bool isHeld(const Rig& rig, Id part) {
  const Part* p = rig.part(part);
  return !p || p->role != Role::dynamic;
}
}  // namespace

std::set<Id> grown(const Rig& rig, const std::set<Id>& ids) {
  std::set<Id> more = ids;
  for (const Joint& j : rig.joints) {
    if (ids.count(j.id)) {
      for (const Id part : {j.a.part, j.b.part})
        if (part != kNone) more.insert(part);
    } else if ((ids.count(j.a.part) && j.a.part != kNone) || (ids.count(j.b.part) && j.b.part != kNone)) {
      more.insert(j.id);
    }
  }
  return more;
}

std::set<Id> assemblyOf(const Rig& rig, const std::set<Id>& ids) {
  std::map<Id, std::vector<const Joint*>> at;
  for (const Joint& j : rig.joints)
    for (const Id part : {j.a.part, j.b.part}) at[part].push_back(&j);
  std::set<Id> found = ids;
  std::vector<Id> open;
  const auto reach = [&](Id part) {
    if (part == kNone) return;
    found.insert(part);
    if (!isHeld(rig, part)) open.push_back(part);
  };
  for (const Id id : ids) {
    if (rig.part(id)) open.push_back(id);
    if (const Joint* j = rig.joint(id)) reach(j->a.part), reach(j->b.part);
  }
  while (!open.empty()) {
    const Id part = open.back();
    open.pop_back();
    for (const Joint* j : at[part]) {
      if (!found.insert(j->id).second && found.count(j->a.part) && found.count(j->b.part)) continue;
      for (const Id other : {j->a.part, j->b.part})
        if (other != part && !found.count(other)) reach(other);
    }
  }
  return found;
}

std::set<Id> alike(const Rig& rig, const std::set<Id>& ids) {
  std::set<JointType> types;
  std::set<std::pair<std::size_t, Role>> kinds;
  for (const Id id : ids) {
    if (const Joint* j = rig.joint(id)) types.insert(j->type);
    if (const Part* p = rig.part(id)) kinds.emplace(p->shape.index(), p->role);
  }
  std::set<Id> found = ids;
  for (const Joint& j : rig.joints)
    if (types.count(j.type)) found.insert(j.id);
  for (const Part& p : rig.parts)
    if (kinds.count({p.shape.index(), p.role})) found.insert(p.id);
  return found;
}

std::set<std::string> tagsOf(const Rig& rig) {
  std::set<std::string> tags;
  for (const Part& p : rig.parts) tags.insert(p.tags.begin(), p.tags.end());
  for (const Joint& j : rig.joints) tags.insert(j.tags.begin(), j.tags.end());
  return tags;
}

std::set<Id> tagged(const Rig& rig, const std::string& tag) {
  std::set<Id> ids;
  for (const Part& p : rig.parts)
    if (p.tags.count(tag)) ids.insert(p.id);
  for (const Joint& j : rig.joints)
    if (j.tags.count(tag)) ids.insert(j.id);
  return ids;
}

void setTags(Rig& rig, const std::set<Id>& ids, const std::set<std::string>& tags) {
  for (const Id id : ids) {
    if (Part* p = rig.part(id)) p->tags = tags;
    if (Joint* j = rig.joint(id)) j->tags = tags;
  }
}

std::set<std::string> tagsIn(const std::string& text) {
  std::set<std::string> tags;
  std::istringstream words(text);
  for (std::string word; std::getline(words, word, ',');) {
    const std::size_t from = word.find_first_not_of(" \t");
    if (from != std::string::npos) tags.insert(word.substr(from, word.find_last_not_of(" \t") - from + 1));
  }
  return tags;
}

std::string tagText(const std::set<std::string>& tags) {
  std::string text;
  for (const std::string& tag : tags) text += (text.empty() ? "" : ", ") + tag;
  return text;
}

}  // namespace calm::rig
