// SPDX-License-Identifier: GPL-3.0-or-later
// A value of a rig file with its place, for messages; and how values are written.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "rig/file.h"

namespace calm::rig {

using Json = nlohmann::ordered_json;

inline Json list(const Vec3& v) {
  return {v.x(), v.y(), v.z()};
}
inline Json list(const Quat& q) {
  return {q.w(), q.x(), q.y(), q.z()};
}

// A value of the file and where it stands.
class Node {
 public:
  // With `mayHoldMore`, keys that are not known are passed over: they belong to a newer format.
  Node(const Json& json, std::string place, bool mayHoldMore = false)
      : json_(json), place_(std::move(place)), mayHoldMore_(mayHoldMore) {}

  [[noreturn]] void fail(const std::string& message) const { throw FileError(place_ + ": " + message); }
  const Json& json() const { return json_; }
  std::string kind() const {
    if (json_.is_number()) return "the number " + json_.dump();
    if (json_.is_string()) return "the text " + json_.dump().substr(0, 60);
    return std::string("a value of type ") + json_.type_name();
  }

  // Requires an object and refuses keys that are not known, so that a mistyped one is not silently lost.
  template <class Keys = std::initializer_list<const char*>>
  void object(const Keys& keys) const {
    if (!json_.is_object()) fail("expected an object, found " + kind());
    if (mayHoldMore_) return;
    for (const auto& [key, value] : json_.items())
      if (std::none_of(keys.begin(), keys.end(), [&, &k = key](const auto& known) { return k == known; }))
        Node(value, place_ + "." + key).fail("unknown key");
  }
  // One of the words, as its value.
  template <class Words>
  auto word(const Words& words, const char* what) const {
    const std::string given = text();
    std::string known;
    for (const auto& [value, w] : words) {
      if (given == w) return value;
      known += (known.empty() ? "" : ", ") + std::string(w);
    }
    fail(fmt::format("unknown {} \"{}\"; known are {}", what, given, known));
  }
  bool has(const char* key) const { return json_.contains(key) && !json_.at(key).is_null(); }
  Node at(const char* key) const {
    if (!json_.contains(key)) fail(fmt::format("the key \"{}\" is missing", key));
    return {json_.at(key), place_ + "." + key, mayHoldMore_};
  }
  std::vector<Node> list() const {
    if (!json_.is_array()) fail("expected a list, found " + kind());
    std::vector<Node> nodes;
    for (std::size_t i = 0; i < json_.size(); ++i)
      nodes.emplace_back(json_[i], fmt::format("{}[{}]", place_, i), mayHoldMore_);
    return nodes;
  }

  double number() const {
    if (!json_.is_number()) fail("expected a number, found " + kind());
    const double value = json_.get<double>();
    if (!std::isfinite(value)) fail("the number is too large");
    return value;
  }
  int integer() const {
    if (!json_.is_number_integer()) fail("expected a whole number, found " + kind());
    const auto value = json_.get<std::int64_t>();
    if (value < -2000000000 || value > 2000000000) fail("the whole number is too large");
    return static_cast<int>(value);
  }
  bool boolean() const {
    if (!json_.is_boolean()) fail("expected true or false, found " + kind());
    return json_.get<bool>();
  }
  std::string text() const {
    if (!json_.is_string()) fail("expected a text, found " + kind());
    return json_.get<std::string>();
  }
  Vec3 vector() const {
    const std::vector<Node> nodes = list();
    if (nodes.size() != 3) fail(fmt::format("expected three numbers, found {}", nodes.size()));
    return {nodes[0].number(), nodes[1].number(), nodes[2].number()};
  }
  Vec3 direction() const {
    const Vec3 v = vector();
    if (v.norm() < 1e-9) fail("a direction cannot be zero");
    // Values of our own come back bit for bit; only others are brought to length.
    return std::abs(v.norm() - 1) < 1e-14 ? v : v.normalized();
  }
  Quat orientation() const {
    const std::vector<Node> n = list();
    if (n.size() != 4) fail(fmt::format("expected four numbers w, x, y, z, found {}", n.size()));
    const Quat q(n[0].number(), n[1].number(), n[2].number(), n[3].number());
    if (std::abs(q.norm() - 1) > 1e-3)
      fail(fmt::format("expected a quaternion of length 1, found length {}", q.norm()));
    return std::abs(q.norm() - 1) < 1e-14 ? q : q.normalized();
  }

  template <class Value, class Read>
  void maybe(const char* key, Value& value, Read read) const {
    if (has(key)) value = (at(key).*read)();
  }
  std::vector<Vec3> vectors() const {
    std::vector<Vec3> values;
    for (const Node& n : list()) values.push_back(n.vector());
    return values;
  }
  std::vector<double> numbers() const {
    std::vector<double> values;
    for (const Node& n : list()) values.push_back(n.number());
    return values;
  }
  void maybe(const char* key, double& value) const { maybe(key, value, &Node::number); }
  void maybe(const char* key, Vec3& value) const { maybe(key, value, &Node::vector); }

 private:
  const Json& json_;
  std::string place_;
  bool mayHoldMore_;
};

}  // namespace calm::rig
