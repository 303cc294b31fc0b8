// SPDX-License-Identifier: GPL-3.0-or-later
#include "rig/kits/group.h"

#include <algorithm>
#include <map>
#include <stdexcept>

#include "rig/format/format.h"

namespace calm::rig {

namespace {

template <class Item>
using BySlot = std::map<std::string, const Item*>;

template <class Item>
BySlot<Item> bySlot(const std::vector<Item>& items, Id group) {
  BySlot<Item> found;
  for (const Item& item : items)
    if (item.group == group && !item.slot.empty()) found[item.slot] = &item;
  return found;
}

// "link 12" and "link 3" are of one kind.
std::string kindOf(const std::string& slot) {
  return slot.substr(0, slot.find_last_not_of("0123456789") + 1);
}

// The member that stood in this slot or, for a new one, the last of its kind.
template <class Item>
std::string modelFor(const std::string& slot, const BySlot<Item>& before) {
  if (before.count(slot)) return slot;
  std::string last;
  int highest = -1;
  const std::string kind = kindOf(slot);
  for (auto it = before.lower_bound(kind); it != before.end() && it->first.compare(0, kind.size(), kind) == 0; ++it) {
    if (kindOf(it->first) != kind) continue;
    const std::string digits = it->first.substr(kind.size());
    const int number = digits.empty() ? 0 : std::stoi(digits);
    if (number > highest) highest = number, last = it->first;
  }
  return last;
}

bool same(const Json& a, const Json& b) {
  if (a.is_number() && b.is_number()) {
    const double x = a.get<double>(), y = b.get<double>();
    return std::abs(x - y) <= 1e-9 * (1 + std::abs(x));
  }
  if (a.type() != b.type() || a.size() != b.size()) return false;
  if (a.is_array()) return std::equal(a.begin(), a.end(), b.begin(), same);
  if (!a.is_object()) return a == b;
  return std::all_of(a.items().begin(), a.items().end(),
                     [&](const auto& item) { return b.contains(item.key()) && same(item.value(), b[item.key()]); });
}

// What the kit says now, but for what the hand had changed of what the kit said before: key by key, and entry by entry
// of lists that are equally long.
Json merged(const Json& mine, const Json& was, const Json& is) {
  if (same(mine, was)) return is;
  const bool lists = mine.is_array() && was.is_array() && is.is_array() && mine.size() == is.size() &&
                     was.size() == is.size() &&
                     std::all_of(is.begin(), is.end(), [](const Json& e) { return e.is_object(); });
  if (lists) {
    Json result = is;
    for (std::size_t i = 0; i < is.size(); ++i) result[i] = merged(mine[i], was[i], is[i]);
    return result;
  }
  if (!mine.is_object() || !was.is_object() || !is.is_object()) return mine;
  const auto of = [](const Json& json, const std::string& key) { return json.contains(key) ? json[key] : Json(); };
  Json result = is;
  std::set<std::string> keys;
  for (const Json* json : {&mine, &was})
    for (const auto& item : json->items()) keys.insert(item.key());
  for (const std::string& key : keys) {
    const Json value = merged(of(mine, key), of(was, key), of(is, key));
    if (value.is_null())
      result.erase(key);
    else
      result[key] = value;
  }
  return result;
}

// Moves one member of the fresh group towards what the user had made of it, but for the keys that are the kit's.
template <class Item, class Write, class Read>
void keepByHand(Item& fresh, const BySlot<Item>& mine, const BySlot<Item>& was, std::set<std::string> kits,
                const Write& write, const Read& read) {
  const std::string model = modelFor(fresh.slot, mine);
  const auto base = was.find(model);
  if (model.empty() || base == was.end()) return;
  if (model != fresh.slot) kits.insert("name");
  Json now = write(*mine.at(model)), before = write(*base->second);
  for (const std::string& key : kits) now.erase(key), before.erase(key);
  if (same(now, before)) return;
  fresh = read(Node(merged(now, before, write(fresh)), fresh.name));
}

}  // namespace

Id groupByHand(Rig& rig, const std::set<Id>& ids, const std::string& name) {
  Group group;
  group.id = rig.nextId;
  bool any = false;
  const auto made = [&](Id id) {
    const Group* g = rig.group(id);
    return g && !std::holds_alternative<ByHand>(g->form);
  };
  for (Part& p : rig.parts)
    if (ids.count(p.id) && !made(p.group)) p.group = group.id, any = true;
  if (!any) throw std::invalid_argument("choose parts to group; those of a kit stay with it");
  for (Joint& j : rig.joints) {
    const auto inside = [&](Id part) { return part == kNone || rig.part(part)->group == group.id; };
    const bool between = (j.a.part != kNone || j.b.part != kNone) && inside(j.a.part) && inside(j.b.part);
    if (between && !made(j.group)) j.group = group.id;
  }
  group.name = rig.freeName(name);
  rig.nextId = group.id + 1;
  rig.groups.push_back(group);
  dropEmptyGroups(rig);
  return group.id;
}

void ungroup(Rig& rig, Id group) {
  const auto letGo = [&](auto& items) {
    for (auto& item : items)
      if (item.group == group) item.group = kNone, item.slot.clear();
  };
  letGo(rig.parts), letGo(rig.joints);
  dropEmptyGroups(rig);
}

void remake(Rig& rig, Id group, const MakeGroup& asItWas, const MakeGroup& asItIsToBe, bool placesAreTheKits) {
  const auto isMember = [&](const auto& item) { return item.group == group && !item.slot.empty(); };
  const Group before = *rig.group(group);
  Rig bare = rig;
  std::erase_if(bare.parts, isMember);
  std::erase_if(bare.joints, isMember);
  std::erase_if(bare.groups, [&](const Group& g) { return g.id == group; });
  Rig was = bare, next = bare;
  const Id wasId = asItWas(was), freshId = asItIsToBe(next);
  const Id nextId = next.nextId;
  next.group(freshId)->id = group;
  next.group(group)->name = before.name;

  const BySlot<Part> mineParts = bySlot(rig.parts, group), wasParts = bySlot(was.parts, wasId);
  std::set<std::string> kits{"id", "group", "slot"};
  if (placesAreTheKits) kits.insert({"shape", "position_m", "orientation_wxyz", "mass_kg", "density_kg_m3"});
  std::map<Id, Id> ids;
  std::vector<Id> members;
  for (Part& p : next.parts) {
    if (p.group != freshId) continue;
    keepByHand(p, mineParts, wasParts, kits, writePart, readPart);
    const auto mine = mineParts.find(p.slot);
    const Id id = mine != mineParts.end() ? mine->second->id : p.id;
    ids[p.id] = id;
    p.id = id, p.group = group;
    members.push_back(id);
  }
  const BySlot<Joint> mineJoints = bySlot(rig.joints, group), wasJoints = bySlot(was.joints, wasId);
  for (Joint& j : next.joints) {
    for (Side* side : {&j.a, &j.b})
      if (const auto to = ids.find(side->part); j.group == freshId && to != ids.end()) side->part = to->second;
  }
  const PartIndex index(next);
  for (Joint& j : next.joints) {
    if (j.group != freshId) continue;
    // What a joint holds, and where, is the kit's.
    keepByHand(j, mineJoints, wasJoints, {"id", "group", "slot", "a", "b"}, writeJoint,
               [&](const Node& n) { return readJoint(n, next, index); });
    if (const auto mine = mineJoints.find(j.slot); mine != mineJoints.end()) j.id = mine->second->id;
    j.group = group;
  }
  // What hung on members that are gone goes on to the nearest one.
  for (Joint& j : next.joints)
    for (Side* side : {&j.a, &j.b}) {
      if (side->part == kNone || next.part(side->part) || members.empty()) continue;
      const Pose frame = restFrame(rig, *side);
      const auto distance = [&](Id id) { return (next.part(id)->pose.position - frame.position).norm(); };
      const Id nearest =
          *std::min_element(members.begin(), members.end(), [&](Id a, Id b) { return distance(a) < distance(b); });
      *side = sideAt(next, nearest, frame.position, frame.rotation * Vec3::UnitX(), frame.rotation * Vec3::UnitY());
    }
  next.nextId = nextId;
  for (const Fault& f : faultsOf(next)) throw std::invalid_argument(f.text());
  rig = std::move(next);
}

}  // namespace calm::rig
