// SPDX-License-Identifier: GPL-3.0-or-later
// Hands in a run: grab a part at the touched point, push with a body, throw a ball, let a gust blow. What a hand did
// becomes a cue, so that the trial repeats exactly.
#pragma once

#include <QPointF>

#include "app/session.h"
#include "app/view/camera.h"

namespace calm::app {

struct Pick;

class Hands {
 public:
  enum class Tool { none, grab, push, toss, gust };

  explicit Hands(Session& session) : session_(session) {}

  Tool tool() const { return tool_; }
  void setTool(Tool tool) { tool_ = tool; }
  // How strong a hand is (N), how heavy (kg) and fast (m/s) a thrown ball, how fast a gust (m/s).
  double strength = 500, ballMass = 10, ballSpeed = 12, windSpeed = 15;

  bool isBusy() const { return session_.handing(); }
  // A press of the pointer on what is picked there; false if there is nothing for the tool to do.
  bool press(const Camera& camera, const QPointF& pixel, const Pick& pick);
  void move(const Camera& camera, const QPointF& pixel);
  void release();
  // Where the hand is, and the point of the part that it holds.
  std::optional<Vec3> handAt() const { return session_.handing() ? std::optional(at_) : std::nullopt; }
  std::optional<Vec3> heldPoint() const;

 private:
  bool grab(const Camera& camera, const Pick& pick);
  bool push(const Camera& camera, const Pick& pick);
  void toss(const Camera& camera, const QPointF& pixel);
  void blow(const Camera& camera);

  Session& session_;
  Tool tool_ = Tool::none;
  // The plane in which the hand moves.
  Vec3 at_ = Vec3::Zero(), normal_ = Vec3::UnitZ();
  rig::Id part_ = rig::kNone;
  Vec3 point_ = Vec3::Zero();  // m, in the part's frame
  QString step_;
};

}  // namespace calm::app
