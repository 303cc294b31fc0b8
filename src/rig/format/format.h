// SPDX-License-Identifier: GPL-3.0-or-later
// The parts of the rig format, each read and written in one place. Readers throw FileError through Node::fail.
#pragma once

#include <map>
#include <set>

#include "rig/format/node.h"

namespace calm::rig {

// Finds parts by id or, if only one bears it, by name.
class PartIndex {
 public:
  explicit PartIndex(const Rig& rig);
  Id read(const Node& n) const;

 private:
  std::set<Id> ids_;
  std::map<std::string, Id> names_;
};

Stage readStage(const Node& n);
Json writeStage(const Stage& stage);

Shape readShape(const Node& n);
Json writeShape(const Shape& shape);

Part readPart(const Node& n);
Json writePart(const Part& part);

// Keys that say what happens on an axis.
void readAxis(const Node& n, AxisDef& axis);
// What differs from an axis on which nothing happens.
Json writeAxis(const AxisDef& axis);
// What is to change on an axis that the rig has so; null takes a stop or a spring's cap away.
AxisChange readAxisChange(const Node& n, const AxisDef& axis);
Json writeAxisChange(const AxisChange& change);

Joint readJoint(const Node& n, const Rig& rig, const PartIndex& index);
Json writeJoint(const Joint& joint);

Group readGroup(const Node& n);
Json writeGroup(const Group& group);

// Texts without doubles, in alphabetical order.
std::set<std::string> readTags(const Node& n);

Field readField(const Node& n, const PartIndex& index);
Json writeField(const Field& field);

// A joint by id or, if only one bears it, by name.
Id readJointId(const Node& n, const Rig& rig);

// "force of NAME" and its like.
Reading readReading(const Node& n, const Rig& rig);

Expectation readExpectation(const Node& n, const Rig& rig, const PartIndex& index);
Json writeExpectation(const Expectation& expectation, const Rig& rig);

Cue readCue(const Node& n, const Rig& rig, const PartIndex& index);
Json writeCue(const Cue& cue, const Rig& rig);

}  // namespace calm::rig
