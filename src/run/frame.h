// SPDX-License-Identifier: GPL-3.0-or-later
// One frame of a run as it is kept: plain values that can be copied as bytes.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "run/compile.h"

namespace calm::run {

struct PartSample {
  Pose pose;
  Vec3 velocity, angularVelocity;
  double touch = 0;  // N, all contact forces on it, mean of the frame
};

struct JointSample {
  float force = 0;         // N, mean of the frame
  float torque = 0;        // N m
  float separation = 0;    // m, largest of the frame
  float misalignment = 0;  // rad
  // Of the free axes at the end of the frame, m or rad, and what they pushed with in it, N or N m.
  std::array<float, kMaxAxes> position{}, effort{};
  std::array<std::uint8_t, kMaxAxes> activity{};  // AxisActivity bits
};

// What a hand pushes with: upright, as tall as a person.
Shape probeShape(double radius);

struct CueSample {
  enum class Body : int { none, ball, probe };
  double begunAt = -1;  // s; below 0: it has not
  double energy = 0;    // J, put in so far
  // Of a body that it has brought along and that is there.
  Body body = Body::none;
  float radius = 0;  // m
  Pose pose = {};
};

// What is said of a frame apart from its samples.
struct FrameHead {
  double time = 0;           // s
  double energy = 0;         // J
  double kineticEnergy = 0;  // J, of it
  Residual residual;         // of the frame
};

// A frame as the run gives it.
struct FrameData : FrameHead {
  std::vector<PartSample> parts;
  std::vector<JointSample> joints;
  std::vector<CueSample> cues;
  std::vector<double> partedAt;  // s, of each joint; below 0: it has not
};
FrameData sampleOf(const CompiledRig& run, const Residual& residual);

// A frame in a recording, whose memory holds the samples.
struct Frame : FrameHead {
  std::span<const PartSample> parts;
  std::span<const JointSample> joints;
  std::span<const CueSample> cues;
  std::shared_ptr<const void> memory;
};

}  // namespace calm::run
