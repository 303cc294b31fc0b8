// SPDX-License-Identifier: GPL-3.0-or-later
// Groups with the forms that kits made them from, and tags.
#include "rig/format/format.h"
#include "rig/kits/placed.h"

namespace calm::rig {

namespace {

struct ChoiceReader {
  const Node& n;

  void operator()(const char* key, const char*, Dimension, double& value) const { n.maybe(key, value); }
  void operator()(const char* key, const char*, Dimension, int& value) const { n.maybe(key, value, &Node::integer); }
  void operator()(const char* key, const char*, Dimension, bool& value) const { n.maybe(key, value, &Node::boolean); }
};

template <std::size_t K = 0>
Form standardForm(std::size_t kind) {
  if constexpr (K < std::variant_size_v<Form>) {
    if (kind == K) return std::variant_alternative_t<K, Form>{};
    return standardForm<K + 1>(kind);
  }
  return ByHand{};
}

}  // namespace

Group readGroup(const Node& n) {
  if (!n.json().is_object()) n.fail("expected an object, found " + n.kind());
  Group g;
  std::array<std::pair<std::size_t, const char*>, kFormWords.size()> words;
  for (std::size_t k = 0; k < words.size(); ++k) words[k] = {k, kFormWords[k]};
  if (n.has("kind")) g.form = standardForm(n.at("kind").word(words, "kind of group"));
  std::vector<std::string> keys{"id", "name", "kind"};
  const auto note = [&](const char* key, const char*, Dimension, auto&) { keys.emplace_back(key); };
  visitForm(g.form, note);
  n.object(keys);
  g.id = n.at("id").integer();
  g.name = n.at("name").text();
  visitForm(g.form, ChoiceReader{n});
  if (const std::string fault = faultOf(g.form); !fault.empty()) n.fail(fault);
  return g;
}

Json writeGroup(const Group& group) {
  Json json{{"id", group.id}, {"name", group.name}, {"kind", word(group.form)}};
  const auto write = [&](const char* key, const char*, Dimension, const auto& value) { json[key] = value; };
  visitForm(group.form, write);
  return json;
}

std::set<std::string> readTags(const Node& n) {
  std::set<std::string> tags;
  for (const Node& tag : n.list()) {
    if (tag.text().empty()) tag.fail("a tag cannot be empty");
    tags.insert(tag.text());
  }
  return tags;
}

}  // namespace calm::rig
