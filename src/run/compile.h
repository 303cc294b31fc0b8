// SPDX-License-Identifier: GPL-3.0-or-later
// From the document to the world that steps.
#pragma once

#include <map>
#include <stdexcept>

#include "engine/world.h"
#include "rig/model.h"

namespace calm::run {

// The rig cannot run; the message names the thing and the place.
class CompileError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

// A cue in a run: what it is about in the world's numbers, how far it has come, and what it has put in.
struct RunningCue {
  enum class State { waiting, met, going, done };
  rig::Cue cue;
  BodyId body = kWorld;  // its part; of a probe or ball: its own, once it is there
  JointId joint = -1;
  Vec3 center = Vec3::Zero();         // m, the part's centre of mass in its frame
  std::optional<Motion> motion = {};  // the part's
  std::vector<BodyId> bodies = {};    // of a gust; none: all
  bool live = false;                  // a hand that is still at it: its track grows
  State state = State::waiting;
  double metAt = 0, begunAt = 0;  // s
  double energy = 0;              // J, put in so far
  // What it changes from, and what it holds on to meanwhile.
  AxisDef axisFrom = {}, axisTo = {};
  Vec3 gravityFrom = Vec3::Zero();
  std::vector<int> fields = {};  // its own, or the rig's
  std::vector<Field> fieldsFrom = {};
  decltype(Field::law) wholeField = {};               // of the rig's, as made
  Vec3 force = Vec3::Zero(), forceAt = Vec3::Zero();  // N at m, over the present frame
  Vec3 forceVelocity = Vec3::Zero();                  // m/s, of that point at the frame's start
  double workBefore = 0;                              // J, of its axis
  double powerBefore = 0;                             // W, of its wind

  bool hasBegun() const { return state == State::going || state == State::done; }
};

struct CompiledRig {
  World world;
  std::vector<BodyId> bodies;   // of rig.parts, in their order
  std::vector<JointId> joints;  // of rig.joints
  std::vector<RunningCue> cues;
  std::map<rig::Id, BodyId> bodyOf;  // by part
  std::map<rig::Id, JointId> jointOf;

  // Does what is due, and advances by one frame.
  Residual step();
  // The cue with the world's numbers for its part and joint.
  RunningCue prepared(const rig::Cue& cue, const rig::Rig& rig) const;
};

CompiledRig compile(const rig::Rig& rig);

// The reading at the present instant, SI; loads are means of the last frame.
double valueNow(const CompiledRig& run, const rig::Reading& reading);

}  // namespace calm::run
